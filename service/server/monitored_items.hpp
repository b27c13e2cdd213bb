#pragma once

#include "service/server/subscriptions.hpp"

namespace zunth::server {

/// The MonitoredItem Service Set (Part 4, 5.12).
class MonitoredItems : Service {
 public:
  MonitoredItems(Core& core, Subscriptions& subscriptions) : Service(core), subscriptions_(subscriptions) {}

  Job createMonitoredItems(ua::CreateMonitoredItemsRequest request, Context context);
  Job modifyMonitoredItems(ua::ModifyMonitoredItemsRequest request, Context context);
  Job setMonitoringMode(ua::SetMonitoringModeRequest request, Context context);
  ua::Result<ua::SetTriggeringResponse> setTriggering(const ua::SetTriggeringRequest&, Context&);
  Job deleteMonitoredItems(ua::DeleteMonitoredItemsRequest request, Context context);

 private:
  ua::Result<ua::MonitoredItemCreateResult> createItem(monitor::Subscription& subscription,
                                                       const ua::MonitoredItemCreateRequest& asked,
                                                       ua::TimestampsToReturn timestamps, const Context& context);
  ua::Result<monitor::AggregateSettings> aggregateOf(const ua::ExtensionObject& filter, space::NodeIndex node,
                                                     ua::ExtensionObject& filterResult) const;
  /// `filterResult` gets what came of an event filter's clauses, or what an aggregate's filter was revised to.
  ua::Result<monitor::ItemSettings> revise(const ua::MonitoringParameters& asked,
                                           const monitor::Subscription& subscription, space::NodeIndex node,
                                           ua::AttributeId attribute, ua::TimestampsToReturn timestamps,
                                           ua::ExtensionObject& filterResult) const;
  double reviseInterval(double asked, const monitor::Subscription& subscription, space::NodeIndex node,
                        ua::AttributeId attribute) const;
  ua::Result<std::shared_ptr<const monitor::EventSelector>> selectorOf(const ua::ExtensionObject& filter,
                                                                       ua::ExtensionObject& filterResult) const;

  Subscriptions& subscriptions_;
};

}  // namespace zunth::server
