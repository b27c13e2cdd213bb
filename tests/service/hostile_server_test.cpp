// Servers that mean harm, and what becomes of a client of theirs: an error in words, never a crash, a hang, a loop
// without end or a password in the clear.
#include "core/ua/text.hpp"
#include "service/client/subscription.hpp"

#include <deque>

#include "tests/service/fake_peer.hpp"
#include "tests/service/run_loop.hpp"
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>

namespace zunth::hostile_server_test {

using namespace zunth::ua;
namespace asio = net::asio;
using client::Awaitable;
using client::Session;
using test::run;

namespace {

/// What a server does with a response before it leaves: another one, or none at all.
using Twist = std::function<std::optional<Bytes>(std::uint32_t type, Bytes message)>;

template <class Structure>
Bytes messageOf(const Structure& structure) {
  Bytes message = channel::newMessage();
  BinaryWriter writer(message);
  writer.write(NodeId(Structure::kBinaryId));
  writer.write(structure);
  return message;
}

/// Changes each response of a kind.
template <class Response>
Twist changing(std::function<void(Response&)> change) {
  return [change](std::uint32_t type, Bytes message) -> std::optional<Bytes> {
    if (type != Response::kBinaryId) return message;
    BinaryReader reader(BytesView(message).subspan(channel::kHeadroom));
    (void)reader.next<NodeId>();
    auto response = reader.next<Response>();
    change(response);
    return messageOf(response);
  };
}
/// Gives another message in the place of each response of a kind.
template <class Response>
Twist instead(std::function<std::optional<Bytes>(std::uint32_t handle)> other) {
  return [other](std::uint32_t type, Bytes message) -> std::optional<Bytes> {
    if (type != Response::kBinaryId) return message;
    BinaryReader reader(BytesView(message).subspan(channel::kHeadroom));
    (void)reader.next<NodeId>();
    return other(reader.next<ResponseHeader>().requestHandle);
  };
}

/// A server of ours with somebody in its way out.
class Twisted {
 public:
  explicit Twisted(std::uint32_t lifetime = 3'600'000) : lifetime_(lifetime) {
    bench.addVariable("level", id::Double, Variant(1.5));
    accept();
  }
  ~Twisted() {
    for (const auto& visit : visits_) visit->close();
  }
  test::Bench bench;
  Twist twist;
  asio::io_context loop{1};
  std::map<std::uint32_t, int> requests;  // by type
  int channels = 0;                       // opened and renewed
  std::string url() const { return "opc.tcp://127.0.0.1:" + std::to_string(acceptor_.local_endpoint().port()); }

 private:
  struct Visit final : test::FakePeer, channel::ServerChannel::Handler, std::enable_shared_from_this<Visit> {
    Visit(Twisted& of, net::Tcp::socket s, std::uint32_t number)
        : FakePeer(number), owner(of), socket(std::move(s)), channel(optionsOf(of, number), *this) {}
    static channel::ServerChannel::Options optionsOf(const Twisted& of, std::uint32_t number) {
      channel::ServerChannel::Options options;
      options.channelId = number;
      options.leastLifetime = options.mostLifetime = of.lifetime_;
      return options;
    }
    void opened(const OpenSecureChannelRequest&) override { ++owner.channels; }
    void request(std::uint32_t requestId, BytesView body) override {
      BinaryReader reader(body);
      ++owner.requests[reader.next<NodeId>().numeric()];
      owner.bench.server->handle(shared_from_this(), requestId, body);
    }
    void closed(const Error&) override {}
    void respond(std::uint32_t requestId, Bytes message) override {
      BinaryReader reader(BytesView(message).subspan(channel::kHeadroom));
      const auto type = reader.next<NodeId>().numeric();
      if (owner.twist) {
        auto twisted = owner.twist(type, std::move(message));
        if (!twisted) return;
        message = std::move(*twisted);
      }
      channel.respond(requestId, std::move(message));
      flush();
    }
    void flush() {
      boost::system::error_code ignored;
      for (const auto& octets : channel.takeOutput()) asio::write(socket, asio::buffer(octets), ignored);
    }
    void close() {
      boost::system::error_code ignored;
      socket.close(ignored);
    }
    void read() {
      socket.async_read_some(asio::buffer(octets),
                             [self = shared_from_this()](boost::system::error_code error, std::size_t size) {
                               if (error) return;
                               self->channel.feed(BytesView(self->octets).first(size), Instant(std::chrono::hours(1)),
                                                  DateTime{133'000'000'000'000'000});
                               self->flush();
                               if (!self->channel.isOver()) self->read();
                             });
    }
    Twisted& owner;
    net::Tcp::socket socket;
    std::array<std::byte, 65536> octets;
    channel::ServerChannel channel;
  };

  void accept() {
    acceptor_.async_accept([this](boost::system::error_code error, net::Tcp::socket socket) {
      if (error) return;
      visits_.push_back(std::make_shared<Visit>(*this, std::move(socket), ++number_));
      visits_.back()->read();
      accept();
    });
  }

  std::uint32_t lifetime_, number_ = 0;
  net::Tcp::acceptor acceptor_{loop, {asio::ip::address_v4::loopback(), 0}};
  std::vector<std::shared_ptr<Visit>> visits_;
};

const NodeId kLevel(1, "level");

Session::Options impatient() {
  Session::Options options;
  options.timeout = std::chrono::milliseconds(500);
  options.reconnects = false;
  options.security.wish = client::Security::Wish::None;
  return options;
}

/// What a client wants of the server; what went wrong, or Good.
using Errand = Awaitable<Error> (*)(Session&);
const Error kFine{status::Good, {}, {}};

Awaitable<Error> reads(Session& session) {
  auto values = co_await session.readAttributes(kLevel, std::vector<AttributeId>(1, AttributeId::Value));
  if (!values) co_return values.error();
  (void)format(values->front().value, {1'000, 20});
  co_return kFine;
}
Awaitable<Error> readsManyValues(Session& session) {
  ReadValueId level;
  level.nodeId = kLevel;
  level.attributeId = 13;
  std::vector<ReadValueId> what(2'500, level);
  auto values = co_await session.read(std::move(what));
  co_return values ? kFine : values.error();
}
Awaitable<Error> browses(Session& session) {
  BrowseDescription all;
  all.nodeId = NodeId(id::ObjectsFolder);
  all.resultMask = 63;
  const auto found = co_await session.browse(all);
  co_return found ? kFine : found.error();
}
Awaitable<Error> queries(Session& session) {
  QueryFirstRequest request;
  NodeTypeDescription type;
  type.typeDefinitionNode = ExpandedNodeId(NodeId(id::BaseObjectType));
  type.includeSubTypes = true;
  request.nodeTypes.push_back(std::move(type));
  const auto found = co_await session.query(std::move(request));
  co_return found ? kFine : found.error();
}
Awaitable<Error> translates(Session& session) {
  const auto found = co_await session.translate({NodeId(id::ObjectsFolder), {}});
  co_return found ? kFine : found.error();
}
Awaitable<Error> asksForNamespaces(Session& session) {
  const auto found = co_await session.namespaces();
  co_return found ? kFine : found.error();
}

struct Case {
  const char* wants;
  Twist twist;
  Errand errand;       // null: the session doesn't come about
  StatusCode outcome;  // of opening or of the errand
  const char* says = "";
};

Bytes endless(bool isFirst) {
  if (isFirst) {
    BrowseResponse response;
    response.results.push_back({status::Good, ByteString("on", 2), {}});
    return messageOf(response);
  }
  BrowseNextResponse response;
  response.results.push_back({status::Good, ByteString("on", 2), {}});
  return messageOf(response);
}

std::vector<Case> cases() {
  const auto nothing = [](std::uint32_t) -> std::optional<Bytes> { return std::nullopt; };
  ExtensionObject nested;
  for (int i = 0; i < 3'000; ++i) {
    const LiteralOperand literal{Variant(nested)};
    nested = ExtensionObject::binary(NodeId(LiteralOperand::kBinaryId), ByteString(BytesView(encode(literal))));
  }
  return {
      {"to have it wait", instead<CreateSessionResponse>(nothing), nullptr, status::BadTimeout},
      {"to have it wait once it is in", instead<ReadResponse>(nothing), reads, status::BadTimeout},
      {"to confuse it by another structure",
       instead<ReadResponse>([](std::uint32_t) { return messageOf(BrowseResponse{}); }), reads,
       status::BadUnknownResponse, "BrowseResponse"},
      {"to confuse it by a structure that there isn't", instead<ReadResponse>([](std::uint32_t) {
         Bytes message = channel::newMessage();
         BinaryWriter(message).write(NodeId(7, 4'294'967'295u));
         return message;
       }),
       reads, status::BadUnknownResponse},
      {"to have it take half an answer for a whole one", instead<ReadResponse>([](std::uint32_t) {
         ReadResponse response;
         response.results.push_back(DataValue(Variant(1.5)));
         Bytes message = messageOf(response);
         message.resize(message.size() - 3);
         return message;
       }),
       reads, status::BadDecodingError},
      {"to refuse without a reason", instead<ReadResponse>([](std::uint32_t) { return messageOf(ServiceFault{}); }),
       reads, status::BadUnknownResponse, "without saying why"},
      {"to give it fewer values than it asked for", changing<ReadResponse>([](ReadResponse& r) { r.results = {}; }),
       reads, status::BadUnknownResponse},
      {"to give it one value too many",
       changing<ReadResponse>([](ReadResponse& r) { r.results.push_back(DataValue(Variant(7))); }), reads,
       status::BadUnknownResponse},
      {"to have values of one part taken for those of the next",
       [count = std::make_shared<int>(0)](std::uint32_t type, Bytes message) -> std::optional<Bytes> {
         return changing<ReadResponse>([&](ReadResponse& r) {
           if (r.results.size() < 500) return;
           if (++*count == 1)
             r.results.push_back(DataValue(Variant(7)));
           else
             r.results = List<DataValue>(std::vector<DataValue>(r.results.size() - 1));
         })(type, std::move(message));
       },
       readsManyValues, status::BadUnknownResponse},
      {"to break what shows values", changing<ReadResponse>([nested](ReadResponse& r) {
         r.results = {};
         r.results.push_back(DataValue(Variant(nested)));
       }),
       reads, status::Good},
      {"to have it browse for ever",
       [](std::uint32_t type, Bytes message) -> std::optional<Bytes> {
         if (type == BrowseResponse::kBinaryId) return endless(true);
         if (type == BrowseNextResponse::kBinaryId || type == ServiceFault::kBinaryId) return endless(false);
         return message;
       },
       browses, status::BadUnknownResponse, "for ever"},
      {"to have it query for ever",
       [](std::uint32_t type, Bytes message) -> std::optional<Bytes> {
         QueryNextResponse next;
         next.revisedContinuationPoint = ByteString("on", 2);
         QueryFirstResponse first;
         first.continuationPoint = next.revisedContinuationPoint;
         if (type == QueryFirstResponse::kBinaryId) return messageOf(first);
         if (type == QueryNextResponse::kBinaryId || type == ServiceFault::kBinaryId) return messageOf(next);
         return message;
       },
       queries, status::BadUnknownResponse, "for ever"},
      {"to lead it nowhere", changing<TranslateBrowsePathsToNodeIdsResponse>([](auto& r) { r.results = {}; }),
       translates, status::BadUnknownResponse},
      {"to have no namespaces", changing<ReadResponse>([](ReadResponse& r) {
         r.results = {};
         r.results.push_back(DataValue(Variant(3)));
       }),
       asksForNamespaces, status::Good},
      {"to have it keep a nonce of a megabyte", changing<CreateSessionResponse>([](CreateSessionResponse& r) {
         const std::string large(1'000'000, 'n');
         r.serverNonce = ByteString(large.data(), large.size());
       }),
       nullptr, status::BadNonceInvalid},
  };
}

}  // namespace

TEST_CASE("a hostile server gets an error out of its client, and nothing else", "[client][hostile]") {
  for (const auto& c : cases()) {
    INFO("it wants " << c.wants);
    Twisted server;
    server.twist = c.twist;
    run(server.loop, [&]() -> Awaitable<void> {
      auto session = co_await Session::open(server.url(), impatient());
      if (!session) {
        INFO(session.error().text());
        CHECK_FALSE(c.errand);
        CHECK(session.code() == c.outcome);
        co_return;
      }
      REQUIRE(c.errand);
      const Error outcome = co_await c.errand(**session);
      INFO(outcome.text());
      CHECK(outcome.code == c.outcome);
      CHECK(outcome.cause.find(c.says) != std::string::npos);
    });
  }
}

TEST_CASE("a hostile server wants a password in the clear", "[client][hostile]") {
  struct Row {
    const char* how;
    std::function<void(UserTokenPolicy&)> offer;
  };
  for (const Row& row : std::vector<Row>{
           {"says that it needs no cipher", [](auto& p) { p.securityPolicyUri = String(channel::kPolicyNone); }},
           {"says nothing of ciphers", [](auto& p) { p.securityPolicyUri = {}; }},
           {"names a cipher that there isn't", [](auto& p) { p.securityPolicyUri = "urn:fernhollow.example:plain"; }},
           {"shows no certificate",
            [](auto& p) { p.securityPolicyUri = String(secure::policyNamed("Basic256Sha256")->uri); }},
       }) {
    INFO(row.how);
    Twisted server;
    server.twist = changing<CreateSessionResponse>([&](CreateSessionResponse& r) {
      EndpointDescription endpoint;
      endpoint.endpointUrl = String(server.url());
      endpoint.securityMode = MessageSecurityMode::None;
      endpoint.securityPolicyUri = String(channel::kPolicyNone);
      UserTokenPolicy policy;
      policy.policyId = "password";
      policy.tokenType = UserTokenType::UserName;
      row.offer(policy);
      endpoint.userIdentityTokens.push_back(policy);
      r.serverEndpoints = {};
      r.serverEndpoints.push_back(endpoint);
    });
    run(server.loop, [&]() -> Awaitable<void> {
      auto options = impatient();
      options.user = "hanna";
      options.password = "trout and salmon";
      const auto session = co_await Session::open(server.url(), options);
      CHECK(session.code() == status::BadIdentityTokenRejected);
    });
    CHECK(server.requests[ActivateSessionRequest::kBinaryId] == 0);
  }
}

TEST_CASE("a hostile server wants its client to do nothing but renew its channel", "[client][hostile]") {
  Twisted server(0);
  run(server.loop, [&]() -> Awaitable<void> {
    auto session = co_await Session::open(server.url(), impatient());
    for (int i = 0; session && i < 50; ++i) (void)co_await reads(**session);
  });
  CHECK(server.channels < 5);
}

TEST_CASE("a hostile server plays with a subscription", "[client][hostile]") {
  struct Row {
    const char* how;
    Twist twist;
    StatusCode failure;       // Good: it goes on
    bool mayTimeOut = false;  // as it falls silent by its own word
  };
  const auto number = [](double interval, std::uint32_t count) {
    return changing<CreateSubscriptionResponse>([=](CreateSubscriptionResponse& r) {
      r.revisedPublishingInterval = interval;
      r.revisedLifetimeCount = r.revisedMaxKeepAliveCount = count;
    });
  };
  for (const Row& row : std::vector<Row>{
           {"revises into nothing", number(0, 0), status::Good, true},
           {"revises into what is no number", number(std::nan(""), UINT32_MAX), status::Good, true},
           {"revises into eternity", number(HUGE_VAL, UINT32_MAX), status::Good, true},
           {"revises into the past", number(-1e300, 1), status::Good, true},
           {"forgets it as soon as it is made", instead<PublishResponse>([](std::uint32_t) {
              ServiceFault fault;
              fault.responseHeader.serviceResult = status::BadNoSubscription;
              return messageOf(fault);
            }),
            status::BadUnknownResponse},
           {"counts its messages as it likes", changing<PublishResponse>([](PublishResponse& r) {
              r.notificationMessage.sequenceNumber = r.notificationMessage.sequenceNumber * 2'000'000'011u;
            }),
            status::Good},
           {"answers for somebody else's", changing<PublishResponse>([](PublishResponse& r) { r.subscriptionId += 7; }),
            status::Good},
           {"sends what is no notification", changing<PublishResponse>([](PublishResponse& r) {
              r.notificationMessage.notificationData = {};
              r.notificationMessage.notificationData.push_back(ExtensionObject::of(ReadRequest{}));
            }),
            status::Good},
           {"gives items no results", changing<CreateMonitoredItemsResponse>([](auto& r) { r.results = {}; }),
            status::Good},
       }) {
    INFO("it " << row.how);
    Twisted server;
    server.twist = row.twist;
    std::optional<Error> failure;
    run(server.loop, [&]() -> Awaitable<void> {
      auto options = impatient();
      options.timeout = std::chrono::seconds(5);  // of a machine that is busy with others
      options.reconnects = row.failure.isBad();
      auto session = co_await Session::open(server.url(), options);
      REQUIRE(session);
      client::Subscription::Handlers handlers;
      handlers.failed = [&](const Error& why) { failure = why; };
      auto subscription = co_await client::Subscription::create(*session, {}, handlers);
      REQUIRE(subscription);
      MonitoredItemCreateRequest item;
      item.itemToMonitor = {kLevel, 13, {}, {}};
      item.monitoringMode = MonitoringMode::Reporting;
      (void)co_await (*subscription)->add(std::vector<MonitoredItemCreateRequest>(1, item));
      for (int i = 0; i < 300 && !failure; ++i) {
        server.bench.pass(500);
        (void)co_await reads(**session);
      }
      co_await (*subscription)->close();
      co_await (*session)->close();
    });
    INFO((failure ? failure->text() : "it goes on"));
    if (!row.mayTimeOut || !failure || failure->code != status::BadTimeout)
      CHECK((failure ? failure->code : status::Good) == row.failure);
    // It is not kept busy.
    for (const auto& [type, count] : server.requests) {
      INFO("requests of type " << type);
      CHECK((count < 100 || type == ReadRequest::kBinaryId));
    }
  }
}

TEST_CASE("a peer that speaks nonsense is left with an error, whatever it says", "[client][hostile]") {
  const auto octets = [](std::initializer_list<std::uint32_t> words) {
    std::string out;
    for (const std::uint32_t word : words) out.append(reinterpret_cast<const char*>(&word), 4);
    return out;
  };
  const auto acknowledge = [&](std::uint32_t version, std::uint32_t buffers, std::uint32_t most) {
    return "ACKF" + octets({28, version, buffers, buffers, most, most});
  };
  const std::string fine = acknowledge(0, 65'535, 0);
  struct Row {
    const char* says;
    std::string first, again;  // `again` as long as somebody listens
  };
  for (const Row& row : std::vector<Row>{
           {"buffers of no size", acknowledge(0, 0, 0), {}},
           {"buffers without end", acknowledge(0, UINT32_MAX, UINT32_MAX), "MSGC"},
           {"a chunk of four gigabytes", fine + "OPNF" + octets({UINT32_MAX, 1}), std::string(4'096, 'x')},
           {"a chunk smaller than its header", fine + "OPNF" + octets({3}), {}},
           {"chunks without end", fine, "OPNC" + octets({32, 1, UINT32_MAX, UINT32_MAX, UINT32_MAX, 1, 1})},
           {"an error of a megabyte",
            "ERRF" + octets({1'000'016, status::BadTcpServerTooBusy.value, 1'000'000}) + std::string(1'000'000, '!'),
            {}},
           {"an error that is Good", "ERRF" + octets({16, 0, UINT32_MAX}), {}},
           {"hello, as if it were the client", "HELF" + octets({32, 0, 65'535, 65'535, 0, 0, UINT32_MAX}), {}},
           {"that it has been acknowledged, for ever", {}, fine},
       }) {
    INFO("it says " << row.says);
    asio::io_context loop(1);
    net::Tcp::acceptor acceptor(loop, {asio::ip::address_v4::loopback(), 0});
    std::size_t said = 0;
    asio::co_spawn(
        loop,
        [&]() -> Awaitable<void> {
          auto socket = co_await acceptor.async_accept(asio::use_awaitable);
          co_await asio::async_write(socket, asio::buffer(row.first), asio::use_awaitable);
          while (!row.again.empty())
            said += co_await asio::async_write(socket, asio::buffer(row.again), asio::use_awaitable);
          char heard[64];
          while (true) (void)co_await socket.async_read_some(asio::buffer(heard), asio::use_awaitable);
        },
        [](std::exception_ptr) {});
    run(loop, [&]() -> Awaitable<void> {
      const auto connection = co_await client::Connection::open(
          "opc.tcp://127.0.0.1:" + std::to_string(acceptor.local_endpoint().port()), std::chrono::milliseconds(500));
      REQUIRE_FALSE(connection);
      CHECK(connection.code().isBad());
      CHECK(connection.error().cause.size() < 10'000);
    });
    CHECK(said < 100'000'000);
  }
}

}  // namespace zunth::hostile_server_test
