#include "service/console/alarm_book.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/generated/node_ids.hpp"

#include <boost/asio/this_coro.hpp>

namespace zunth::console {

using namespace ua;
using client::Condition;

Awaitable<Result<void>> AlarmBook::open(std::shared_ptr<client::Session> session) {
  constexpr auto kPatience = std::chrono::seconds(10);
  const auto self = shared_from_this();
  if (isTold_) co_return Result<void>();
  if (!std::exchange(isOpening_, true)) {
    told_ = std::make_shared<boost::asio::steady_timer>(co_await boost::asio::this_coro::executor, kPatience);
    // Whoever comes after a failure tries again.
    struct Attempt {
      bool& isOpening;
      bool hasWorked = false;
      ~Attempt() {
        if (!hasWorked) isOpening = false;
      }
    } attempt{isOpening_};
    client::Subscription::Settings settings;
    settings.interval = 100;
    client::Subscription::Handlers handlers;
    handlers.event = [weak = weak_from_this()](std::uint32_t, const List<Variant>& fields) {
      if (const auto book = weak.lock()) book->heard(fields);
    };
    auto made = co_await client::Subscription::create(session, settings, std::move(handlers));
    if (!made) co_return made.error();
    subscription_ = *made;
    auto added = co_await subscription_->addEvents(id::Server, client::conditionFilter());
    if (!added) co_return added.error();
    std::vector<Variant> inputs;
    inputs.push_back(Variant(subscription_->id()));
    auto refreshed = co_await session->call(id::ConditionType, id::ConditionType_ConditionRefresh, std::move(inputs));
    if (!refreshed) co_return refreshed.error();
    if (refreshed->error.code.isBad()) co_return refreshed->error;
    attempt.hasWorked = true;
  }
  // All who wait, wait for the same moment.
  const auto timer = told_;
  if (!isTold_) co_await timer->async_wait(net::kQuietly);
  if (!isTold_) co_return Error{status::BadTimeout, "the server has not yet told how its alarms stand", "try again"};
  co_return Result<void>();
}

std::vector<Condition> AlarmBook::standing() const {
  std::vector<Condition> out;
  for (const auto& [key, condition] : conditions_) out.push_back(condition);
  return out;
}

std::shared_ptr<void> AlarmBook::listen(Told told) {
  auto listener = std::make_shared<Told>(std::move(told));
  std::erase_if(listeners_, [](const auto& weak) { return weak.expired(); });
  listeners_.push_back(listener);
  return listener;
}

void AlarmBook::heard(const List<Variant>& fields) {
  if (client::endsRefresh(fields)) {
    isTold_ = true;
    told_->cancel();
  }
  auto condition = client::conditionOf(fields);
  if (!condition) return;
  const auto node = space_.find(condition->id);
  condition->path = node == space::kNoNode ? condition->id.text() : space_.path(node);
  const Key key{condition->id.text(), condition->branch.text()};
  const bool isGone = !condition->isRetained;
  if (isGone)
    conditions_.erase(key);
  else
    conditions_[key] = *condition;
  for (const auto& weak : listeners_)
    if (const auto told = weak.lock()) (*told)(*condition, isGone);
}

Json jsonOf(const Condition& c) {
  const auto unshelved = std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - c.heardAt);
  return {{"id", c.id.text()},
          {"branch", c.branch.isNull() ? std::string() : c.branch.text()},
          {"alarm", c.path},
          {"severity", c.severity},
          {"since", c.time.isNull() ? Json() : Json(c.time.text())},
          {"message", c.message},
          {"comment", c.comment},
          {"class", c.conditionClass},
          {"state", c.state()},
          {"isActive", c.isActive},
          {"isAcknowledged", c.isAcknowledged},
          {"isConfirmed", c.isConfirmed},
          {"isEnabled", c.isEnabled},
          {"isShelved", c.isShelved()},
          {"unshelvesIn", c.isShelved() ? Json(std::max(0.0, c.unshelveTime - unshelved.count())) : Json()},
          {"isSuppressed", c.isSuppressed},
          {"isOutOfService", c.isOutOfService},
          {"isLatched", c.isLatched},
          {"isSilenced", c.isSilenced},
          {"reminders", c.reAlarms},
          {"isAsked", c.isAsked},
          {"options", c.options}};
}

}  // namespace zunth::console
