#include "service/server/core.hpp"

#include "core/space/type_catalog.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

namespace {

using Counters = SessionDiagnosticsDataType;

/// The counter of a service in a session's diagnostics; null for services that have none.
ServiceCounterDataType Counters::*counterOf(std::uint32_t requestId) {
  switch (requestId) {
    case ReadRequest::kBinaryId: return &Counters::readCount;
    case HistoryReadRequest::kBinaryId: return &Counters::historyReadCount;
    case WriteRequest::kBinaryId: return &Counters::writeCount;
    case HistoryUpdateRequest::kBinaryId: return &Counters::historyUpdateCount;
    case CallRequest::kBinaryId: return &Counters::callCount;
    case CreateMonitoredItemsRequest::kBinaryId: return &Counters::createMonitoredItemsCount;
    case ModifyMonitoredItemsRequest::kBinaryId: return &Counters::modifyMonitoredItemsCount;
    case SetMonitoringModeRequest::kBinaryId: return &Counters::setMonitoringModeCount;
    case SetTriggeringRequest::kBinaryId: return &Counters::setTriggeringCount;
    case DeleteMonitoredItemsRequest::kBinaryId: return &Counters::deleteMonitoredItemsCount;
    case CreateSubscriptionRequest::kBinaryId: return &Counters::createSubscriptionCount;
    case ModifySubscriptionRequest::kBinaryId: return &Counters::modifySubscriptionCount;
    case SetPublishingModeRequest::kBinaryId: return &Counters::setPublishingModeCount;
    case PublishRequest::kBinaryId: return &Counters::publishCount;
    case RepublishRequest::kBinaryId: return &Counters::republishCount;
    case TransferSubscriptionsRequest::kBinaryId: return &Counters::transferSubscriptionsCount;
    case DeleteSubscriptionsRequest::kBinaryId: return &Counters::deleteSubscriptionsCount;
    case AddNodesRequest::kBinaryId: return &Counters::addNodesCount;
    case AddReferencesRequest::kBinaryId: return &Counters::addReferencesCount;
    case DeleteNodesRequest::kBinaryId: return &Counters::deleteNodesCount;
    case DeleteReferencesRequest::kBinaryId: return &Counters::deleteReferencesCount;
    case BrowseRequest::kBinaryId: return &Counters::browseCount;
    case BrowseNextRequest::kBinaryId: return &Counters::browseNextCount;
    case TranslateBrowsePathsToNodeIdsRequest::kBinaryId: return &Counters::translateBrowsePathsToNodeIdsCount;
    case QueryFirstRequest::kBinaryId: return &Counters::queryFirstCount;
    case QueryNextRequest::kBinaryId: return &Counters::queryNextCount;
    case RegisterNodesRequest::kBinaryId: return &Counters::registerNodesCount;
    case UnregisterNodesRequest::kBinaryId: return &Counters::unregisterNodesCount;
    default: return nullptr;
  }
}

}  // namespace

Clock Clock::real() {
  return {[] { return std::chrono::steady_clock::now(); },
          [] { return DateTime::from(std::chrono::system_clock::now()); }};
}

Core::Core(space::Space& s, Settings made, Clock c)
    : space(s),
      settings(std::move(made)),
      clock(std::move(c)),
      startTime(clock.wallClock()),
      sampling(s),
      events(s),
      announcer(s, events, clock.wallClock, settings.auditing),
      alarms(s,
             {clock.now, clock.wallClock, [this] { return announcer.newEventId(); },
              [this](monitor::Event event) { events.raise(std::move(event)); }, [this] { return events.hasMore(); }}),
      directory(startTime),
      turns(clock.now),
      queued(settings.limits.maxQueued),
      holdings(settings.limits.maxWritten) {
  sampled_ = space.tap([this](auto changes) { sampling.valuesChanged(changes, clock.now(), clock.wallClock()); });
  sampling.setTap(sampled_);
  space.setRemovalListener([this](space::NodeIndex node) { nodeRemoved(node); });
}

Core::~Core() {
  // Answers that somebody still holds outlive the heap that they wait in.
  while (answersDue.take(Instant::max())) continue;
  space.untap(sampled_);
  space.setRemovalListener({});
}

std::optional<double> Core::interestIn(space::NodeIndex variable) const {
  if (space.isTappedBeside(variable, sampled_)) return 0;
  std::optional<double> out;
  for (const auto* item : sampling.watchersOf(variable))
    if (item->attribute() == AttributeId::Value)
      out = std::min(out.value_or(item->settings().samplingInterval), item->settings().samplingInterval);
  return out;
}

std::vector<Core::Watcher> Core::watchersOf(space::NodeIndex variable) const {
  std::vector<Watcher> out;
  for (const auto* item : sampling.watchersOf(variable)) {
    if (item->attribute() != AttributeId::Value) continue;
    const auto id = item->sink().id();
    const auto owner = subscriptionOwners.find(id);
    const Session* session = owner == subscriptionOwners.end() ? nullptr : owner->second;
    out.push_back({session ? session->name.str() : std::string(), id, item->settings().samplingInterval,
                   item->last().value_or(DataValue(status::BadWaitingForInitialData))});
  }
  return out;
}

void Core::nodeRemoved(space::NodeIndex node) {
  alarms.nodeRemoved(node);
  sampling.nodeRemoved(node, clock.wallClock());
  events.nodeRemoved(node);
  owners.removed(node);
  holdings.forget(node);
  sessionMethods.erase(node);
}

void Core::meaningChanged(space::NodeIndex property) {
  // Part 8, 5.2: of a DataItem and of those below it.
  static constexpr std::string_view kMeaning[] = {"EURange",         "InstrumentRange", "EngineeringUnits",
                                                  "EnumStrings",     "EnumValues",      "TrueState",
                                                  "FalseState",      "AxisScaleType",   "Title",
                                                  "XAxisDefinition", "YAxisDefinition", "ZAxisDefinition"};
  const auto variable = space.parent(property);
  if (variable == space::kNoNode || space.nodeClass(variable) != NodeClass::Variable) return;
  const bool isSaid = space.traits(property).accessLevel & AccessLevelType::SemanticChange;
  if (!isSaid && std::ranges::find(kMeaning, space.name(property)) == std::end(kMeaning)) return;
  announcer.meaningChanged(variable);
  sampling.meaningChanged(variable, clock.now(), clock.wallClock());
}

Result<void> Core::checkCount(std::size_t operations) const {
  if (operations == 0) return Error{status::BadNothingToDo, "the request names nothing to do", {}};
  if (operations > settings.limits.maxOperationsPerRequest)
    return Error{status::BadTooManyOperations,
                 fmt::format("{} operations in one request; {} are allowed", operations,
                             settings.limits.maxOperationsPerRequest),
                 "split the request; the server's OperationLimits say how"};
  return {};
}

std::shared_ptr<const TypeCatalog> Core::structures() {
  if (!structures_) structures_ = std::make_shared<const TypeCatalog>(space::typeCatalog(space));
  return structures_;
}

Room Core::roomFor(const Context& context) const {
  std::size_t most = settings.limits.maxResponse;
  if (context.session && context.session->maxResponseSize)
    most = std::min<std::size_t>(most, context.session->maxResponseSize);
  if (const auto taken = context.peer->mostResponse()) most = std::min(most, taken);
  return Room(most);
}

void Core::keepOutstanding(const Context& context, const std::shared_ptr<Outstanding>& answer) {
  auto& kept = context.session->outstanding;
  // Those that were given are swept out when they are as many as the rest.
  if (kept.size() >= 16 && kept.size() == kept.capacity())
    std::erase_if(kept, [](const auto& waiting) { return waiting.expired(); });
  kept.push_back(answer);
  if (const auto until = context.giveUpAt(); until != Instant::max()) answer->waitUntil(until, answersDue);
}

void Core::count(Session* session, std::uint32_t requestType, StatusCode outcome) {
  if (outcome.isBad()) ++summary.rejectedRequestsCount;
  if (!session) return;
  auto add = [bad = outcome.isBad()](ServiceCounterDataType& counter) {
    ++counter.totalCount;
    counter.errorCount += bad;
  };
  add(session->diagnostics.totalRequestCount);
  if (const auto counter = counterOf(requestType)) add(session->diagnostics.*counter);
  if (outcome == status::BadUserAccessDenied) ++session->diagnostics.unauthorizedRequestCount;
}

}  // namespace zunth::server
