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
      sampling_(space) {
  fillServerObject();
  space_.setListener([this](space::NodeIndex node, const DataValue& value) {
    sampling_.valueChanged(node, value, clock_.now(), clock_.wallClock());
  });
}

Server::~Server() { space_.setListener({}); }

template <class Request, class Handler>
void Server::serve(Needs needs, Handler handler, const std::shared_ptr<Peer>& peer, std::uint32_t requestId,
                   BinaryReader& reader) {
  Request request;
  reader.read(request);
  const RequestHeader& header = request.requestHeader;
  const Reply reply(peer, requestId, header.requestHandle, WantedDiagnostics::from(header.returnDiagnostics));
  const DateTime wallClock = clock_.wallClock();
  if (!reader.ok()) return reply.fault(reader.error(), wallClock);
  auto session = sessionOf(header, needs, *peer);
  if (!session) return reply.fault(session.error(), wallClock);
  Context context{peer, *session, reply, clock_.now(), wallClock, static_cast<double>(header.timeoutHint)};
  if constexpr (std::is_same_v<Handler, AnswersLater<Request>>) {
    (this->*handler)(request, context);
  } else {
    auto answer = (this->*handler)(request, context);
    if (answer)
      reply.send(std::move(*answer), wallClock);
    else
      reply.fault(answer.error(), wallClock);
  }
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
    ZUNTH_SERVICE(GetEndpointsRequest, Needs::Nothing, getEndpoints)
    ZUNTH_SERVICE(CreateSessionRequest, Needs::Nothing, createSession)
    ZUNTH_SERVICE(ActivateSessionRequest, Needs::Session, activateSession)
    ZUNTH_SERVICE(CloseSessionRequest, Needs::Session, closeSession)
    ZUNTH_SERVICE(BrowseRequest, active, browse)
    ZUNTH_SERVICE(BrowseNextRequest, active, browseNext)
    ZUNTH_SERVICE(TranslateBrowsePathsToNodeIdsRequest, active, translate)
    ZUNTH_SERVICE(ReadRequest, active, read)
    ZUNTH_SERVICE(WriteRequest, active, write)
    ZUNTH_SERVICE(CallRequest, active, call)
    ZUNTH_SERVICE(CreateSubscriptionRequest, active, createSubscription)
    ZUNTH_SERVICE(ModifySubscriptionRequest, active, modifySubscription)
    ZUNTH_SERVICE(SetPublishingModeRequest, active, setPublishingMode)
    ZUNTH_SERVICE(DeleteSubscriptionsRequest, active, deleteSubscriptions)
    ZUNTH_SERVICE(PublishRequest, active, publish)
    ZUNTH_SERVICE(RepublishRequest, active, republish)
    ZUNTH_SERVICE(CreateMonitoredItemsRequest, active, createMonitoredItems)
    ZUNTH_SERVICE(ModifyMonitoredItemsRequest, active, modifyMonitoredItems)
    ZUNTH_SERVICE(SetMonitoringModeRequest, active, setMonitoringMode)
    ZUNTH_SERVICE(DeleteMonitoredItemsRequest, active, deleteMonitoredItems)
#undef ZUNTH_SERVICE
    default: break;
  }
  // Every request starts with its header, so the handle can be given back even for a service that isn't known.
  const auto header = reader.next<RequestHeader>();
  const Reply reply(peer, requestId, header.requestHandle, WantedDiagnostics::from(header.returnDiagnostics));
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

void Server::tick() {
  const Instant now = clock_.now();
  sampling_.tick(now, clock_.wallClock());
  std::vector<Session*> ended;
  for (auto& [token, session] : sessions_) {
    if (now - session->lastContact > milliseconds(session->timeout)) {
      ended.push_back(session.get());
      continue;
    }
    tickSubscriptions(*session, now);
  }
  for (Session* session : ended) endSession(*session, {status::BadSessionClosed, "the session timed out", {}});
}

Instant Server::nextDue() const {
  Instant due = sampling_.nextDue();
  for (const auto& [token, session] : sessions_) {
    due = std::min(due, session->lastContact + milliseconds(session->timeout + 1));
    for (const auto& [id, subscription] : session->subscriptions) due = std::min(due, subscription->cycleDue());
    if (!session->publishes.empty()) due = std::min(due, session->publishes.front().giveUpAt);
  }
  return due;
}

void Server::shutdown() {
  while (!sessions_.empty())
    endSession(*sessions_.begin()->second, {status::BadShutdown, "the server is shutting down", {}});
}

}  // namespace zunth::server
