#include "service/console/token_feed.hpp"

#include "core/ua/json.hpp"
#include "service/admin/control.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/redirect_error.hpp>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kWaiting = 256 << 10;      // octets that may wait for who listens
constexpr std::size_t kMostInMessage = 100'000;  // in one message; what is more comes in the next

bool isSame(const DataValue& one, const DataValue& other) {
  return one.status == other.status && one.sourceTimestamp == other.sourceTimestamp && one.value == other.value;
}

}  // namespace

TokenFeed::TokenFeed(Parts parts, Token token, Duration every, std::shared_ptr<LiveSocket> socket)
    : parts_(std::move(parts)),
      token_(std::move(token)),
      every_(std::clamp(every, kFastest, kSlowest)),
      socket_(std::move(socket)),
      timer_(parts_.services) {}

void TokenFeed::start(std::function<void()> ended) {
  ended_ = std::move(ended);
  const std::weak_ptr<TokenFeed> weak = weak_from_this();
  socket_->start({[](std::string) {}, [] {},
                  [weak] {
                    if (const auto feed = weak.lock()) feed->end({status::BadConnectionClosed, {}, {}});
                  }});
  boost::asio::co_spawn(parts_.services, run(shared_from_this()), boost::asio::detached);
}

void TokenFeed::end(const Error& why) {
  if (std::exchange(isOver_, true)) return;
  if (!why.cause.empty()) socket_->send(Json{{"error", admin::jsonOf(why)}}.dump());
  socket_->close();
  timer_.cancel();
  if (ended_) std::exchange(ended_, {})();
}

Awaitable<void> TokenFeed::run([[maybe_unused]] std::shared_ptr<TokenFeed> self) {
  const auto rights = parts_.rightsOf(token_.user);
  if (rights)
    for (const auto& pattern : token_.nodes) {
      co_await net::comeBack(parts_.services);
      for (const auto variable : variablesNamed(parts_.space, *rights, pattern, kMostRows - rows_.size()))
        rows_.push_back({parts_.space.nodeId(variable), {}});
    }
  while (!isOver_) {
    // Who is behind hears of what is newest, once there is room.
    if (socket_->unsent() < kWaiting) co_await look();
    if (isOver_) co_return;
    timer_.expires_after(every_);
    boost::system::error_code ignored;
    co_await timer_.async_wait(boost::asio::redirect_error(boost::asio::use_awaitable, ignored));
  }
}

Awaitable<void> TokenFeed::look() {
  const auto rights = parts_.rightsOf(token_.user);
  if (!rights) {
    end({rights.code(), "who made the token may log in no longer", "make another at the console"});
    co_return;
  }
  Json told = Json::array();
  Turns turns;
  const std::size_t first = std::exchange(next_, 0);
  for (std::size_t i = 0; i < rows_.size(); ++i) {
    if (turns.isOver()) {
      co_await net::comeBack(parts_.services);
      if (isOver_) co_return;
    }
    const std::size_t at = (first + i) % rows_.size();
    if (turns.counted() > kMostInMessage) {
      next_ = at;
      break;
    }
    Row& row = rows_[at];
    turns.count({});
    const auto variable = parts_.space.find(row.node);
    const bool isThere = variable != space::kNoNode && parts_.space.nodeClass(variable) == NodeClass::Variable &&
                         parts_.space.sees(*rights, variable);
    if (!isThere) continue;
    DataValue now = parts_.space.value(variable);
    if (row.isTold && isSame(now, row.last)) continue;
    turns.count(now.value);
    row.last = std::move(now);
    row.isTold = true;
    told.push_back(valueOf(parts_.space, *rights, variable));
  }
  if (!told.empty())
    socket_->send(Json{{"values", std::move(told)}}.dump(-1, ' ', false, Json::error_handler_t::replace));
}

}  // namespace zunth::console
