#include "service/server/server.hpp"

#include "core/ua/structure_walk.hpp"

#include <algorithm>

#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;

Clock Clock::real() {
  return {[] { return std::chrono::steady_clock::now(); },
          [] { return DateTime::from(std::chrono::system_clock::now()); }};
}

Server::Server(space::Space& space, Settings settings, Clock clock)
    : space_(space),
      settings_(std::move(settings)),
      clock_(std::move(clock)),
      startTime_(clock_.wallClock()),
      sampling_(space),
      events_(space),
      announcer_(space, events_, clock_.wallClock, settings_.auditing),
      alarms_(space, {clock_.now, clock_.wallClock, [this] { return announcer_.newEventId(); },
                      [this](const monitor::Event& event) { events_.raise(event); }}),
      directory_(startTime_) {
  fillServerObject();
  space_.setListener([this](space::NodeIndex node, const DataValue& value) {
    sampling_.valueChanged(node, value, clock_.now(), clock_.wallClock());
    alarms_.valueChanged(node);
  });
  space_.setRemovalListener([this](space::NodeIndex node) { nodeRemoved(node); });
  alarms_.bind();
}

Server::~Server() {
  space_.setListener({});
  space_.setRemovalListener({});
}

void Server::nodeRemoved(space::NodeIndex node) {
  alarms_.nodeRemoved(node);
  if (removalHandler_ && writeHandlers_.contains(node)) removalHandler_(node);
  sampling_.nodeRemoved(node, clock_.wallClock());
  events_.nodeRemoved(node);
  writeHandlers_.erase(node);
  sources_.erase(node);
  callHandlers_.erase(node);
  sessionMethods_.erase(node);
}

template <class Request, class Handler>
void Server::serve(Needs needs, Handler handler, const std::shared_ptr<Peer>& peer, std::uint32_t requestId,
                   BinaryReader& reader) {
  Request request;
  reader.read(request);
  const RequestHeader& header = request.requestHeader;
  Reply reply(peer, requestId, header);
  const DateTime wallClock = clock_.wallClock();
  if (!reader.ok()) {
    ++summary_.rejectedRequestsCount;
    return reply.fault(reader.error(), wallClock);
  }
  auto session = sessionOf(header, needs, *peer);
  if (!session) {
    ++summary_.rejectedRequestsCount;
    ++summary_.securityRejectedRequestsCount;
    return reply.fault(session.error(), wallClock);
  }
  if (*session) reply.limit((*session)->maxResponseSize);
  Context context{peer, *session, header, reply, clock_.now(), wallClock};
  auto answer = (this->*handler)(request, context);
  count(context.session, Request::kBinaryId, answer.code());
  if (!answer) return reply.fault(answer.error(), wallClock);
  if constexpr (std::is_same_v<Handler, Answers<Request>>) reply.send(std::move(*answer), wallClock);
}

void Server::handle(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, BytesView body) {
  BinaryReader reader(body);
  const auto type = reader.next<NodeId>();
  const std::uint32_t id = type.isNumericIn0() ? type.numeric() : 0;
  auto run = [&]<class Request, class Handler>(std::type_identity<Request>, Needs needs, Handler handler) {
    serve<Request>(needs, handler, peer, requestId, reader);
  };
  constexpr auto active = Needs::ActivatedSession;
  switch (id) {
#define ZUNTH_SERVICE(Request, needs, handler) \
  case Request::kBinaryId: return run(std::type_identity<Request>{}, needs, &Server::handler);
    ZUNTH_SERVICE(FindServersRequest, Needs::Nothing, findServers)
    ZUNTH_SERVICE(FindServersOnNetworkRequest, Needs::Nothing, findServersOnNetwork)
    ZUNTH_SERVICE(RegisterServerRequest, Needs::Nothing, registerServer)
    ZUNTH_SERVICE(RegisterServer2Request, Needs::Nothing, registerServer2)
    ZUNTH_SERVICE(GetEndpointsRequest, Needs::Nothing, getEndpoints)
    ZUNTH_SERVICE(CreateSessionRequest, Needs::Nothing, createSession)
    ZUNTH_SERVICE(ActivateSessionRequest, Needs::Session, activateSession)
    ZUNTH_SERVICE(CloseSessionRequest, Needs::Session, closeSession)
    ZUNTH_SERVICE(CancelRequest, active, cancel)
    ZUNTH_SERVICE(AddNodesRequest, active, addNodes)
    ZUNTH_SERVICE(DeleteNodesRequest, active, deleteNodes)
    ZUNTH_SERVICE(AddReferencesRequest, active, addReferences)
    ZUNTH_SERVICE(DeleteReferencesRequest, active, deleteReferences)
    ZUNTH_SERVICE(RegisterNodesRequest, active, registerNodes)
    ZUNTH_SERVICE(UnregisterNodesRequest, active, unregisterNodes)
    ZUNTH_SERVICE(QueryFirstRequest, active, queryFirst)
    ZUNTH_SERVICE(QueryNextRequest, active, queryNext)
    ZUNTH_SERVICE(BrowseRequest, active, browse)
    ZUNTH_SERVICE(BrowseNextRequest, active, browseNext)
    ZUNTH_SERVICE(TranslateBrowsePathsToNodeIdsRequest, active, translate)
    ZUNTH_SERVICE(ReadRequest, active, read)
    ZUNTH_SERVICE(WriteRequest, active, write)
    ZUNTH_SERVICE(CallRequest, active, call)
    ZUNTH_SERVICE(CreateSubscriptionRequest, active, createSubscription)
    ZUNTH_SERVICE(ModifySubscriptionRequest, active, modifySubscription)
    ZUNTH_SERVICE(SetPublishingModeRequest, active, setPublishingMode)
    ZUNTH_SERVICE(TransferSubscriptionsRequest, active, transferSubscriptions)
    ZUNTH_SERVICE(DeleteSubscriptionsRequest, active, deleteSubscriptions)
    ZUNTH_SERVICE(PublishRequest, active, publish)
    ZUNTH_SERVICE(RepublishRequest, active, republish)
    ZUNTH_SERVICE(CreateMonitoredItemsRequest, active, createMonitoredItems)
    ZUNTH_SERVICE(ModifyMonitoredItemsRequest, active, modifyMonitoredItems)
    ZUNTH_SERVICE(SetMonitoringModeRequest, active, setMonitoringMode)
    ZUNTH_SERVICE(SetTriggeringRequest, active, setTriggering)
    ZUNTH_SERVICE(DeleteMonitoredItemsRequest, active, deleteMonitoredItems)
#undef ZUNTH_SERVICE
    default: break;
  }
  // Every request starts with its header, so the handle can be given back even for a service that isn't known.
  const auto header = reader.next<RequestHeader>();
  const Reply reply(peer, requestId, header);
  ++summary_.rejectedRequestsCount;
  if (!reader.ok())
    return reply.fault({status::BadDecodingError, "the request has no sound header", {}}, clock_.wallClock());
  const auto name = structureNamed(id);
  reply.fault({status::BadServiceUnsupported,
               "this server has no service for " + (name.empty() ? type.text() : std::string(name)),
               {}},
              clock_.wallClock());
}

Result<Session*> Server::sessionOf(const RequestHeader& header, Needs needs, const Peer& peer) {
  if (needs == Needs::Nothing) return nullptr;
  const auto found = sessions_.find(header.authenticationToken);
  if (found == sessions_.end())
    return Error{status::BadSessionIdInvalid, "the server knows no such session: it ended or timed out", {}};
  Session& session = *found->second;
  session.lastContact = clock_.now();
  session.diagnostics.clientLastContactTime = clock_.wallClock();
  if (needs == Needs::Session) return &session;
  if (!session.isActivated) return Error{status::BadSessionNotActivated, "the session is not activated yet", {}};
  if (session.channelId != peer.channelId())
    return Error{status::BadSecureChannelIdInvalid, "the session belongs to another secure channel", {}};
  return &session;
}

Result<void> Server::checkCount(std::size_t operations) const {
  if (operations == 0) return Error{status::BadNothingToDo, "the request names nothing to do", {}};
  if (operations > settings_.limits.maxOperationsPerRequest)
    return Error{status::BadTooManyOperations,
                 std::to_string(operations) + " operations in one request; " +
                     std::to_string(settings_.limits.maxOperationsPerRequest) + " are allowed",
                 {}};
  return {};
}

void Server::keepOutstanding(const Context& context, std::shared_ptr<Outstanding> answer) {
  waiting_.push_back({context.giveUpAt(), context.session->token, answer});
}

void Server::tick() {
  const Instant now = clock_.now();
  sampling_.tick(now, clock_.wallClock());
  alarms_.tick();
  std::erase_if(waiting_, [now](Waiting& waiting) {
    const auto answer = waiting.answer.lock();
    if (answer && waiting.giveUpAt <= now)
      answer->giveUp({status::BadTimeout, "the device did not answer in the time that the request allows", {}});
    return !answer || waiting.giveUpAt <= now;
  });
  std::vector<Session*> ended;
  for (auto& [token, session] : sessions_) {
    if (now - session->lastContact > milliseconds(session->timeout)) {
      ended.push_back(session.get());
      continue;
    }
    tickSubscriptions(*session, now);
  }
  for (Session* session : ended) {
    ++summary_.sessionTimeoutCount;
    endSession(*session, {status::BadSessionClosed, "the session timed out", {}}, Subscriptions::Keep);
  }
  tickOrphans(now);
  directory_.forgetOld(now);
}

Instant Server::nextDue() const {
  Instant due = std::min(sampling_.nextDue(), alarms_.nextDue());
  for (const auto& waiting : waiting_) due = std::min(due, waiting.giveUpAt);
  for (const auto& [id, orphan] : orphans_) due = std::min(due, orphan.subscription->cycleDue());
  for (const auto& [token, session] : sessions_) {
    due = std::min(due, session->lastContact + milliseconds(session->timeout + 1));
    for (const auto& [id, subscription] : session->subscriptions) due = std::min(due, subscription->cycleDue());
    if (!session->publishes.empty()) due = std::min(due, session->publishes.front().giveUpAt);
  }
  return due;
}

void Server::shutdown() {
  state_ = ServerState::Shutdown;
  while (!sessions_.empty())
    endSession(*sessions_.begin()->second, {status::BadShutdown, "the server is shutting down", {}},
               Subscriptions::Delete);
  for (const auto& [id, orphan] : orphans_) drop(*orphan.subscription);
  orphans_.clear();
}

std::size_t Server::subscriptionCount() const {
  std::size_t count = orphans_.size();
  for (const auto& [token, session] : sessions_) count += session->subscriptions.size();
  return count;
}

void Server::channelOpened(const Peer& peer, const OpenSecureChannelRequest& request) {
  announcer_.channelOpened(peer, request, status::Good);
}
void Server::channelClosed(const Peer& peer, const Error& why) { announcer_.channelClosed(peer, why); }

}  // namespace zunth::server
