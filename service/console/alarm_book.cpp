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
  const auto isTold = [&] { return conditions_ && conditions_->isComplete(); };
  if (isTold()) co_return Result<void>();
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
    client::StandingConditions::Handlers handlers;
    handlers.complete = [timer = told_] { timer->cancel(); };
    handlers.told = [weak = weak_from_this()](const Condition& condition, bool isGone) {
      const auto book = weak.lock();
      if (!book || book->listeners_.empty()) return;
      const Condition placed = book->placed(condition);
      for (const auto& listener : book->listeners_)
        if (const auto told = listener.lock()) (*told)(placed, isGone);
    };
    auto opened = co_await client::StandingConditions::open(session, std::move(handlers));
    if (!opened) co_return opened.error();
    conditions_ = *opened;
    attempt.hasWorked = true;
  }
  // All who wait, wait for the same moment.
  const auto timer = told_;
  if (!isTold()) co_await timer->async_wait(net::kQuietly);
  if (!isTold()) co_return Error{status::BadTimeout, "the server has not yet told how its alarms stand", "try again"};
  co_return Result<void>();
}

std::vector<Condition> AlarmBook::standing() const {
  std::vector<Condition> out;
  for (const auto& [key, condition] : conditions_->all()) out.push_back(placed(condition));
  return out;
}

std::shared_ptr<void> AlarmBook::listen(Told told) {
  auto listener = std::make_shared<Told>(std::move(told));
  std::erase_if(listeners_, [](const auto& weak) { return weak.expired(); });
  listeners_.push_back(listener);
  return listener;
}

Condition AlarmBook::placed(Condition condition) const {
  const auto node = space_.find(condition.id);
  condition.path = node == space::kNoNode ? condition.id.text() : space_.path(node);
  return condition;
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
