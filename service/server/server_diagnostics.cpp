#include "core/space/instances.hpp"
#include "service/server/server.hpp"
#include "service/server/structure_nodes.hpp"

#include <algorithm>

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

template <class Structure>
Variant objectsOf(const std::vector<Structure>& items) {
  return asValue(List<Structure>(items));
}

const Error kSwitchedOff{status::BadOutOfService, "diagnostics are switched off", {}};

}  // namespace

void Server::count(Session* session, std::uint32_t requestId, StatusCode outcome) {
  if (outcome.isBad()) ++summary_.rejectedRequestsCount;
  if (!session) return;
  auto add = [bad = outcome.isBad()](ServiceCounterDataType& counter) {
    ++counter.totalCount;
    counter.errorCount += bad;
  };
  add(session->diagnostics.totalRequestCount);
  if (const auto counter = counterOf(requestId)) add(session->diagnostics.*counter);
  if (outcome == status::BadUserAccessDenied) ++session->diagnostics.unauthorizedRequestCount;
}

ServerDiagnosticsSummaryDataType Server::diagnosticsSummary() const {
  ServerDiagnosticsSummaryDataType out = summary_;
  out.currentSessionCount = static_cast<std::uint32_t>(sessions_.size());
  out.currentSubscriptionCount = static_cast<std::uint32_t>(subscriptionCount());
  std::vector<double> intervals;
  for (const auto& [token, session] : sessions_)
    for (const auto& [id, subscription] : session->subscriptions)
      intervals.push_back(subscription->settings().publishingInterval);
  std::ranges::sort(intervals);
  out.publishingIntervalCount =
      static_cast<std::uint32_t>(std::unique(intervals.begin(), intervals.end()) - intervals.begin());
  return out;
}

SessionDiagnosticsDataType Server::diagnosticsOf(const Session& session) const {
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
  for (const auto& [id, subscription] : session.subscriptions)
    out.currentMonitoredItemsCount += static_cast<std::uint32_t>(subscription->items().size());
  out.currentPublishRequestsInQueue = static_cast<std::uint32_t>(session.publishes.size());
  return out;
}

SessionSecurityDiagnosticsDataType Server::securityOf(const Session& session) const {
  SessionSecurityDiagnosticsDataType out = session.security;
  out.sessionId = session.sessionId;
  out.encoding = "UA Binary";
  out.transportProtocol = "opc.tcp";
  if (const auto peer = session.peer.lock()) {
    out.securityMode = peer->security().mode;
    out.securityPolicyUri = peer->security().policyUri;
  }
  return out;
}

std::vector<SubscriptionDiagnosticsDataType> Server::subscriptionDiagnostics(const Session* ofOne) const {
  std::vector<SubscriptionDiagnosticsDataType> out;
  for (const auto& [token, session] : sessions_) {
    if (ofOne && ofOne != session.get()) continue;
    for (const auto& [id, subscription] : session->subscriptions) {
      out.push_back(subscription->diagnostics());
      out.back().sessionId = session->sessionId;
    }
  }
  if (!ofOne)
    for (const auto& [id, orphan] : orphans_) out.push_back(orphan.subscription->diagnostics());
  std::ranges::sort(out, {}, &SubscriptionDiagnosticsDataType::subscriptionId);
  return out;
}

std::vector<SamplingIntervalDiagnosticsDataType> Server::samplingDiagnostics() const {
  std::map<double, SamplingIntervalDiagnosticsDataType> byInterval;
  for (const auto& [token, session] : sessions_)
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
void Server::fillDiagnostics() {
  diagnosticsOn_ = settings_.diagnostics;
  auto live = [this](StandardId id, std::function<Variant()> compute) {
    const auto node = space_.at(id);
    if (node == space::kNoNode) return;
    space_.setSource(node, [this, compute = std::move(compute)] {
      return diagnosticsOn_ ? DataValue(compute(), clock_.wallClock()) : DataValue(kSwitchedOff.code);
    });
  };
  showStructure<ServerDiagnosticsSummaryDataType>(
      space_, space_.at(id::Server_ServerDiagnostics_ServerDiagnosticsSummary), clock_.wallClock,
      [this]() -> Result<ServerDiagnosticsSummaryDataType> {
        if (!diagnosticsOn_) return kSwitchedOff;
        return diagnosticsSummary();
      });
  live(id::Server_ServerDiagnostics_SubscriptionDiagnosticsArray,
       [this] { return objectsOf(subscriptionDiagnostics(nullptr)); });
  live(id::Server_ServerDiagnostics_SamplingIntervalDiagnosticsArray,
       [this] { return objectsOf(samplingDiagnostics()); });
  live(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionDiagnosticsArray, [this] {
    std::vector<SessionDiagnosticsDataType> all;
    for (const auto& [token, session] : sessions_) all.push_back(diagnosticsOf(*session));
    return objectsOf(all);
  });
  // Part 5, 6.3.6: who is in, and how, is not for everyone.
  space_.setPermissions(
      space_.at(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionSecurityDiagnosticsArray),
      space::administrators());
  live(id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionSecurityDiagnosticsArray, [this] {
    std::vector<SessionSecurityDiagnosticsDataType> all;
    for (const auto& [token, session] : sessions_) all.push_back(securityOf(*session));
    return objectsOf(all);
  });
  const auto flag = space_.at(id::Server_ServerDiagnostics_EnabledFlag);
  space_.setValue(flag, DataValue(Variant(diagnosticsOn_), startTime_));
  space_.traits(flag).accessLevel = AccessLevelType::CurrentRead | AccessLevelType::CurrentWrite;
  setWriteHandler(flag, [this, flag](Variant value, std::function<void(Error)> done) {
    switchDiagnostics(*value.get<bool>());
    space_.setValue(flag, DataValue(std::move(value), clock_.wallClock()));
    done({status::Good, {}, {}});
  });
}

void Server::switchDiagnostics(bool on) {
  if (std::exchange(diagnosticsOn_, on) == on) return;
  for (const auto& [token, session] : sessions_) {
    if (on)
      showSession(*session);
    else
      hideSession(*session);
  }
}

/// A session's own object (Part 5, 6.3.5), whose NodeId is the session's id.
void Server::showSession(const Session& session) {
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
  // The session outlives its nodes: endSession() hides them first.
  const Session* of = &session;
  showStructure<SessionDiagnosticsDataType>(space_, space_.child(*object, {0, "SessionDiagnostics"}), clock_.wallClock,
                                            [this, of] { return diagnosticsOf(*of); });
  showStructure<SessionSecurityDiagnosticsDataType>(space_, space_.child(*object, {0, "SessionSecurityDiagnostics"}),
                                                    clock_.wallClock, [this, of] { return securityOf(*of); });
  if (const auto security = space_.child(*object, {0, "SessionSecurityDiagnostics"}); security != space::kNoNode) {
    space_.setPermissions(security, space::administrators());
    for (const auto& reference : space_.references(security))
      if (reference.isForward() && space_.isSubtype(reference.type(), id::Aggregates))
        space_.setPermissions(reference.target(), space::administrators());
  }
  if (const auto array = space_.child(*object, {0, "SubscriptionDiagnosticsArray"}); array != space::kNoNode)
    space_.setSource(array,
                     [this, of] { return DataValue(objectsOf(subscriptionDiagnostics(of)), clock_.wallClock()); });
}

void Server::hideSession(const Session& session) {
  const auto object = space_.find(session.sessionId);
  if (object == space::kNoNode) return;
  std::vector<space::NodeIndex> doomed{object};
  for (std::size_t i = 0; i < doomed.size(); ++i)
    for (const auto& reference : space_.references(doomed[i]))
      if (reference.isForward() && space_.isSubtype(reference.type(), id::Aggregates))
        doomed.push_back(reference.target());
  for (const auto node : doomed) space_.remove(node);
}

}  // namespace zunth::server
