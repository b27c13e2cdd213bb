#include "service/server/server.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

namespace {

CallOutcome refused(const Error& why) { return {why, {}}; }

}  // namespace

/// The session's own subscription of this id: BadSubscriptionIdInvalid, BadUserAccessDenied when it is another's.
Result<monitor::Subscription*> Server::ownSubscription(const Variant& id, Context& context) const {
  const std::uint32_t number = *id.get<std::uint32_t>();
  if (auto* own = subscriptionOf(context, number)) return own;
  for (const auto& [token, session] : sessions_)
    if (session->subscriptions.contains(number))
      return Error{status::BadUserAccessDenied, "the subscription belongs to another session", {}};
  return Error{status::BadSubscriptionIdInvalid, fmt::format("there is no subscription {}", number), {}};
}

/// Part 5, 9.1.
CallOutcome Server::getMonitoredItems(const std::vector<Variant>& inputs, Context& context) {
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

CallOutcome Server::conditionRefresh(const std::vector<Variant>& inputs, Context& context) {
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
  constexpr std::uint16_t kQuiet = 100;
  const auto tell = [&](const monitor::Event& event, bool isForAll) {
    events_.raiseTo(**subscription, item, event, isForAll);
  };
  // Between both marks a client takes what it hears for how things stand, and not for news.
  tell(announcer_.make(id::RefreshStartEventType, kQuiet, "the conditions follow as they stand"), true);
  for (const auto& event : alarms_.retained()) tell(event, false);
  tell(announcer_.make(id::RefreshEndEventType, kQuiet, "these are the conditions"), true);
  return {};
}

/// Part 5, 9.2.
CallOutcome Server::resendData(const std::vector<Variant>& inputs, Context& context) {
  auto subscription = ownSubscription(inputs[0], context);
  if (!subscription) return refused(subscription.error());
  (*subscription)->resendData(context.wallClock);
  return {};
}

/// Part 5, 9.3; Part 4, 6.8.
CallOutcome Server::setSubscriptionDurable(const std::vector<Variant>& inputs, Context& context) {
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
CallOutcome Server::requestServerStateChange(const std::vector<Variant>& inputs, Context& context) {
  if (context.peer->security().mode != MessageSecurityMode::SignAndEncrypt)
    return refused(
        {status::BadSecurityModeInsufficient, "the server's state is changed over encrypted connections", {}});
  const bool isAdministrator = context.rights().hasRole(id::WellKnownRole_ConfigureAdmin) ||
                               context.rights().hasRole(id::WellKnownRole_SecurityAdmin);
  if (!isAdministrator || !stateHandler_)
    return refused({status::BadUserAccessDenied, "the server's state is changed by its administrators", {}});
  const auto state = static_cast<ServerState>(*inputs[0].get<std::int32_t>());
  if (state != ServerState::Shutdown && state != ServerState::Suspended && state != ServerState::Running)
    return refused({status::BadInvalidArgument, "the server can be running, suspended or shut down", {}});
  state_ = state;
  shutdownReason_ = *inputs[3].get<LocalizedText>();
  stateHandler_(state, *inputs[2].get<std::uint32_t>());
  return {};
}

}  // namespace zunth::server
