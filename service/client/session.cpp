#include "service/client/session.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "service/client/subscription.hpp"

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/this_coro.hpp>
#include <boost/asio/use_awaitable.hpp>

namespace zunth::client {

using namespace ua;

namespace {

/// Whether a server takes this user no longer.
bool isRefusedUser(StatusCode code) {
  return code == status::BadUserAccessDenied || code == status::BadIdentityTokenRejected ||
         code == status::BadIdentityTokenInvalid;
}

/// Whether a refusal means that nothing was done as there was too much of it.
bool isTooMuch(StatusCode code) {
  return code == status::BadTooManyOperations || code == status::BadRequestTooLarge ||
         code == status::BadEncodingLimitsExceeded || code == status::BadTcpMessageTooLarge;
}

}  // namespace

Session::Session(std::string url, Options options, asio::any_io_executor executor)
    : url_(std::move(url)),
      options_(std::move(options)),
      executor_(executor),
      restored_(std::make_shared<asio::steady_timer>(executor)),
      beat_(std::make_shared<asio::steady_timer>(executor)) {}

Session::~Session() { beat_->cancel(); }

Awaitable<Result<std::shared_ptr<Session>>> Session::open(std::string url, Options options) {
  const auto executor = co_await asio::this_coro::executor;
  std::shared_ptr<Session> self(new Session(std::move(url), std::move(options), executor));
  const auto tell = [&self](Step step) {
    if (self->options_.progress) self->options_.progress(step);
  };
  if (auto connected = co_await self->connect(); !connected) co_return connected.error();
  tell(Step::Channel);
  if (auto created = co_await self->create(); !created) co_return created.error();
  tell(Step::Created);
  if (auto activated = co_await self->activate(); !activated) co_return activated.error();
  tell(Step::Activated);
  self->isOpen_ = true;
  asio::co_spawn(executor, keepAlive(self, self->beat_), asio::detached);
  co_return self;
}

Awaitable<Result<void>> Session::connect() {
  if (options_.reach) {
    auto carrier = co_await options_.reach();
    if (!carrier) co_return carrier.error();
    choice_ = ChannelSecurityChoice();
    connection_ = std::move(*carrier);
    watchConnection();
    co_return Result<void>{};
  }
  if (!choice_) {
    auto chosen = co_await chooseSecurity();
    if (!chosen) co_return chosen.error();
    choice_ = std::move(*chosen);
  }
  auto connection = co_await Connection::open(url_, options_.timeout, *choice_);
  if (!connection) {
    // The server may have got a new certificate: look again the next time.
    if (connection.code() == status::BadSecurityChecksFailed) choice_.reset();
    co_return connection.error();
  }
  connection_ = *connection;
  watchConnection();
  co_return Result<void>{};
}

void Session::watchConnection() {
  connection_->onLost([weak = weak_from_this()](const Error& why) {
    if (auto self = weak.lock()) self->lost(why);
  });
}

void Session::lost(const Error& why) {
  if (!isOpen_) return;
  if (told_) told_(why);
  if (!options_.reconnects || isRestoring_) return;
  isRestoring_ = true;
  asio::co_spawn(executor_, restore(), asio::detached);
}

bool Session::isForgotten(StatusCode code) {
  return code == status::BadSessionIdInvalid || code == status::BadSessionClosed;
}

void Session::silent(Carrier& carrier) {
  if (carrier.isOpen()) carrier.abandon({status::BadTimeout, "the server has fallen silent", {}});
}

void Session::forgotten(Carrier& carrier) {
  // With a connection of its own, so that what is under way over the old one ends, too.
  if (!carrier.isOpen()) return;
  ++forgotten_;
  carrier.abandon({status::BadSessionClosed, "the server has ended the session", {}});
}

Awaitable<void> Session::pause(Duration time) {
  asio::steady_timer timer(executor_, time);
  co_await timer.async_wait(net::kQuietly);
}

Awaitable<void> Session::restore() {
  const auto self = shared_from_this();
  Duration wait = options_.firstRetry;
  // A server that ends each session that it makes is not asked again at once.
  for (int i = 1; i < forgotten_ && wait < options_.mostRetry; ++i) wait *= 2;
  if (forgotten_ > 1) co_await pause(std::min(wait, options_.mostRetry));
  while (isOpen_) {
    const Error outcome = co_await restoreOnce();
    if (!outcome.code.isBad()) {
      if (told_) told_(outcome);
      break;
    }
    if (isRefusedUser(outcome.code)) {
      // Asking again would only look like guessing at a password.
      isOpen_ = false;
      beat_->cancel();
      std::vector<std::shared_ptr<Subscription>> subscriptions;
      for (auto* subscription : subscriptions_) subscriptions.push_back(subscription->shared_from_this());
      for (const auto& subscription : subscriptions) subscription->fail(outcome);
      break;
    }
    co_await pause(wait);
    wait = std::min(wait * 2, options_.mostRetry);
  }
  isRestoring_ = false;
  restored_->cancel();
}

/// Between two requests of a slow subscription an hour may pass; the session must not end meanwhile.
Awaitable<void> Session::keepAlive(std::weak_ptr<Session> weak, std::shared_ptr<asio::steady_timer> beat) {
  constexpr Duration kLeast = std::chrono::milliseconds(50);
  for (;;) {
    {
      const auto self = weak.lock();
      if (!self || !self->isOpen_) co_return;
      const Duration third = std::max(self->grantedTimeout_ / 3, kLeast);
      if (!self->isRestoring_ && std::chrono::steady_clock::now() - self->lastAsked_ >= third) {
        const auto carrier = self->connection_;
        const auto state = co_await self->readAttributes(NodeId(id::Server_ServerStatus_State),
                                                         std::vector<AttributeId>(1, AttributeId::Value));
        if (state.code() == status::BadTimeout && self->isOpen_) self->silent(*carrier);
      }
      beat->expires_at(std::max(self->lastAsked_ + third, std::chrono::steady_clock::now() + kLeast));
    }
    co_await beat->async_wait(net::kQuietly);
  }
}

/// Connects, takes the session up again or makes a new one, and gives its subscriptions their due. Good and what
/// survived, or why not yet.
Awaitable<Error> Session::restoreOnce() {
  if (auto connected = co_await connect(); !connected) co_return connected.error();
  bool sameSession = true;
  if (auto activated = co_await activate(); !activated) {
    sameSession = false;
    if (auto created = co_await create(); !created) co_return created.error();
    if (activated = co_await activate(); !activated) co_return activated.error();
  }
  // A copy: subscriptions may end meanwhile.
  std::vector<std::weak_ptr<Subscription>> subscriptions;
  for (auto* subscription : subscriptions_) subscriptions.push_back(subscription->weak_from_this());
  for (const auto& weak : subscriptions)
    if (const auto subscription = weak.lock())
      if (auto fine = co_await subscription->restored(sameSession); !fine) co_return fine.error();
  if (!connection_->isOpen()) co_return Error{status::BadConnectionClosed, "the connection was lost again", {}};
  co_return Error{
      status::Good,
      sameSession ? "the connection is back, the session goes on" : "the connection is back in a new session",
      {}};
}

void Session::hand(PublishResponse response) {
  for (auto* subscription : subscriptions_)
    if (subscription->isActive_ && subscription->id_ == response.subscriptionId) {
      const auto keep = subscription->shared_from_this();
      return subscription->arrived(std::move(response.notificationMessage));
    }
}

/// Waits while the connection is being restored.
Awaitable<Result<void>> Session::isReady() {
  if (!isRestoring_) co_return Result<void>{};
  const Instant deadline = std::chrono::steady_clock::now() + options_.timeout;
  const auto timer = restored_;
  while (isRestoring_ && isOpen_ && std::chrono::steady_clock::now() < deadline) {
    timer->expires_at(deadline);
    co_await timer->async_wait(net::kQuietly);
  }
  if (isRestoring_)
    co_return Error{
        status::BadConnectionClosed, "the connection to " + url_ + " is lost and has not come back yet", {}};
  co_return Result<void>{};
}

Awaitable<Result<void>> Session::performOnce(Exchange& exchange, Duration timeout) {
  const auto self = shared_from_this();
  for (int attempt = 1;; ++attempt) {
    if (auto ready = co_await isReady(); !ready) co_return ready.error();
    exchange.header().authenticationToken = token_;
    const auto carrier = connection_;
    lastAsked_ = std::chrono::steady_clock::now();
    auto outcome = co_await carrier->perform(exchange, timeout);
    if (outcome) forgotten_ = 0;
    if (outcome || !isForgotten(outcome.code()) || !isOpen_ || !options_.reconnects) co_return outcome;
    forgotten(*carrier);
    // A session that the server doesn't know can have done nothing: once more in the new one. One that was closed
    // meanwhile may have.
    if (attempt > 1 || outcome.code() != status::BadSessionIdInvalid) co_return outcome;
  }
}

/// What has more operations than the server takes at once is done in parts.
Awaitable<Result<void>> Session::perform(Exchange& exchange, Duration timeout) {
  const auto self = shared_from_this();
  const std::size_t all = exchange.operations();
  if (all <= 1) co_return co_await performOnce(exchange, timeout);
  std::size_t most = mostAtOnce_;
  for (std::size_t done = 0; done < all;) {
    const std::size_t count = std::min(all - done, most);
    exchange.narrow(done, count);
    const auto fine = co_await performOnce(exchange, timeout);
    const bool isTooMuchToTell = exchange.onlyLooks() && fine.code() == status::BadResponseTooLarge;
    if (!fine && count > 1 && (isTooMuch(fine.code()) || isTooMuchToTell)) {
      most = (count + 1) / 2;
      if (fine.code() == status::BadTooManyOperations) mostAtOnce_ = most;
      continue;
    }
    if (!fine) co_return fine.error();
    if (!exchange.keep(count))
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    done += count;
  }
  exchange.finish();
  co_return Result<void>{};
}

Awaitable<void> Session::close(bool keepSubscriptions) {
  const auto self = shared_from_this();
  if (std::exchange(isOpen_, false) && connection_->isOpen()) {
    CloseSessionRequest request;
    request.deleteSubscriptions = !keepSubscriptions;
    request.requestHeader.authenticationToken = token_;
    (void)co_await connection_->request(std::move(request), std::chrono::seconds(2));
  }
  restored_->cancel();
  beat_->cancel();
  connection_->close();
}

}  // namespace zunth::client
