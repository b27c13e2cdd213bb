#pragma once

#include "service/server/refreshes.hpp"
#include "service/server/subscriptions.hpp"

namespace zunth::server {

/// The methods of the Server object (Part 5, 9), and those that tell conditions again (Part 9, 5.5.7).
class ObjectMethods : Service {
 public:
  ObjectMethods(Core& core, Subscriptions& subscriptions, Refreshes& refreshes);

  /// Carries it out when it is one of them.
  std::optional<CallOutcome> call(space::NodeIndex method, const std::vector<ua::Variant>& inputs, Context& context);

 private:
  using Inputs = std::vector<ua::Variant>;
  CallOutcome getMonitoredItems(const Inputs& inputs, Context& context);
  CallOutcome resendData(const Inputs& inputs, Context& context);
  CallOutcome setSubscriptionDurable(const Inputs& inputs, Context& context);
  CallOutcome requestServerStateChange(const Inputs& inputs, Context& context);
  CallOutcome conditionRefresh(const Inputs& inputs, Context& context);
  ua::Result<monitor::Subscription*> ownSubscription(const ua::Variant& id, Context& context) const;

  Subscriptions& subscriptions_;
  Refreshes& refreshes_;
  std::unordered_map<space::NodeIndex, CallOutcome (ObjectMethods::*)(const Inputs&, Context&)> methods_;
};

}  // namespace zunth::server
