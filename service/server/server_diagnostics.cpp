#include "core/space/instances.hpp"
#include "core/space/node_set.hpp"
#include "service/server/server_object.hpp"
#include "service/server/structure_nodes.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

template <class Structure>
Variant objectsOf(const std::vector<Structure>& items) {
  return asValue(List<Structure>(items));
}

const Error kSwitchedOff{status::BadOutOfService, "diagnostics are switched off", {}};

}  // namespace

ServerDiagnosticsSummaryDataType ServerObject::diagnosticsSummary() const {
  ServerDiagnosticsSummaryDataType out = core_.summary;
  out.currentSessionCount = static_cast<std::uint32_t>(core_.sessions.size());
  out.currentSubscriptionCount = static_cast<std::uint32_t>(core_.subscriptionOwners.size());
  std::vector<double> intervals;
  for (const auto& [token, session] : core_.sessions)
    for (const auto& [id, subscription] : session->subscriptions)
      intervals.push_back(subscription->settings().publishingInterval);
  std::ranges::sort(intervals);
  out.publishingIntervalCount =
      static_cast<std::uint32_t>(std::unique(intervals.begin(), intervals.end()) - intervals.begin());
  return out;
}

SessionDiagnosticsDataType ServerObject::diagnosticsOf(const Session& session) const {
  SessionDiagnosticsDataType out = session.diagnostics;
  out.sessionId = session.sessionId;
  out.sessionName = session.name;
  out.clientDescription = session.client;
  out.serverUri = settings_.applicationUri;
  out.endpointUrl = session.endpointUrl;
  out.localeIds = session.locales;
  out.actualSessionTimeout = session.timeout;
  out.maxResponseMessageSize = session.maxResponseSize;
  out.currentSubscriptionsCount = static_cast<std::uint32_t>(session.subscriptions.size());
  out.currentMonitoredItemsCount = static_cast<std::uint32_t>(session.itemCount);
  out.currentPublishRequestsInQueue = static_cast<std::uint32_t>(session.publishes.size());
  return out;
}

SessionSecurityDiagnosticsDataType ServerObject::securityOf(const Session& session) const {
  SessionSecurityDiagnosticsDataType out = session.security;
  out.sessionId = session.sessionId;
  const std::string_view transport = session.proof.entrance.transportProfileUri.view();
  out.encoding = transport.ends_with("uajson") ? "UA JSON" : "UA Binary";
  out.transportProtocol = transport.find("/https") != std::string_view::npos ? "opc.https"
                          : transport.find("/wss") != std::string_view::npos ? "opc.wss"
                                                                             : "opc.tcp";
  out.securityMode = session.proof.mode;
  out.securityPolicyUri = session.proof.policyUri;
  return out;
}

std::vector<SubscriptionDiagnosticsDataType> ServerObject::subscriptionDiagnostics(const Session* ofOne) const {
  std::vector<SubscriptionDiagnosticsDataType> out;
  for (const auto& [token, session] : core_.sessions) {
    if (ofOne && ofOne != session.get()) continue;
    for (const auto& [id, subscription] : session->subscriptions) {
      out.push_back(subscription->diagnostics());
      out.back().sessionId = session->sessionId;
    }
  }
  if (!ofOne)
    for (const auto& [id, orphan] : core_.orphans) out.push_back(orphan->subscription->diagnostics());
  std::ranges::sort(out, {}, &SubscriptionDiagnosticsDataType::subscriptionId);
  return out;
}

std::vector<SamplingIntervalDiagnosticsDataType> ServerObject::samplingDiagnostics() const {
  std::map<double, SamplingIntervalDiagnosticsDataType> byInterval;
  for (const auto& [token, session] : core_.sessions)
    for (const auto& [id, subscription] : session->subscriptions)
      for (const auto& [itemId, item] : subscription->items()) {
        if (item->takesEvents()) continue;
        auto& one = byInterval[item->settings().samplingInterval];
        one.samplingInterval = item->settings().samplingInterval;
        ++one.monitoredItemCount;
        one.maxMonitoredItemCount = one.monitoredItemCount;
        one.disabledMonitoredItemCount += item->mode() == MonitoringMode::Disabled;
      }
  std::vector<SamplingIntervalDiagnosticsDataType> out;
  for (const auto& [interval, one] : byInterval) out.push_back(one);
  return out;
}

/// The ServerDiagnostics object (Part 5, 6.3.3): everything is computed when it is read.
void ServerObject::fillDiagnostics() {
  core_.diagnosticsOn = settings_.diagnostics;
  auto live = [this](StandardId id, std::function<Variant()> compute) {
    const auto node = space_.at(id);
    if (node == space::kNoNode) return;
    space_.setSource(node, [this, compute = std::move(compute)] {
      return core_.diagnosticsOn ? DataValue(compute(), clock_.wallClock()) : DataValue(kSwitchedOff.code);
    });
  };
  showStructure<ServerDiagnosticsSummaryDataType>(
      space_, space_.at(id::Server_ServerDiagnostics_ServerDiagnosticsSummary), clock_.wallClock,
      [this]() -> Result<ServerDiagnosticsSummaryDataType> {
        if (!core_.diagnosticsOn) return kSwitchedOff;
        return diagnosticsSummary();
      });
  live(id::Server_ServerDiagnostics_SubscriptionDiagnosticsArray,
       [this] { return objectsOf(subscriptionDiagnostics(nullptr)); });
  live(id::Server_ServerDiagnostics_SamplingIntervalDiagnosticsArray,
       [this] { return objectsOf(samplingDiagnostics()); });
  live(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionDiagnosticsArray, [this] {
    std::vector<SessionDiagnosticsDataType> all;
    for (const auto& [token, session] : core_.sessions) all.push_back(diagnosticsOf(*session));
    return objectsOf(all);
  });
  // Part 5, 6.3.6: who is in, and how, is not for everyone.
  space_.setPermissions(
      space_.at(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionSecurityDiagnosticsArray),
      space::administrators());
  live(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionSecurityDiagnosticsArray, [this] {
    std::vector<SessionSecurityDiagnosticsDataType> all;
    for (const auto& [token, session] : core_.sessions) all.push_back(securityOf(*session));
    return objectsOf(all);
  });
  const auto flag = space_.at(id::Server_ServerDiagnostics_EnabledFlag);
  space_.setValue(flag, DataValue(Variant(core_.diagnosticsOn), core_.startTime));
  space_.traits(flag).accessLevel = AccessLevelType::CurrentRead | AccessLevelType::CurrentWrite;
}

bool ServerObject::write(space::NodeIndex node, const Variant& value) {
  if (node != space_.at(id::Server_ServerDiagnostics_EnabledFlag)) return false;
  switchDiagnostics(*value.get<bool>());
  space_.setValue(node, DataValue(value, clock_.wallClock()));
  return true;
}

void ServerObject::switchDiagnostics(bool on) {
  if (std::exchange(core_.diagnosticsOn, on) == on) return;
  for (const auto& [token, session] : core_.sessions) {
    if (on && session->isActivated)
      showSession(*session);
    else if (!on)
      hideSession(*session);
  }
}

/// A session's own object (Part 5, 6.3.5), whose NodeId is the session's id.
void ServerObject::showSession(const Session& session) {
  const auto summary = space_.at(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary);
  space::NewNode node;
  node.nodeId = session.sessionId;
  node.nodeClass = NodeClass::Object;
  node.browseName = {1, session.name};
  auto object = space_.add(std::move(node));
  if (!object) return;
  space_.refer(summary, id::HasComponent, *object);
  space_.refer(*object, id::HasTypeDefinition, space_.at(id::SessionDiagnosticsObjectType));
  const std::string path = "sessions/" + session.sessionId.guid().text();
  auto paths = std::make_shared<std::map<space::NodeIndex, std::string>>();
  (*paths)[*object] = path;
  space::instantiate(space_, *object, space_.at(id::SessionDiagnosticsObjectType),
                     [this, paths](space::NodeIndex parent, space::NewNode copy) {
                       const std::string own = paths->at(parent) + "/" + copy.browseName.name.str();
                       copy.nodeId = NodeId(1, String(own));
                       auto added = space_.add(std::move(copy));
                       if (added) (*paths)[*added] = own;
                       return added ? *added : space::kNoNode;
                     });
  // Its nodes may be left when the session is not: each looks it up.
  const auto look = [this, token = session.token]() -> const Session* {
    const auto found = core_.sessions.find(token);
    return found == core_.sessions.end() ? nullptr : found->second.get();
  };
  const Error gone{status::BadSessionClosed, {}, {}};
  showStructure<SessionDiagnosticsDataType>(space_, space_.child(*object, {0, "SessionDiagnostics"}), clock_.wallClock,
                                            [this, look, gone]() -> Result<SessionDiagnosticsDataType> {
                                              const Session* of = look();
                                              if (!of) return gone;
                                              return diagnosticsOf(*of);
                                            });
  showStructure<SessionSecurityDiagnosticsDataType>(space_, space_.child(*object, {0, "SessionSecurityDiagnostics"}),
                                                    clock_.wallClock,
                                                    [this, look, gone]() -> Result<SessionSecurityDiagnosticsDataType> {
                                                      const Session* of = look();
                                                      if (!of) return gone;
                                                      return securityOf(*of);
                                                    });
  if (const auto security = space_.child(*object, {0, "SessionSecurityDiagnostics"}); security != space::kNoNode) {
    space_.setPermissions(security, space::administrators());
    for (const auto& reference : space_.references(security))
      if (reference.isForward() && space_.isSubtype(reference.type(), id::Aggregates))
        space_.setPermissions(reference.target(), space::administrators());
  }
  if (const auto array = space_.child(*object, {0, "SubscriptionDiagnosticsArray"}); array != space::kNoNode)
    space_.setSource(array, [this, look, gone] {
      const Session* of = look();
      return of ? DataValue(objectsOf(subscriptionDiagnostics(of)), clock_.wallClock()) : DataValue(gone.code);
    });
}

void ServerObject::hideSession(const Session& session) {
  const auto object = space_.find(session.sessionId);
  if (object == space::kNoNode) return;
  // Its own nodes, and nothing else that somebody may have hung there.
  const std::string own = "sessions/" + session.sessionId.guid().text();
  space::NodeSet doomed;
  doomed.add(object);
  for (std::size_t i = 0; i < doomed.size(); ++i)
    for (const auto& reference : space_.references(doomed[i])) {
      const auto& target = space_.nodeId(reference.target());
      const bool isOwn = target.namespaceIndex() == 1 && target.type() == IdentifierType::String &&
                         target.octets().view().starts_with(own);
      if (isOwn && reference.isForward() && space_.isSubtype(reference.type(), id::Aggregates))
        doomed.add(reference.target());
    }
  for (const auto node : doomed) space_.remove(node);
}

}  // namespace zunth::server
