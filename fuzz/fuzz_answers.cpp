// What a hostile server may say to a client: endpoints that it offers, and answers of all kinds through a channel.
#include "core/channel/client_channel.hpp"
#include "core/ua/text.hpp"
#include "service/client/security.hpp"

using namespace zunth;
using namespace zunth::ua;

namespace {

class Reader final : public channel::ClientChannel::Handler {
 public:
  void opened() override { isOpen = true; }
  void response(std::uint32_t, BytesView body) override {
    BinaryReader reader(body);
    const auto id = reader.next<NodeId>();
    if (id == NodeId(ReadResponse::kBinaryId)) {
      const auto read = reader.next<ReadResponse>();
      for (const auto& result : read.results) (void)format(result.value, {1'000, 20});
    } else if (id == NodeId(PublishResponse::kBinaryId)) {
      const auto published = reader.next<PublishResponse>();
      for (const auto& data : published.notificationMessage.notificationData) {
        (void)data.as<DataChangeNotification>();
        (void)data.as<EventNotificationList>();
        (void)data.as<StatusChangeNotification>();
      }
    }
  }
  void aborted(std::uint32_t, const Error&) override {}
  void closed(const Error&) override {}
  bool isOpen = false;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const BytesView octets(reinterpret_cast<const std::byte*>(data), size);
  Reader reader;
  channel::ClientChannel channel({}, reader);
  channel.feed(octets, Instant{}, DateTime{});
  if (reader.isOpen) {
    (void)channel.request(channel::newMessage());
    channel.tick(Instant(std::chrono::hours(2)), DateTime{});
    channel.feed(octets, Instant{}, DateTime{});
  }
  BinaryReader offered(octets);
  const auto endpoints = offered.next<List<EndpointDescription>>();
  if (!offered.ok()) return 0;
  const auto url = channel::Url::parse("opc.tcp://127.0.0.1:4840");
  for (const auto wish :
       {client::Security::Wish::Auto, client::Security::Wish::Sign, client::Security::Wish::Encrypt}) {
    client::Security security;
    security.wish = wish;
    const auto chosen = client::chooseEndpoint(endpoints, security, *url, false);
    if (chosen && wish == client::Security::Wish::Encrypt &&
        chosen->securityMode != MessageSecurityMode::SignAndEncrypt)
      std::abort();
  }
  return 0;
}
