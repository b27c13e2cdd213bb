#include "service/server/server.hpp"

#include "core/history/kept_event.hpp"
#include "core/history/variables.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/structure_walk.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

Server::Server(space::Space& space, Settings settings, Clock clock)
    : core_(space, std::move(settings), std::move(clock)),
      object_(core_),
      discovery_(core_),
      subscriptions_(core_, [this](Session& session) { sessions_.grant(session); }),
      sessions_(core_, discovery_, subscriptions_, object_),
      views_(core_),
      queries_(core_),
      attributes_(core_, object_, [this] { sessions_.grantAll(); }),
      histories_(core_),
      historyUpdates_(core_),
      refreshes_(core_),
      objectMethods_(core_, subscriptions_, refreshes_),
      methods_(core_, objectMethods_),
      items_(core_, subscriptions_),
      nodes_(core_) {
  object_.fill();
  core_.alarms.bind();
}

template <class Request, class Of, class Handler>
void Server::serve(Needs needs, Of& service, Handler handler, const std::shared_ptr<Peer>& peer,
                   std::uint32_t requestId, BinaryReader& reader) {
  const DateTime wallClock = core_.clock.wallClock();
  // Who asks, first: what strangers send is not worth more memory than it takes itself.
  BinaryReader ahead(reader.rest());
  const auto header = ahead.next<RequestHeader>();
  Reply reply(peer, requestId, header, Request::kBinaryId);
  const auto refuse = [&](const Error& why, bool isForSecurity) {
    ++core_.summary.rejectedRequestsCount;
    core_.summary.securityRejectedRequestsCount += isForSecurity;
    return reply.fault(why, wallClock);
  };
  if (!ahead.ok()) return refuse(ahead.error(), false);
  auto session = sessions_.of(header.authenticationToken, needs, *peer);
  if (!session) return refuse(session.error(), true);
  const std::size_t most = core_.settings.limits.maxRequestBeforeActivation;
  if (needs != Needs::ActivatedSession && reader.remaining() > most)
    return refuse({status::BadRequestTooLarge,
                   fmt::format("before a session is activated, requests have {} octets at most", most),
                   {}},
                  true);
  Request request;
  reader.read(request);
  if (!reader.ok()) return refuse(reader.error(), false);
  if (*session) reply.limit((*session)->maxResponseSize);
  Context context{peer,  *session,          Request::kBinaryId, header.auditEntryId, milliseconds(header.timeoutHint),
                  reply, core_.clock.now(), wallClock};
  if constexpr (std::is_same_v<Handler, Job (Of::*)(Request, Context)>) {
    (service.*handler)(std::move(request), std::move(context));
  } else {
    auto answer = (service.*handler)(request, context);
    if constexpr (std::is_same_v<decltype(answer), Result<void>>) {
      core_.count(context.session, context.requestType, answer.code());
      if (!answer) reply.fault(answer.error(), wallClock);
    } else {
      core_.answer(context, std::move(answer));
    }
  }
}

void Server::handle(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, BytesView body) {
  BinaryReader reader(body, {.maxParts = core_.settings.limits.maxPartsPerRequest});
  const auto type = reader.next<NodeId>();
  core_.turns.begin(core_.sliceLength());
  core_.events.setSlice(core_.turns.slice());
  constexpr auto active = Needs::ActivatedSession;
  switch (type.isNumericIn0() ? type.numeric() : 0) {
#define ZUNTH_SERVICE(Request, needs, service, handler)                                                          \
  case Request::kBinaryId:                                                                                       \
    return serve<Request>(needs, service, &std::remove_reference_t<decltype(service)>::handler, peer, requestId, \
                          reader);
    ZUNTH_SERVICE(FindServersRequest, Needs::Nothing, discovery_, findServers)
    ZUNTH_SERVICE(FindServersOnNetworkRequest, Needs::Nothing, discovery_, findServersOnNetwork)
    ZUNTH_SERVICE(RegisterServerRequest, Needs::Nothing, discovery_, registerServer)
    ZUNTH_SERVICE(RegisterServer2Request, Needs::Nothing, discovery_, registerServer2)
    ZUNTH_SERVICE(GetEndpointsRequest, Needs::Nothing, discovery_, getEndpoints)
    ZUNTH_SERVICE(CreateSessionRequest, Needs::Nothing, sessions_, createSession)
    ZUNTH_SERVICE(ActivateSessionRequest, Needs::Session, sessions_, activateSession)
    ZUNTH_SERVICE(CloseSessionRequest, Needs::Session, sessions_, closeSession)
    ZUNTH_SERVICE(CancelRequest, active, sessions_, cancel)
    ZUNTH_SERVICE(AddNodesRequest, active, nodes_, addNodes)
    ZUNTH_SERVICE(DeleteNodesRequest, active, nodes_, deleteNodes)
    ZUNTH_SERVICE(AddReferencesRequest, active, nodes_, addReferences)
    ZUNTH_SERVICE(DeleteReferencesRequest, active, nodes_, deleteReferences)
    ZUNTH_SERVICE(RegisterNodesRequest, active, views_, registerNodes)
    ZUNTH_SERVICE(UnregisterNodesRequest, active, views_, unregisterNodes)
    ZUNTH_SERVICE(QueryFirstRequest, active, queries_, queryFirst)
    ZUNTH_SERVICE(QueryNextRequest, active, queries_, queryNext)
    ZUNTH_SERVICE(BrowseRequest, active, views_, browse)
    ZUNTH_SERVICE(BrowseNextRequest, active, views_, browseNext)
    ZUNTH_SERVICE(TranslateBrowsePathsToNodeIdsRequest, active, views_, translate)
    ZUNTH_SERVICE(ReadRequest, active, attributes_, read)
    ZUNTH_SERVICE(WriteRequest, active, attributes_, write)
    ZUNTH_SERVICE(HistoryReadRequest, active, histories_, historyRead)
    ZUNTH_SERVICE(HistoryUpdateRequest, active, historyUpdates_, historyUpdate)
    ZUNTH_SERVICE(CallRequest, active, methods_, call)
    ZUNTH_SERVICE(CreateSubscriptionRequest, active, subscriptions_, createSubscription)
    ZUNTH_SERVICE(ModifySubscriptionRequest, active, subscriptions_, modifySubscription)
    ZUNTH_SERVICE(SetPublishingModeRequest, active, subscriptions_, setPublishingMode)
    ZUNTH_SERVICE(TransferSubscriptionsRequest, active, subscriptions_, transferSubscriptions)
    ZUNTH_SERVICE(DeleteSubscriptionsRequest, active, subscriptions_, deleteSubscriptions)
    ZUNTH_SERVICE(PublishRequest, active, subscriptions_, publish)
    ZUNTH_SERVICE(RepublishRequest, active, subscriptions_, republish)
    ZUNTH_SERVICE(CreateMonitoredItemsRequest, active, items_, createMonitoredItems)
    ZUNTH_SERVICE(ModifyMonitoredItemsRequest, active, items_, modifyMonitoredItems)
    ZUNTH_SERVICE(SetMonitoringModeRequest, active, items_, setMonitoringMode)
    ZUNTH_SERVICE(SetTriggeringRequest, active, items_, setTriggering)
    ZUNTH_SERVICE(DeleteMonitoredItemsRequest, active, items_, deleteMonitoredItems)
#undef ZUNTH_SERVICE
    default: return refuse(peer, requestId, type, reader);
  }
}

/// Every request starts with its header, so the handle can be given back even for a service that isn't known.
void Server::refuse(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, const NodeId& type,
                    BinaryReader& reader) {
  const auto header = reader.next<RequestHeader>();
  const Reply reply(peer, requestId, header);
  ++core_.summary.rejectedRequestsCount;
  if (!reader.ok())
    return reply.fault({status::BadDecodingError, "the request has no sound header", {}}, core_.clock.wallClock());
  const auto name = structureNamed(type.isNumericIn0() ? type.numeric() : 0);
  reply.fault({status::BadServiceUnsupported,
               "this server has no service for " + (name.empty() ? shown(type.text()) : std::string(name)),
               {}},
              core_.clock.wallClock());
}

void Server::tick() {
  const Instant now = core_.clock.now();
  Slice& slice = core_.turns.begin(core_.sliceLength());
  core_.events.setSlice(slice);
  core_.events.tick();
  core_.sampling.tick(now, core_.clock.wallClock(), slice);
  core_.alarms.setSlice(slice);
  core_.alarms.tick();
  refreshes_.tick(slice);
  while (Outstanding* due = core_.answersDue.take(now))
    due->shared_from_this()->giveUp(
        {status::BadTimeout, "the device did not answer in the time that the request allows", {}});
  sessions_.tick(now);
  Slice publishing = core_.turns.begin(core_.sliceLength());
  subscriptions_.tick(now, publishing);
  core_.directory.forgetOld(now);
  core_.turns.run(core_.sliceLength());
}

Instant Server::nextDue() const {
  if (core_.turns.hasWork() || core_.events.hasMore() || subscriptions_.hasWork()) return Instant::min();
  return std::min({core_.sampling.nextDue(), core_.alarms.nextDue(), refreshes_.nextDue(), core_.answersDue.next(),
                   core_.sessionsDue.next(), core_.cyclesDue.next()});
}

void Server::shutdown() {
  core_.state = ServerState::Shutdown;
  sessions_.shutdown();
  subscriptions_.shutdown();
}

void Server::serveHistory(history::Archive& archive) {
  core_.archive = &archive;
  // What is audited has a log of its own.
  core_.events.setKeeper([this, &archive](const monitor::Event& event) {
    if (core_.space.isSubtype(event.type(), id::AuditEventType)) return;
    const Variant time = event.field({{0, String("Time")}});
    const auto* when = time.get<DateTime>();
    const auto keep = [&](DateTime at, const monitor::Event& kept) {
      return archive.append({at, history::encodeEvent(core_.space, kept)});
    };
    const DateTime happened = history::plausibleTime(when ? *when : DateTime(), core_.clock.wallClock());
    if (unkeptEvents_) {
      const auto mark =
          core_.announcer.make(id::EventQueueOverflowEventType, 900,
                               fmt::format("{} events were not kept: more came than the history took", unkeptEvents_));
      if (keep(core_.clock.wallClock(), mark)) unkeptEvents_ = 0;
    }
    unkeptEvents_ += unkeptEvents_ || !keep(happened, event);
  });
  object_.fillHistory([&archive] { return archive.beginsAt(); });
}

void Server::setRoles(std::vector<secure::RoleRule> rules) {
  core_.settings.roles = std::move(rules);
  object_.fillRoles();
  sessions_.grantAll();
}

void Server::adopt(const Settings& wanted) {
  auto& settings = core_.settings;
  settings.applicationName = wanted.applicationName;
  settings.allowUnsecured = wanted.allowUnsecured;
  settings.offer = wanted.offer;
  settings.allowAnonymous = wanted.allowAnonymous;
  settings.allowNodeManagement = wanted.allowNodeManagement;
  settings.acceptRegistrations = wanted.acceptRegistrations;
  settings.maxMessageSize = wanted.maxMessageSize;
  settings.limits = wanted.limits;
  setRoles(wanted.roles);
}

void Server::channelOpened(const Peer& peer, const OpenSecureChannelRequest& request) {
  core_.announcer.channelOpened(peer, request, status::Good);
}

const Session* Server::sessionOf(const NodeId& sessionId) const {
  const auto found =
      std::ranges::find_if(core_.sessions, [&](const auto& entry) { return entry.second->sessionId == sessionId; });
  return found == core_.sessions.end() ? nullptr : found->second.get();
}

void Server::endSession(const NodeId& sessionId, const Error& why) {
  const auto found =
      std::ranges::find_if(core_.sessions, [&](const auto& entry) { return entry.second->sessionId == sessionId; });
  if (found != core_.sessions.end()) sessions_.end(*found->second, why, Sessions::Keep::Nothing);
}

std::vector<const Session*> Server::sessionList() const {
  std::vector<const Session*> out;
  for (const auto& [token, session] : core_.sessions) out.push_back(session.get());
  return out;
}

bool Server::hasSession(std::uint32_t channelId) const {
  return std::ranges::any_of(core_.sessions, [channelId](const auto& entry) {
    return entry.second->isActivated && entry.second->channelId == channelId;
  });
}

}  // namespace zunth::server
