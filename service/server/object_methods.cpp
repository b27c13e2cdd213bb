#include "service/server/object_methods.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

ObjectMethods::ObjectMethods(Core& core, Subscriptions& subscriptions, Refreshes& refreshes)
    : Service(core), subscriptions_(subscriptions), refreshes_(refreshes) {
  methods_[space_.at(id::Server_GetMonitoredItems)] = &ObjectMethods::getMonitoredItems;
  methods_[space_.at(id::Server_ResendData)] = &ObjectMethods::resendData;
  methods_[space_.at(id::Server_SetSubscriptionDurable)] = &ObjectMethods::setSubscriptionDurable;
  methods_[space_.at(id::Server_RequestServerStateChange)] = &ObjectMethods::requestServerStateChange;
  for (const auto refresh : {id::ConditionType_ConditionRefresh, id::ConditionType_ConditionRefresh2})
    methods_[space_.at(refresh)] = &ObjectMethods::conditionRefresh;
}

std::optional<CallOutcome> ObjectMethods::call(space::NodeIndex method, const Inputs& inputs, Context& context) {
  const auto own = methods_.find(method);
  if (own == methods_.end()) return std::nullopt;
  return (this->*own->second)(inputs, context);
}

/// The session's own subscription of this id: BadSubscriptionIdInvalid, BadUserAccessDenied when it is another's.
Result<monitor::Subscription*> ObjectMethods::ownSubscription(const Variant& id, Context& context) const {
  const std::uint32_t number = *id.get<std::uint32_t>();
  if (auto* own = subscriptions_.of(context, number)) return own;
  if (core_.subscriptionOwners.contains(number))
    return Error{status::BadUserAccessDenied, "the subscription belongs to another session", {}};
  return Error{status::BadSubscriptionIdInvalid, fmt::format("there is no subscription {}", number), {}};
}

/// Part 5, 9.1.
CallOutcome ObjectMethods::getMonitoredItems(const Inputs& inputs, Context& context) {
  auto subscription = ownSubscription(inputs[0], context);
  if (!subscription) return refused(subscription.error());
  std::vector<std::uint32_t> serverHandles, clientHandles;
  for (const auto& [id, item] : (*subscription)->items()) {
    serverHandles.push_back(id);
    clientHandles.push_back(item->settings().clientHandle);
  }
  CallOutcome out;
  out.outputs.push_back(Variant::array(serverHandles));
  out.outputs.push_back(Variant::array(clientHandles));
  return out;
}

CallOutcome ObjectMethods::conditionRefresh(const Inputs& inputs, Context& context) {
  auto subscription = ownSubscription(inputs[0], context);
  if (!subscription) return refused(subscription.error());
  std::optional<std::uint32_t> item;
  if (inputs.size() > 1) {
    item = *inputs[1].get<std::uint32_t>();
    const auto found = (*subscription)->items().find(*item);
    if (found == (*subscription)->items().end() || !found->second->takesEvents())
      return refused({status::BadMonitoredItemIdInvalid,
                      fmt::format("the subscription has no item {} that takes events", *item),
                      {}});
  }
  auto begun = refreshes_.begin(**subscription, item);
  if (!begun) return refused(begun.error());
  return {};
}

/// Part 5, 9.2.
CallOutcome ObjectMethods::resendData(const Inputs& inputs, Context& context) {
  auto subscription = ownSubscription(inputs[0], context);
  if (!subscription) return refused(subscription.error());
  (*subscription)->resendData(context.wallClock);
  core_.sampling.sampleForgotten(**subscription, core_.clock.now());
  return {};
}

/// Part 5, 9.3; Part 4, 6.8.
CallOutcome ObjectMethods::setSubscriptionDurable(const Inputs& inputs, Context& context) {
  auto subscription = ownSubscription(inputs[0], context);
  if (!subscription) return refused(subscription.error());
  if (!(*subscription)->items().empty())
    return refused({status::BadInvalidState, "a subscription is made durable before it has monitored items", {}});
  const std::uint32_t most = settings_.limits.mostDurableHours, asked = *inputs[1].get<std::uint32_t>();
  const std::uint32_t hours = asked == 0 ? most : std::min(asked, most);
  const double turns = hours * 3'600'000.0 / (*subscription)->settings().publishingInterval;
  (*subscription)->makeDurable(static_cast<std::uint32_t>(std::min(turns, double{UINT32_MAX})));
  CallOutcome out;
  out.outputs.push_back(Variant(hours));
  return out;
}

/// Part 5, 9.4: for administrators. On an unsecured channel nobody can be sure of them.
CallOutcome ObjectMethods::requestServerStateChange(const Inputs& inputs, Context& context) {
  if (context.peer->security().mode != MessageSecurityMode::SignAndEncrypt)
    return refused(
        {status::BadSecurityModeInsufficient, "the server's state is changed over encrypted connections", {}});
  const bool isAdministrator = context.rights().hasRole(id::WellKnownRole_ConfigureAdmin) ||
                               context.rights().hasRole(id::WellKnownRole_SecurityAdmin);
  if (!isAdministrator || !core_.stateHandler)
    return refused({status::BadUserAccessDenied, "the server's state is changed by its administrators", {}});
  const auto state = static_cast<ServerState>(*inputs[0].get<std::int32_t>());
  if (state != ServerState::Shutdown && state != ServerState::Suspended && state != ServerState::Running)
    return refused({status::BadInvalidArgument, "the server can be running, suspended or shut down", {}});
  const std::uint32_t seconds = *inputs[2].get<std::uint32_t>();
  if (const auto estimate = space_.find(NodeId(id::Server_EstimatedReturnTime)); estimate != space::kNoNode)
    space_.setValue(estimate, DataValue(inputs[1], clock_.wallClock()));
  core_.shutdownReason = *inputs[3].get<LocalizedText>();
  // A shutdown is announced first: clients see the seconds count (Part 5, 12.10).
  core_.state = state;
  core_.shutdownAt = state == ServerState::Shutdown ? clock_.now() + std::chrono::seconds(seconds) : Instant::max();
  core_.stateHandler(state, seconds);
  return {};
}

}  // namespace zunth::server
