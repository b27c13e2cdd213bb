#include "service/inner/inner_carrier.hpp"

#include "service/net/tcp_link.hpp"

namespace zunth::inner {

using namespace ua;

client::Awaitable<Result<void>> InnerCarrier::perform(client::Exchange& exchange, Duration timeout) {
  const auto self = shared_from_this();
  const Instant deadline = std::chrono::steady_clock::now() + timeout;
  const Error late{status::BadTimeout, "the server did not answer in time", "try again"};
  // What takes long holds back what comes after it, as on any connection.
  while (holds_ > 0 && isOpen_) {
    if (std::chrono::steady_clock::now() >= deadline) co_return late;
    free_.expires_at(deadline);
    co_await free_.async_wait(net::kQuietly);
  }
  if (!isOpen_) co_return ended_;
  auto& header = exchange.header();
  header.timestamp = DateTime::from(std::chrono::system_clock::now());
  header.requestHandle = ++lastRequest_;
  header.timeoutHint =
      static_cast<std::uint32_t>(std::chrono::duration_cast<std::chrono::milliseconds>(timeout).count());
  header.returnDiagnostics = 0x04 | 0x80;  // causes in words, of the service and of each operation
  Bytes body;
  BinaryWriter writer(body);
  exchange.encode(writer);
  const std::uint32_t id = lastRequest_;
  const auto waiting = std::make_shared<Waiting>(parts_.services);
  waiting_[id] = waiting;
  waiting->wake.expires_at(deadline);
  parts_.server.handle(self, id, body);
  body = {};
  parts_.served();
  // The answer may be there already.
  if (!waiting->message && isOpen_) co_await waiting->wake.async_wait(net::kQuietly);
  waiting_.erase(id);
  if (waiting->message) co_return exchange.take(BytesView(*waiting->message).subspan(channel::kHeadroom));
  co_return isOpen_ ? late : ended_;
}

void InnerCarrier::respond(std::uint32_t requestId, Bytes message) {
  const auto found = waiting_.find(requestId);
  if (found == waiting_.end()) return;  // gave up on already
  found->second->message = std::move(message);
  found->second->wake.cancel();
}

void InnerCarrier::end(const Error& why) {
  if (!std::exchange(isOpen_, false)) return;
  ended_ = why;
  free_.cancel();
  for (auto& [id, waiting] : waiting_) waiting->wake.cancel();
}

}  // namespace zunth::inner
