#include "service/server/monitored_items.hpp"

#include "core/history/variables.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "service/server/request_checks.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::server {

using namespace ua;

Result<std::shared_ptr<const monitor::EventSelector>> MonitoredItems::selectorOf(const ExtensionObject& filter,
                                                                                 ExtensionObject& filterResult) const {
  if (!filter.is<EventFilter>())
    return Error{status::BadEventFilterInvalid, "events are asked for with an EventFilter", {}};
  auto asked = filter.as<EventFilter>();
  if (!asked) return Error{status::BadEventFilterInvalid, asked.error().cause, {}};
  std::size_t operands = 0;
  for (const auto& element : asked->whereClause.elements) operands += element.filterOperands.size();
  if (asked->selectClauses.size() > settings_.limits.maxSelectClauses ||
      asked->whereClause.elements.size() > settings_.limits.maxFilterElements ||
      operands > settings_.limits.maxFilterOperands)
    return Error{status::BadEventFilterInvalid, "the filter has too many clauses", {}};
  EventFilterResult result;
  auto selector = monitor::EventSelector::from(space_, *asked, result);
  if (!(result == EventFilterResult())) filterResult = ExtensionObject::of(std::move(result));
  if (!selector) return selector.error();
  return std::make_shared<const monitor::EventSelector>(std::move(*selector));
}

/// Part 4, 7.22.4: what is not to be had is revised, and told.
Result<monitor::AggregateSettings> MonitoredItems::aggregateOf(const ExtensionObject& filter, space::NodeIndex node,
                                                               ExtensionObject& filterResult) const {
  constexpr double kTicksPerMs = 10'000, kLeastInterval = 100, kMostInterval = 366 * 24 * 3'600'000.0;
  auto asked = filter.as<AggregateFilter>();
  if (!asked) return Error{status::BadMonitoredItemFilterInvalid, asked.error().cause, {}};
  monitor::AggregateSettings out;
  out.function = aggregate::functionOf(asked->aggregateType);
  if (!out.function || out.function->kind == aggregate::Kind::AnnotationCount)
    return Error{status::BadMonitoredItemFilterUnsupported,
                 shown(asked->aggregateType.text()) + " is no aggregate that is served",
                 {}};
  auto configuration =
      aggregate::configurationOf(asked->aggregateConfiguration, history::usualAggregation(space_, node));
  if (!configuration) return configuration.error();
  out.manner = {*configuration, history::isStepped(space_, node)};
  if (out.function->needsNumbers && !history::hasNumbers(space_, node))
    return Error{status::BadAggregateInvalidInputs,
                 std::string(out.function->name) + " is for numbers, which " + space_.path(node) + " has not",
                 {}};
  const double interval = revised(asked->processingInterval, kLeastInterval, kMostInterval);
  out.width = static_cast<std::int64_t>(interval * kTicksPerMs);
  // It begins now, in the beat that was asked for; what was before is history. No later than an interval from now.
  const DateTime now = clock_.wallClock();
  const std::int64_t start = std::clamp<std::int64_t>(asked->startTime.ticks, 0, now.ticks + out.width + 1);
  const std::int64_t past = now.ticks - start;
  out.start = start == 0 || past < -out.width ? now : DateTime{start};
  if (past > 0 && start != 0) out.start.ticks += past / out.width * out.width;
  AggregateFilterResult told;
  told.revisedStartTime = out.start;
  told.revisedProcessingInterval = interval;
  told.revisedAggregateConfiguration = {false, configuration->treatUncertainAsBad, configuration->percentDataBad,
                                        configuration->percentDataGood, configuration->useSlopedExtrapolation};
  filterResult = ExtensionObject::of(told);
  return out;
}

/// Part 4, 5.12.2 and 7.21: -1 stands for the publishing interval, 0 for each change.
double MonitoredItems::reviseInterval(double asked, const monitor::Subscription& subscription, space::NodeIndex node,
                                      AttributeId attribute) const {
  const auto& limits = settings_.limits;
  double interval = std::isnan(asked) ? 0 : asked < 0 ? subscription.settings().publishingInterval : asked;
  if (interval > 0) interval = revised(interval, limits.leastSamplingInterval, limits.mostSamplingInterval);
  if (node == space::kNoNode) return interval;
  if (core_.sampling.isPolled(node, attribute)) interval = std::max(interval, monitor::Sampling::kLeastPollInterval);
  if (attribute == AttributeId::Value && space_.nodeClass(node) == NodeClass::Variable)
    interval = std::max(interval, revised(static_cast<double>(space_.traits(node).minimumSamplingInterval), 0,
                                          limits.mostSamplingInterval));
  return interval;
}

Result<monitor::ItemSettings> MonitoredItems::revise(const MonitoringParameters& asked,
                                                     const monitor::Subscription& subscription, space::NodeIndex node,
                                                     AttributeId attribute, TimestampsToReturn timestamps,
                                                     ExtensionObject& filterResult) const {
  const auto& limits = settings_.limits;
  const std::uint32_t mostQueued = subscription.isDurable() ? limits.maxQueueSize * 10 : limits.maxQueueSize;
  monitor::ItemSettings out;
  out.clientHandle = asked.clientHandle;
  out.timestamps = timestamps;
  out.discardOldest = asked.discardOldest;
  if (attribute == AttributeId::EventNotifier) {
    auto selector = selectorOf(asked.filter, filterResult);
    if (!selector) return selector.error();
    out.events = std::move(*selector);
    out.queueSize = asked.queueSize == 0 ? limits.defaultEventQueueSize : std::min(asked.queueSize, mostQueued);
    return out;
  }
  out.queueSize = std::clamp(asked.queueSize, 1u, mostQueued);
  out.samplingInterval = reviseInterval(asked.samplingInterval, subscription, node, attribute);
  const bool isVariable = node != space::kNoNode && space_.nodeClass(node) == NodeClass::Variable;
  if (asked.filter.isNull()) return out;
  if (asked.filter.is<EventFilter>())
    return Error{status::BadFilterNotAllowed, "an EventFilter goes with the EventNotifier of an object", {}};
  if (asked.filter.is<AggregateFilter>()) {
    if (attribute != AttributeId::Value || !isVariable) return status::BadFilterNotAllowed;
    auto aggregate = aggregateOf(asked.filter, node, filterResult);
    if (!aggregate) return aggregate.error();
    out.aggregate = *aggregate;
    return out;
  }
  if (!asked.filter.is<DataChangeFilter>()) return status::BadMonitoredItemFilterInvalid;
  if (attribute != AttributeId::Value || !isVariable) return status::BadFilterNotAllowed;
  auto filter = asked.filter.as<DataChangeFilter>();
  if (!filter) return status::BadMonitoredItemFilterInvalid;
  const auto& traits = space_.traits(node);
  const bool isNumber = traits.dataType != space::kNoNode && space_.isSubtype(traits.dataType, id::Number);
  auto made = monitor::ChangeFilter::from(*filter, isNumber, space::rangeProperty(space_, node, "EURange"));
  if (!made) return made.error();
  out.filter = *made;
  return out;
}

Result<MonitoredItemCreateResult> MonitoredItems::createItem(monitor::Subscription& subscription,
                                                             const MonitoredItemCreateRequest& asked,
                                                             TimestampsToReturn timestamps, const Context& context) {
  const auto& what = asked.itemToMonitor;
  const auto& limits = settings_.limits;
  if (core_.itemCount >= limits.maxMonitoredItems)
    return Error{status::BadTooManyMonitoredItems, "the server watches as many items as it may", {}};
  if (subscription.items().size() >= limits.maxMonitoredItemsPerSubscription ||
      context.session->itemCount >= limits.maxMonitoredItemsPerSession ||
      core_.itemsOfUsers.of(context.session->userName()) >= limits.maxMonitoredItemsPerUser)
    return Error{status::BadTooManyMonitoredItems, "this client watches as many items as it may", {}};
  const auto node = space_.find(what.nodeId);
  if (node == space::kNoNode || !space_.sees(context.rights(), node))
    return Error{status::BadNodeIdUnknown, "there is no node " + shown(what.nodeId.text()), {}};
  const auto attribute = static_cast<AttributeId>(what.attributeId);
  if (asked.monitoringMode < MonitoringMode::Disabled || asked.monitoringMode > MonitoringMode::Reporting)
    return status::BadMonitoringModeInvalid;
  const auto code = space_.check(context.rights(), node, permissionToWatch(attribute));
  if (code.isBad()) return Error{code, "this user may not watch " + space_.path(node), {}};
  const auto current = space::readAttribute(space_, node, attribute);
  if (current.status == status::BadAttributeIdInvalid || current.status == status::BadNotReadable)
    return Error{current.status, space_.path(node) + " has no such attribute that can be read", {}};
  const bool isEvents = attribute == AttributeId::EventNotifier;
  if (isEvents && space_.eventNotifier(node) == 0)
    return Error{status::BadNotSupported, space_.path(node) + " announces no events", {}};
  const auto encoding = checkEncoding(space_, node, what);
  if (!encoding) return encoding.error();
  // Queued values are shared among items; none is written anew for one of them.
  if (*encoding != DataEncoding::Binary) return status::BadDataEncodingUnsupported;
  auto range = IndexRange::parse(what.indexRange.view());
  if (!range) return range.error();
  MonitoredItemCreateResult result;
  auto settings = revise(asked.requestedParameters, subscription, node, attribute, timestamps, result.filterResult);
  if (!settings) {
    if (result.filterResult.isNull()) return settings.error();
    // What came of the filter goes along with the refusal.
    result.statusCode = settings.code();
    return result;
  }
  auto& item = subscription.add(std::make_unique<monitor::MonitoredItem>(
      ++core_.lastItemId, subscription, node, attribute, std::move(*range), *settings, asked.monitoringMode));
  subscriptions_.itemAdded(*context.session);
  if (isEvents)
    core_.events.add(item);
  else
    core_.sampling.add(item, clock_.now(), clock_.wallClock());
  result.monitoredItemId = item.id();
  result.revisedSamplingInterval = settings->samplingInterval;
  result.revisedQueueSize = settings->queueSize;
  return result;
}

namespace {

/// Good when the request may be looked at at all; the subscription may still go while it is worked on.
Result<void> check(const Core& core, const monitor::Subscription* subscription, std::size_t operations) {
  if (auto fine = core.checkCount(operations); !fine) return fine;
  if (!subscription) return status::BadSubscriptionIdInvalid;
  return {};
}

bool isValid(MonitoringMode mode) { return mode >= MonitoringMode::Disabled && mode <= MonitoringMode::Reporting; }

}  // namespace

Job MonitoredItems::createMonitoredItems(CreateMonitoredItemsRequest request, Context context) {
  using Response = CreateMonitoredItemsResponse;
  auto fine = check(core_, subscriptions_.of(context, request.subscriptionId), request.itemsToCreate.size());
  if (fine && !server::isValid(request.timestampsToReturn)) fine = status::BadTimestampsToReturnInvalid;
  if (!fine) co_return core_.answer<Response>(context, fine.error());
  Response response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& asked : request.itemsToCreate) {
    auto* subscription = subscriptions_.of(context, request.subscriptionId);
    auto created = subscription ? createItem(*subscription, asked, request.timestampsToReturn, context)
                                : Result<MonitoredItemCreateResult>(status::BadSubscriptionIdInvalid);
    if (!created) diagnostics.note(response.results.size(), created.error());
    response.results.push_back(created ? std::move(*created) : MonitoredItemCreateResult{created.code(), 0, 0, 0, {}});
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<Response>(context, std::move(response));
}

Job MonitoredItems::modifyMonitoredItems(ModifyMonitoredItemsRequest request, Context context) {
  using Response = ModifyMonitoredItemsResponse;
  auto fine = check(core_, subscriptions_.of(context, request.subscriptionId), request.itemsToModify.size());
  if (fine && !server::isValid(request.timestampsToReturn)) fine = status::BadTimestampsToReturnInvalid;
  if (!fine) co_return core_.answer<Response>(context, fine.error());
  Response response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& asked : request.itemsToModify) {
    MonitoredItemModifyResult result;
    auto* subscription = subscriptions_.of(context, request.subscriptionId);
    auto* item = subscription ? subscription->item(asked.monitoredItemId) : nullptr;
    auto settings = item ? revise(asked.requestedParameters, *subscription, item->node(), item->attribute(),
                                  request.timestampsToReturn, result.filterResult)
                         : Result<monitor::ItemSettings>(status::BadMonitoredItemIdInvalid);
    result.statusCode = settings.code();
    if (settings) {
      const bool isOtherBeat = settings->samplingInterval != item->settings().samplingInterval;
      item->modify(*settings);
      if (isOtherBeat && !item->takesEvents()) core_.sampling.refresh(*item, clock_.now(), clock_.wallClock());
      result.revisedSamplingInterval = settings->samplingInterval;
      result.revisedQueueSize = settings->queueSize;
    } else {
      diagnostics.note(response.results.size(), settings.error());
    }
    response.results.push_back(std::move(result));
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<Response>(context, std::move(response));
}

Job MonitoredItems::setMonitoringMode(SetMonitoringModeRequest request, Context context) {
  using Response = SetMonitoringModeResponse;
  auto fine = check(core_, subscriptions_.of(context, request.subscriptionId), request.monitoredItemIds.size());
  if (fine && !isValid(request.monitoringMode)) fine = status::BadMonitoringModeInvalid;
  if (!fine) co_return core_.answer<Response>(context, fine.error());
  Response response;
  for (const auto id : request.monitoredItemIds) {
    auto* subscription = subscriptions_.of(context, request.subscriptionId);
    auto* item = subscription ? subscription->item(id) : nullptr;
    response.results.push_back(item ? status::Good : status::BadMonitoredItemIdInvalid);
    if (!item) continue;
    const bool wasDisabled = item->mode() == MonitoringMode::Disabled;
    item->setMode(request.monitoringMode);
    if (request.monitoringMode != MonitoringMode::Reporting) subscription->unlist(*item);
    if (wasDisabled && !item->takesEvents())
      core_.sampling.refresh(*item, clock_.now(), clock_.wallClock());
    else if (item->hasQueued())
      subscription->itemQueued(*item);
    co_await context.turn(core_.turns, true);
  }
  core_.answer<Response>(context, std::move(response));
}

Result<SetTriggeringResponse> MonitoredItems::setTriggering(const SetTriggeringRequest& request, Context& context) {
  auto* subscription = subscriptions_.of(context, request.subscriptionId);
  if (auto fine = check(core_, subscription, request.linksToAdd.size() + request.linksToRemove.size()); !fine)
    return fine.error();
  if (!subscription->item(request.triggeringItemId)) return status::BadMonitoredItemIdInvalid;
  SetTriggeringResponse response;
  // Part 4, 5.12.5.1: links are removed before others are added.
  for (auto id : request.linksToRemove)
    response.removeResults.push_back(
        subscription->unlink(request.triggeringItemId, id) ? status::Good : status::BadMonitoredItemIdInvalid);
  for (auto id : request.linksToAdd) response.addResults.push_back(subscription->link(request.triggeringItemId, id));
  return response;
}

Job MonitoredItems::deleteMonitoredItems(DeleteMonitoredItemsRequest request, Context context) {
  using Response = DeleteMonitoredItemsResponse;
  auto fine = check(core_, subscriptions_.of(context, request.subscriptionId), request.monitoredItemIds.size());
  if (!fine) co_return core_.answer<Response>(context, fine.error());
  Response response;
  for (const auto id : request.monitoredItemIds) {
    auto* subscription = subscriptions_.of(context, request.subscriptionId);
    auto item = subscription ? subscription->removeItem(id) : nullptr;
    if (item) {
      subscriptions_.forget(*item);
      subscriptions_.itemRemoved(*context.session);
    }
    response.results.push_back(item ? status::Good : status::BadMonitoredItemIdInvalid);
    co_await context.turn(core_.turns);
  }
  core_.answer<Response>(context, std::move(response));
}

}  // namespace zunth::server
