#include "apps/zunth/conditions.hpp"

#include "core/ua/generated/node_ids.hpp"

namespace zunth::cli {

using namespace ua;

Awaitable<Result<std::unique_ptr<ConditionFeed>>> ConditionFeed::open(SessionPtr session, Interrupt& interrupt,
                                                                      int& code) {
  std::unique_ptr<ConditionFeed> feed(new ConditionFeed(session, interrupt));
  auto handlers = subscriptionHandlers(interrupt, code);
  handlers.event = [waiting = feed->waiting_, &interrupt](std::uint32_t, const List<Variant>& fields) {
    waiting->push_back(fields);
    interrupt.poke();
  };
  client::Subscription::Settings settings;
  settings.interval = 100;
  auto subscription = co_await client::Subscription::create(session, settings, std::move(handlers));
  if (!subscription) co_return subscription.error();
  feed->subscription_ = *subscription;
  auto added = co_await feed->subscription_->addEvents(id::Server, client::conditionFilter());
  if (!added) co_return added.error();
  if (added->statusCode.isBad()) co_return Error{added->statusCode, "the server tells nobody of its conditions", {}};
  std::vector<Variant> inputs;
  inputs.push_back(Variant(feed->subscription_->id()));
  auto refreshed = co_await session->call(id::ConditionType, id::ConditionType_ConditionRefresh, std::move(inputs));
  if (!refreshed) co_return refreshed.error();
  if (refreshed->error.code.isBad())
    co_return Error{refreshed->error.code, "the server does not tell how its conditions stand", "zunth events"};
  co_return std::move(feed);
}

/// The next that waits, without a condition for what is none.
Awaitable<std::optional<Condition>> ConditionFeed::next() {
  const List<Variant> fields = std::move(waiting_->front());
  waiting_->pop_front();
  if (client::endsRefresh(fields)) isListed_ = true;
  auto out = client::conditionOf(fields);
  if (out) out->path = co_await pathOf(out->id);
  co_return out;
}

Awaitable<Result<std::vector<Condition>>> ConditionFeed::standing(Duration patience) {
  const auto end = std::chrono::steady_clock::now() + patience;
  std::vector<Condition> out;
  while (!isListed_ && !interrupt_.isWanted()) {
    while (!waiting_->empty() && !isListed_) {
      auto condition = co_await next();
      if (!condition) continue;
      // Something may have happened to it meanwhile: the last word counts.
      std::erase_if(
          out, [&](const Condition& other) { return other.id == condition->id && other.branch == condition->branch; });
      if (condition->isRetained) out.push_back(std::move(*condition));
    }
    if (isListed_) break;
    if (std::chrono::steady_clock::now() > end)
      co_return Error{status::BadTimeout, "the server did not finish telling how its conditions stand",
                      "the same with a longer --timeout"};
    co_await interrupt_.wait(milliseconds(200));
  }
  co_return out;
}

Awaitable<std::vector<Condition>> ConditionFeed::news() {
  std::vector<Condition> out;
  while (!waiting_->empty())
    if (auto condition = co_await next()) out.push_back(std::move(*condition));
  co_return out;
}

Awaitable<void> ConditionFeed::close() { co_await subscription_->close(); }

/// From Objects; asked for once each.
Awaitable<std::string> ConditionFeed::pathOf(NodeId node) {
  if (const auto known = paths_.find(node); known != paths_.end()) co_return known->second;
  std::string path;
  NodeId at = node;
  for (int depth = 0; depth < 50 && !at.is(id::ObjectsFolder); ++depth) {
    auto name = co_await session_->readAttributes(at, std::vector<AttributeId>(1, AttributeId::BrowseName));
    const auto* browseName = name ? name->front().value.get<QualifiedName>() : nullptr;
    if (!browseName) break;
    path = browseName->name.str() + (path.empty() ? "" : "/" + path);
    BrowseDescription up{at, BrowseDirection::Inverse, id::HierarchicalReferences, true, 0, 63};
    auto parents = co_await session_->browse(up);
    if (!parents) break;
    NodeId above;
    for (const auto& reference : *parents)
      if (above.isNull() && !reference.referenceTypeId.is(id::HasNotifier) &&
          !reference.referenceTypeId.is(id::HasEventSource) && !reference.referenceTypeId.is(id::AlarmGroupMember))
        above = reference.nodeId.nodeId;
    if (above.isNull()) break;
    at = above;
  }
  co_return paths_[node] = at.is(id::ObjectsFolder) ? path : node.text();
}

}  // namespace zunth::cli
