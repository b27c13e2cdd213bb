#include "core/space/attributes.hpp"
#include "service/server/server.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::server {

using namespace ua;

Result<monitor::ItemSettings> Server::reviseItem(const MonitoringParameters& asked, space::NodeIndex node,
                                                 AttributeId attribute, TimestampsToReturn timestamps) const {
  monitor::ItemSettings out;
  out.clientHandle = asked.clientHandle;
  out.timestamps = timestamps;
  out.discardOldest = asked.discardOldest;
  out.queueSize = std::clamp(asked.queueSize, 1u, settings_.limits.maxQueueSize);
  // -1 stands for the publishing interval; the caller has put that in.
  out.samplingInterval =
      std::isnan(asked.samplingInterval) ? 0 : std::max(asked.samplingInterval, settings_.limits.leastSamplingInterval);
  if (asked.filter.isNull()) return out;
  if (!asked.filter.is<DataChangeFilter>())
    return asked.filter.is<EventFilter>() || asked.filter.is<AggregateFilter>()
               ? status::BadMonitoredItemFilterUnsupported
               : status::BadMonitoredItemFilterInvalid;
  if (attribute != AttributeId::Value) return status::BadFilterNotAllowed;
  auto filter = asked.filter.as<DataChangeFilter>();
  if (!filter) return status::BadMonitoredItemFilterInvalid;
  const auto& traits = space_.traits(node);
  const bool isNumber = traits.dataType != space::kNoNode && space_.isSubtype(traits.dataType, id::Number);
  auto made = monitor::ChangeFilter::from(*filter, isNumber, space::rangeProperty(space_, node, "EURange"));
  if (!made) return made.error();
  out.filter = *made;
  return out;
}

Result<CreateMonitoredItemsResponse> Server::createMonitoredItems(const CreateMonitoredItemsRequest& request,
                                                                  Context& context) {
  if (auto fine = checkCount(request.itemsToCreate.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (request.timestampsToReturn < TimestampsToReturn::Source ||
      request.timestampsToReturn > TimestampsToReturn::Neither)
    return status::BadTimestampsToReturnInvalid;
  CreateMonitoredItemsResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  auto create = [&](const MonitoredItemCreateRequest& asked) -> Result<MonitoredItemCreateResult> {
    const auto& what = asked.itemToMonitor;
    if (sampling_.itemCount() >= settings_.limits.maxMonitoredItems)
      return Error{status::BadTooManyMonitoredItems, "the server watches as many items as it may", {}};
    const auto node = space_.find(what.nodeId);
    if (node == space::kNoNode) return Error{status::BadNodeIdUnknown, "there is no node " + what.nodeId.text(), {}};
    const auto attribute = static_cast<AttributeId>(what.attributeId);
    if (asked.monitoringMode < MonitoringMode::Disabled || asked.monitoringMode > MonitoringMode::Reporting)
      return status::BadMonitoringModeInvalid;
    const auto current = space::readAttribute(space_, node, attribute);
    if (current.status == status::BadAttributeIdInvalid || current.status == status::BadNotReadable)
      return Error{current.status, space_.path(node) + " has no such attribute that can be read", {}};
    if (!what.dataEncoding.name.empty() && what.dataEncoding.name.view() != "Default Binary")
      return status::BadDataEncodingUnsupported;
    auto range = IndexRange::parse(what.indexRange.view());
    if (!range) return range.error();
    auto parameters = asked.requestedParameters;
    if (parameters.samplingInterval < 0) parameters.samplingInterval = subscription->settings().publishingInterval;
    auto settings = reviseItem(parameters, node, attribute, request.timestampsToReturn);
    if (!settings) return settings.error();
    auto& item = subscription->add(std::make_unique<monitor::MonitoredItem>(
        ++lastItemId_, *subscription, node, attribute, std::move(*range), *settings, asked.monitoringMode));
    sampling_.add(item, context.now, context.wallClock);
    return MonitoredItemCreateResult{status::Good, item.id(), settings->samplingInterval, settings->queueSize, {}};
  };
  for (const auto& asked : request.itemsToCreate) {
    auto created = create(asked);
    if (!created) diagnostics.note(response.results.size(), created.error().cause);
    response.results.push_back(created ? std::move(*created) : MonitoredItemCreateResult{created.code(), 0, 0, 0, {}});
  }
  response.diagnosticInfos = diagnostics.take(response.results.size());
  return response;
}

Result<ModifyMonitoredItemsResponse> Server::modifyMonitoredItems(const ModifyMonitoredItemsRequest& request,
                                                                  Context& context) {
  if (auto fine = checkCount(request.itemsToModify.size()); !fine) return fine.error();
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  if (request.timestampsToReturn < TimestampsToReturn::Source ||
      request.timestampsToReturn > TimestampsToReturn::Neither)
    return status::BadTimestampsToReturnInvalid;
  ModifyMonitoredItemsResponse response;
  for (const auto& asked : request.itemsToModify) {
    auto* item = subscription->item(asked.monitoredItemId);
    if (!item) {
      response.results.push_back({status::BadMonitoredItemIdInvalid, 0, 0, {}});
      continue;
    }
    auto parameters = asked.requestedParameters;
    if (parameters.samplingInterval < 0) parameters.samplingInterval = subscription->settings().publishingInterval;
    auto settings = reviseItem(parameters, item->node(), item->attribute(), request.timestampsToReturn);
    if (!settings) {
      response.results.push_back({settings.code(), 0, 0, {}});
      continue;
    }
    item->modify(*settings);
    response.results.push_back({status::Good, settings->samplingInterval, settings->queueSize, {}});
  }
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
    if (wasDisabled)
      sampling_.refresh(*item, context.now, context.wallClock);
    else if (item->hasQueued())
      subscription->itemQueued(*item);
  }
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
    if (item) sampling_.remove(*item);
    response.results.push_back(item ? status::Good : status::BadMonitoredItemIdInvalid);
  }
  return response;
}

}  // namespace zunth::server
