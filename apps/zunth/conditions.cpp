#include "apps/zunth/conditions.hpp"

namespace zunth::cli {

using namespace ua;

Awaitable<Result<std::unique_ptr<ConditionFeed>>> ConditionFeed::open(SessionPtr session, Interrupt& interrupt,
                                                                      int& code) {
  std::unique_ptr<ConditionFeed> feed(new ConditionFeed(session, interrupt));
  auto usual = subscriptionHandlers(interrupt, code);
  client::StandingConditions::Handlers handlers;
  handlers.gap = std::move(usual.gap);
  handlers.failed = std::move(usual.failed);
  handlers.complete = [&interrupt] { interrupt.poke(); };
  handlers.told = [news = feed->news_, &interrupt](const Condition& condition, bool) {
    news->push_back(condition);
    interrupt.poke();
  };
  auto opened = co_await client::StandingConditions::open(session, std::move(handlers));
  if (!opened) {
    Error why = opened.error();
    if (why.next.empty()) why.next = "zunth events";
    co_return why;
  }
  feed->conditions_ = *opened;
  co_return std::move(feed);
}

Awaitable<Result<std::vector<Condition>>> ConditionFeed::standing(Duration patience) {
  const auto end = std::chrono::steady_clock::now() + patience;
  while (!conditions_->isComplete() && !interrupt_.isWanted()) {
    if (std::chrono::steady_clock::now() > end)
      co_return Error{status::BadTimeout, "the server did not finish telling how its conditions stand",
                      "the same with a longer --timeout"};
    co_await interrupt_.wait(milliseconds(200));
  }
  std::vector<Condition> out;
  for (const auto& [key, condition] : conditions_->all()) out.push_back(condition);
  news_->clear();  // is in there
  co_await place(out);
  co_return out;
}

Awaitable<std::vector<Condition>> ConditionFeed::news() {
  std::vector<Condition> out = std::exchange(*news_, {});
  co_await place(out);
  co_return out;
}

Awaitable<void> ConditionFeed::close() { co_await conditions_->close(); }

Awaitable<void> ConditionFeed::place(std::vector<Condition>& conditions) {
  std::vector<NodeId> nodes;
  for (const auto& condition : conditions) nodes.push_back(condition.id);
  co_await places_.find(std::move(nodes));
  for (auto& condition : conditions) condition.path = places_.pathOf(condition.id);
}

}  // namespace zunth::cli
