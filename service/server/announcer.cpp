#include "service/server/announcer.hpp"

#include "core/ua/text.hpp"
#include "service/server/random.hpp"

#include <fmt/format.h>
#include <openssl/sha.h>

namespace zunth::server {

using namespace ua;
using monitor::Event;
using space::kNoNode;

namespace {

constexpr std::uint16_t kQuiet = 50, kNotable = 200, kAlarming = 500;  // severities

template <class Structure>
Variant arrayOf(const List<Structure>& items) {
  std::vector<ExtensionObject> objects;
  for (const auto& item : items) objects.push_back(ExtensionObject::of(item));
  return Variant::array(objects);
}

/// A value as the log shows it: no longer than a line.
std::string shortText(const Variant& value) {
  std::string text = format(value);
  if (text.size() > 100) text = text.substr(0, 100) + "...";
  return text;
}

/// The first few of them by name.
template <class Items, class Name>
std::string listed(const Items& items, Name name) {
  constexpr std::size_t kNamed = 5;
  std::string out;
  for (std::size_t i = 0; i < items.size() && i < kNamed; ++i) out += (i ? ", " : "") + name(items[i]);
  if (items.size() > kNamed) out += fmt::format(" and {} more", items.size() - kNamed);
  return out;
}

String thumbprint(const ByteString& certificate) {
  if (certificate.empty()) return {};
  unsigned char digest[SHA_DIGEST_LENGTH];
  SHA1(reinterpret_cast<const unsigned char*>(certificate.data()), certificate.size(), digest);
  std::string text;
  for (unsigned char octet : digest) text += fmt::format("{:02X}", octet);
  return String(text);
}

}  // namespace

Announcer::Announcer(space::Space& space, monitor::EventDelivery& delivery, std::function<DateTime()> wallClock,
                     bool audits)
    : space_(space),
      delivery_(delivery),
      wallClock_(std::move(wallClock)),
      audits_(audits),
      eventIdStart_(randomNumber()) {}

ByteString Announcer::newEventId() {
  const std::uint64_t eventId[2] = {eventIdStart_, ++lastEvent_};
  return ByteString(eventId, sizeof eventId);
}

Event Announcer::make(StandardId type, std::uint16_t severity, std::string message, space::NodeIndex source) {
  if (source == kNoNode) source = space_.at(id::Server);
  Event event(space_.at(type), source);
  const DateTime now = wallClock_();
  event.set("EventId", newEventId())
      .set("EventType", NodeId(type))
      .set("SourceNode", space_.nodeId(source))
      .set("SourceName", space_.displayName(source).text)
      .set("Time", now)
      .set("ReceiveTime", now)
      .set("Message", LocalizedText(String(message), "en"))
      .set("Severity", severity);
  return event;
}

Event Announcer::audit(StandardId type, const char* source, bool isGood, std::string message) {
  Event event = make(type, isGood ? kQuiet : kAlarming, std::move(message));
  event.set("SourceName", String(source))
      .set("ActionTimeStamp", wallClock_())
      .set("Status", isGood)
      .set("ServerId", space_.namespaces().at(1))
      .set("ClientAuditEntryId", String())
      .set("ClientUserId", String());
  return event;
}

Event Announcer::audit(StandardId type, const char* source, bool isGood, std::string message, const Actor& actor) {
  Event event = audit(type, source, isGood, std::move(message));
  event.set("ClientAuditEntryId", actor.header.auditEntryId)
      .set("ClientUserId",
           actor.session && !actor.session->user.name.empty() ? actor.session->user.name : String("Anonymous"));
  return event;
}

void Announcer::note(const char* what, const Peer& peer, const Session* session, StatusCode outcome,
                     std::string about) {
  if (!log_) return;
  AuditRecord record{wallClock_(), what, {}, peer.address(), {}, outcome, std::move(about)};
  if (session && session->isActivated) record.who = session->user.name.empty() ? "Anonymous" : session->user.name.str();
  if (session) record.application = session->client.applicationUri.str();
  if (auto certificate = secure::Certificate::fromDer(peer.security().peerCertificate))
    record.application = certificate->applicationUri();
  log_(record);
}

void Announcer::channelOpened(const Peer& peer, const OpenSecureChannelRequest& request, StatusCode status) {
  const auto& security = peer.security();
  if (request.requestType == SecurityTokenRequestType::Issue) {
    const std::string uri = security.policyUri.str();
    note("connection", peer, nullptr, status, uri.substr(uri.rfind('#') + 1));
  }
  if (!isHeard()) return;
  raise(audit(id::AuditOpenSecureChannelEventType, "SecureChannel/OpenSecureChannel", !status.isBad(),
              fmt::format("{} opened a secure channel", peer.address()))
            .set("SecureChannelId", String(std::to_string(peer.channelId())))
            .set("ClientCertificate", security.peerCertificate)
            .set("ClientCertificateThumbprint", thumbprint(security.peerCertificate))
            .set("RequestType", static_cast<std::int32_t>(request.requestType))
            .set("SecurityPolicyUri", security.policyUri)
            .set("SecurityMode", static_cast<std::int32_t>(security.mode))
            .set("RequestedLifetime", static_cast<double>(request.requestedLifetime))
            .set("StatusCodeId", status));
}

void Announcer::channelClosed(const Peer& peer, const Error& why) {
  if (why.code.isBad()) note("connection", peer, nullptr, why.code, why.cause);
  if (!isHeard()) return;
  raise(audit(id::AuditChannelEventType, "SecureChannel/CloseSecureChannel", !why.code.isBad(),
              fmt::format("the secure channel of {} was closed", peer.address()))
            .set("SecureChannelId", String(std::to_string(peer.channelId())))
            .set("StatusCodeId", why.code));
}

void Announcer::sessionCreated(const Actor& actor, const CreateSessionRequest& request, StatusCode status) {
  note("session", actor, status, request.sessionName.str());
  if (!isHeard()) return;
  raise(audit(id::AuditCreateSessionEventType, "Session/CreateSession", !status.isBad(),
              fmt::format("{} asked for a session '{}': {}", actor.peer.address(), request.sessionName.view(),
                          status.name()),
              actor)
            .set("StatusCodeId", status)
            .set("SessionId", actor.session ? actor.session->sessionId : NodeId())
            .set("SecureChannelId", String(std::to_string(actor.peer.channelId())))
            .set("ClientCertificate", request.clientCertificate)
            .set("ClientCertificateThumbprint", thumbprint(request.clientCertificate))
            .set("RevisedSessionTimeout", actor.session ? actor.session->timeout : 0.0));
}

void Announcer::sessionActivated(const Actor& actor, const ActivateSessionRequest& request, StatusCode status) {
  std::string claimed;
  if (auto named = request.userIdentityToken.as<UserNameIdentityToken>()) claimed = named->userName.str();
  note("login", actor, status, claimed);
  if (!isHeard()) return;
  raise(audit(id::AuditActivateSessionEventType, "Session/ActivateSession", !status.isBad(),
              fmt::format("the session '{}' was activated: {}", actor.session->name.view(), status.name()), actor)
            .set("StatusCodeId", status)
            .set("SessionId", actor.session->sessionId)
            .set("ClientSoftwareCertificates", arrayOf(request.clientSoftwareCertificates))
            .set("UserIdentityToken", ExtensionObject::withoutBody(request.userIdentityToken.encodingId()))
            .set("SecureChannelId", String(std::to_string(actor.peer.channelId()))));
}

void Announcer::sessionClosed(const Session& session, std::string_view how) {
  if (const auto peer = session.peer.lock()) note("session end", *peer, &session, status::Good, session.name.str());
  if (!isHeard()) return;
  const std::string source = "Session/" + std::string(how);
  raise(
      audit(id::AuditSessionEventType, source.c_str(), true, fmt::format("the session '{}' ended", session.name.view()))
          .set("SessionId", session.sessionId)
          .set("StatusCodeId", StatusCode(status::Good)));
}

void Announcer::requestsCancelled(const Actor& actor, std::uint32_t requestHandle) {
  if (!isHeard()) return;
  raise(audit(id::AuditCancelEventType, "Session/Cancel", true, "requests were cancelled", actor)
            .set("SessionId", actor.session->sessionId)
            .set("StatusCodeId", StatusCode(status::Good))
            .set("RequestHandle", requestHandle));
}

void Announcer::written(const Actor& actor, const WriteValue& write, const Variant& before, StatusCode status) {
  if (!log_ && !isHeard()) return;
  const auto node = space_.find(write.nodeId);
  if (log_)
    note("write", actor, status,
         fmt::format("{} = {}", node == kNoNode ? write.nodeId.text() : space_.path(node),
                     shortText(write.value.value)));
  if (!isHeard()) return;
  Event event =
      audit(id::AuditWriteUpdateEventType, "Attribute/Write", !status.isBad(),
            fmt::format("{} was written: {}", node == kNoNode ? write.nodeId.text() : space_.path(node), status.name()),
            actor);
  event.set("SourceNode", write.nodeId)
      .set("AttributeId", write.attributeId)
      .set("IndexRange", write.indexRange)
      .set("NewValue", write.value.value)
      .set("OldValue", before);
  raise(event);
}

void Announcer::called(const Actor& actor, const CallMethodRequest& call, StatusCode status) {
  if (!log_ && !isHeard()) return;
  const auto method = space_.find(call.methodId);
  if (log_) {
    std::string arguments;
    for (const auto& argument : call.inputArguments) arguments += (arguments.empty() ? "" : ", ") + shortText(argument);
    note("call", actor, status,
         fmt::format("{}({})", method == kNoNode ? call.methodId.text() : space_.path(method), arguments));
  }
  if (!isHeard()) return;
  Event event = audit(
      id::AuditUpdateMethodEventType, "Attribute/Call", !status.isBad(),
      fmt::format("{} was called: {}", method == kNoNode ? call.methodId.text() : space_.path(method), status.name()),
      actor);
  event.set("SourceNode", call.objectId)
      .set("MethodId", call.methodId)
      .set("StatusCodeId", status)
      .set("InputArguments", Variant::array(std::vector<Variant>(call.inputArguments)));
  raise(event);
}

void Announcer::nodesAdded(const Actor& actor, const List<AddNodesItem>& items, bool allGood) {
  note("add nodes", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return item.browseName.name.str(); }));
  if (isHeard())
    raise(audit(id::AuditAddNodesEventType, "NodeManagement/AddNodes", allGood, "nodes were added", actor)
              .set("NodesToAdd", arrayOf(items)));
}
void Announcer::nodesDeleted(const Actor& actor, const List<DeleteNodesItem>& items, bool allGood) {
  note("delete nodes", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return item.nodeId.text(); }));
  if (isHeard())
    raise(audit(id::AuditDeleteNodesEventType, "NodeManagement/DeleteNodes", allGood, "nodes were deleted", actor)
              .set("NodesToDelete", arrayOf(items)));
}
void Announcer::referencesAdded(const Actor& actor, const List<AddReferencesItem>& items, bool allGood) {
  note("add references", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return item.sourceNodeId.text(); }));
  if (isHeard())
    raise(
        audit(id::AuditAddReferencesEventType, "NodeManagement/AddReferences", allGood, "references were added", actor)
            .set("ReferencesToAdd", arrayOf(items)));
}
void Announcer::referencesDeleted(const Actor& actor, const List<DeleteReferencesItem>& items, bool allGood) {
  note("delete references", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return item.sourceNodeId.text(); }));
  if (isHeard())
    raise(audit(id::AuditDeleteReferencesEventType, "NodeManagement/DeleteReferences", allGood,
                "references were deleted", actor)
              .set("ReferencesToDelete", arrayOf(items)));
}

void Announcer::modelChanged(std::vector<ModelChangeStructureDataType> changes) {
  if (changes.empty()) return;
  for (const auto& change : changes) {
    const auto node = space_.find(change.affected);
    const auto version = node == kNoNode ? kNoNode : space_.child(node, {0, "NodeVersion"}, id::HasProperty);
    if (version != kNoNode)
      space_.setValue(version, DataValue(Variant(String(std::to_string(++lastEvent_))), wallClock_()));
  }
  if (!delivery_.isWatched()) return;
  raise(make(id::GeneralModelChangeEventType, kNotable, fmt::format("{} nodes of the model changed", changes.size()))
            .set("Changes", arrayOf(List<ModelChangeStructureDataType>(std::move(changes)))));
}

void Announcer::meaningChanged(space::NodeIndex variable) {
  if (!delivery_.isWatched()) return;
  const auto type = space_.typeDefinition(variable);
  List<SemanticChangeStructureDataType> changes;
  changes.push_back({space_.nodeId(variable), type == kNoNode ? NodeId() : space_.nodeId(type)});
  raise(make(id::SemanticChangeEventType, kNotable,
             fmt::format("what the value of {} means has changed", space_.path(variable)))
            .set("Changes", arrayOf(changes)));
}

}  // namespace zunth::server
