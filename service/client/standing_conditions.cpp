#include "service/client/standing_conditions.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

Awaitable<Result<std::shared_ptr<StandingConditions>>> StandingConditions::open(std::shared_ptr<Session> session,
                                                                                Handlers handlers) {
  std::shared_ptr<StandingConditions> self(new StandingConditions(session, std::move(handlers)));
  const std::weak_ptr<StandingConditions> weak = self;
  Subscription::Handlers listening;
  listening.event = [weak](std::uint32_t, const List<Variant>& fields) {
    if (const auto living = weak.lock()) living->heard(fields);
  };
  listening.gap = [weak](const std::string& why) {
    const auto living = weak.lock();
    if (!living) return;
    if (living->handlers_.gap) living->handlers_.gap(why);
    living->wantRefresh();
  };
  listening.failed = [weak](const Error& why) {
    if (const auto living = weak.lock(); living && living->handlers_.failed) living->handlers_.failed(why);
  };
  Subscription::Settings settings;
  settings.interval = 100;
  auto subscription = co_await Subscription::create(session, settings, std::move(listening));
  if (!subscription) co_return subscription.error();
  self->subscription_ = *subscription;
  auto added = co_await self->subscription_->addEvents(id::Server, conditionFilter());
  if (!added) co_return added.error();
  if (added->statusCode.isBad()) co_return Error{added->statusCode, "the server tells nobody of its conditions", {}};
  const Error refreshed = co_await self->refresh();
  if (refreshed.code.isBad()) co_return refreshed;
  co_return self;
}

Awaitable<void> StandingConditions::close() {
  handlers_ = {};
  isRefreshWanted_ = false;
  co_await subscription_->close();
}

void StandingConditions::heard(const List<Variant>& fields) {
  switch (refreshMark(fields)) {
    case RefreshMark::None: break;
    case RefreshMark::Start: ++refreshes_; return;
    case RefreshMark::End: return refreshed();
    case RefreshMark::Required: return wantRefresh();
  }
  auto condition = conditionOf(fields);
  if (!condition) return;
  const Key key{condition->id.text(), condition->branch.text()};
  if (!condition->isRetained) {
    standing_.erase(key);
    toldIn_.erase(key);
  } else if (standing_.size() < kMost || standing_.contains(key)) {
    standing_[key] = *condition;
    toldIn_[key] = refreshes_;
  } else if (!std::exchange(isFull_, true) && handlers_.gap) {
    handlers_.gap(fmt::format("the server tells of more than {} conditions: the rest is left out", kMost));
  }
  if (handlers_.told) handlers_.told(*condition, !condition->isRetained);
}

/// What stood before and was not told again has gone meanwhile.
void StandingConditions::refreshed() {
  for (auto told = toldIn_.begin(); told != toldIn_.end();) {
    if (told->second >= refreshes_) {
      ++told;
      continue;
    }
    auto gone = standing_.extract(told->first);
    told = toldIn_.erase(told);
    if (!gone) continue;
    gone.mapped().isRetained = false;
    if (handlers_.told) handlers_.told(gone.mapped(), true);
  }
  isComplete_ = true;
  if (handlers_.complete) handlers_.complete();
}

void StandingConditions::wantRefresh() {
  isRefreshWanted_ = true;
  if (!std::exchange(isAsking_, true)) asio::co_spawn(session_->executor(), keepRefreshing(), asio::detached);
}

Awaitable<void> StandingConditions::keepRefreshing() {
  constexpr auto kPace = std::chrono::seconds(1);
  const auto self = shared_from_this();
  while (isRefreshWanted_ && session_->isOpen()) {
    asio::steady_timer pace(session_->executor(), askedAt_ + kPace);
    co_await pace.async_wait(net::kQuietly);
    if (!std::exchange(isRefreshWanted_, false)) break;
    const Error outcome = co_await refresh();
    // One is under way that began before something was missed, or the connection is lost: once more, in a while.
    isRefreshWanted_ |= outcome.code.isBad();
  }
  isAsking_ = false;
}

Awaitable<Error> StandingConditions::refresh() {
  askedAt_ = std::chrono::steady_clock::now();
  std::vector<Variant> inputs;
  inputs.push_back(Variant(subscription_->id()));
  auto outcome = co_await session_->call(id::ConditionType, id::ConditionType_ConditionRefresh, std::move(inputs));
  if (!outcome) co_return outcome.error();
  if (outcome->error.code.isBad())
    co_return Error{outcome->error.code, "the server does not tell how its conditions stand", {}};
  co_return Error{status::Good, {}, {}};
}

}  // namespace zunth::client
