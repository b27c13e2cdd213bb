#include "core/space/attributes.hpp"
#include "service/server/request_checks.hpp"
#include "service/server/server.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::server {

using namespace ua;

Result<std::shared_ptr<const monitor::EventSelector>> Server::selectorOf(const ExtensionObject& filter,
                                                                         ExtensionObject& filterResult) const {
  if (!filter.is<EventFilter>())
    return Error{status::BadEventFilterInvalid, "events are asked for with an EventFilter", {}};
  auto asked = filter.as<EventFilter>();
  if (!asked) return Error{status::BadEventFilterInvalid, asked.error().cause, {}};
  if (asked->selectClauses.size() > settings_.limits.maxSelectClauses ||
      asked->whereClause.elements.size() > settings_.limits.maxFilterElements)
    return Error{status::BadEventFilterInvalid, "the filter has too many clauses", {}};
  EventFilterResult result;
  auto selector = monitor::EventSelector::from(space_, *asked, result);
  if (!(result == EventFilterResult())) filterResult = ExtensionObject::of(std::move(result));
  if (!selector) return selector.error();
  return std::make_shared<const monitor::EventSelector>(std::move(*selector));
}

Result<monitor::ItemSettings> Server::reviseItem(const MonitoringParameters& asked,
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
  // -1 stands for the publishing interval.
  out.samplingInterval = std::isnan(asked.samplingInterval) ? 0
                         : asked.samplingInterval < 0       ? subscription.settings().publishingInterval
                                                            : asked.samplingInterval;
  out.samplingInterval = std::max(out.samplingInterval, limits.leastSamplingInterval);
  const bool isVariable = node != space::kNoNode && space_.nodeClass(node) == NodeClass::Variable;
  if (isVariable && attribute == AttributeId::Value)
    out.samplingInterval =
        std::max(out.samplingInterval, static_cast<double>(space_.traits(node).minimumSamplingInterval));
  if (asked.filter.isNull()) return out;
  if (asked.filter.is<EventFilter>())
    return Error{status::BadFilterNotAllowed, "an EventFilter goes with the EventNotifier of an object", {}};
  if (asked.filter.is<AggregateFilter>()) return status::BadMonitoredItemFilterUnsupported;
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

Result<MonitoredItemCreateResult> Server::createItem(monitor::Subscription& subscription,
                                                     const MonitoredItemCreateRequest& asked,
                                                     TimestampsToReturn timestamps, const Context& context) {
  const auto& what = asked.itemToMonitor;
  if (sampling_.itemCount() >= settings_.limits.maxMonitoredItems ||
      subscription.items().size() >= settings_.limits.maxMonitoredItemsPerSubscription)
    return Error{status::BadTooManyMonitoredItems, "the server watches as many items as it may", {}};
  const auto node = space_.find(what.nodeId);
  if (node == space::kNoNode || !space_.sees(context.rights(), node))
    return Error{status::BadNodeIdUnknown, "there is no node " + what.nodeId.text(), {}};
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
  auto settings = reviseItem(asked.requestedParameters, subscription, node, attribute, timestamps, result.filterResult);
  if (!settings) {
    if (result.filterResult.isNull()) return settings.error();
    // What came of the filter goes along with the refusal.
    result.statusCode = settings.code();
    return result;
  }
  auto& item = subscription.add(std::make_unique<monitor::MonitoredItem>(
      ++lastItemId_, subscription, node, attribute, std::move(*range), *settings, asked.monitoringMode));
  if (isEvents)
    events_.add(item);
  else
    sampling_.add(item, context.now, context.wallClock);
  result.monitoredItemId = item.id();
  result.revisedSamplingInterval = settings->samplingInterval;
  result.revisedQueueSize = settings->queueSize;
  return result;
}

void Server::forget(monitor::MonitoredItem& item) {
  if (item.takesEvents())
    events_.remove(item);
  else
    sampling_.remove(item);
}

Result<CreateMonitoredItemsResponse> Server::createMonitoredItems(const CreateMonitoredItemsRequest& request,
                                                                  Context& context) {
  if (auto fine = checkCount(request.itemsToCreate.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (!isValid(request.timestampsToReturn)) return status::BadTimestampsToReturnInvalid;
  CreateMonitoredItemsResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& asked : request.itemsToCreate) {
    auto created = createItem(*subscription, asked, request.timestampsToReturn, context);
    if (!created) diagnostics.note(response.results.size(), created.error());
    response.results.push_back(created ? std::move(*created) : MonitoredItemCreateResult{created.code(), 0, 0, 0, {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<ModifyMonitoredItemsResponse> Server::modifyMonitoredItems(const ModifyMonitoredItemsRequest& request,
                                                                  Context& context) {
  if (auto fine = checkCount(request.itemsToModify.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (!isValid(request.timestampsToReturn)) return status::BadTimestampsToReturnInvalid;
  ModifyMonitoredItemsResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& asked : request.itemsToModify) {
    MonitoredItemModifyResult result;
    auto* item = subscription->item(asked.monitoredItemId);
    auto settings = item ? reviseItem(asked.requestedParameters, *subscription, item->node(), item->attribute(),
                                      request.timestampsToReturn, result.filterResult)
                         : Result<monitor::ItemSettings>(status::BadMonitoredItemIdInvalid);
    result.statusCode = settings.code();
    if (settings) {
      item->modify(*settings);
      result.revisedSamplingInterval = settings->samplingInterval;
      result.revisedQueueSize = settings->queueSize;
    } else {
      diagnostics.note(response.results.size(), settings.error());
    }
    response.results.push_back(std::move(result));
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<SetMonitoringModeResponse> Server::setMonitoringMode(const SetMonitoringModeRequest& request, Context& context) {
  if (auto fine = checkCount(request.monitoredItemIds.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (request.monitoringMode < MonitoringMode::Disabled || request.monitoringMode > MonitoringMode::Reporting)
    return status::BadMonitoringModeInvalid;
  SetMonitoringModeResponse response;
  for (auto id : request.monitoredItemIds) {
    auto* item = subscription->item(id);
    response.results.push_back(item ? status::Good : status::BadMonitoredItemIdInvalid);
    if (!item) continue;
    const bool wasDisabled = item->mode() == MonitoringMode::Disabled;
    item->setMode(request.monitoringMode);
    if (wasDisabled && !item->takesEvents())
      sampling_.refresh(*item, context.now, context.wallClock);
    else if (item->hasQueued())
      subscription->itemQueued(*item);
  }
  return response;
}

Result<SetTriggeringResponse> Server::setTriggering(const SetTriggeringRequest& request, Context& context) {
  if (auto fine = checkCount(request.linksToAdd.size() + request.linksToRemove.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (!subscription->item(request.triggeringItemId)) return status::BadMonitoredItemIdInvalid;
  SetTriggeringResponse response;
  // Part 4, 5.12.5.1: links are removed before others are added.
  for (auto id : request.linksToRemove)
    response.removeResults.push_back(
        subscription->unlink(request.triggeringItemId, id) ? status::Good : status::BadMonitoredItemIdInvalid);
  for (auto id : request.linksToAdd)
    response.addResults.push_back(subscription->link(request.triggeringItemId, id) ? status::Good
                                                                                   : status::BadMonitoredItemIdInvalid);
  return response;
}

Result<DeleteMonitoredItemsResponse> Server::deleteMonitoredItems(const DeleteMonitoredItemsRequest& request,
                                                                  Context& context) {
  if (auto fine = checkCount(request.monitoredItemIds.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  DeleteMonitoredItemsResponse response;
  for (auto id : request.monitoredItemIds) {
    auto item = subscription->removeItem(id);
    if (item) forget(*item);
    response.results.push_back(item ? status::Good : status::BadMonitoredItemIdInvalid);
  }
  return response;
}

}  // namespace zunth::server
