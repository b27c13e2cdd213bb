#include "service/server/announcer.hpp"

#include "core/ua/footprint.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/structure_walk.hpp"
#include "core/ua/text.hpp"
#include "service/server/random.hpp"

#include <algorithm>

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

/// A value as the log shows it: on one line, and no longer; not deeper than anybody reads.
std::string shortText(const Variant& value) { return shown(format(value, {100, 8}), 110); }

/// Who had a session whose connection is gone.
Announcer::Actor actorOf(const Session& session) {
  Announcer::Actor actor;
  actor.user = session.isActivated ? session.userName() : std::string();
  actor.application = session.client.applicationUri.str();
  actor.address = session.proof.host;
  return actor;
}

/// What an event repeats of a value: nothing that is longer than the rest of it together.
Variant modest(const Variant& value) {
  constexpr std::size_t kMost = 16 * 1024;
  if (footprint(value, kMost) <= kMost) return value;
  return Variant(String(format(value, {256, 8})));
}

Variant modestArray(const List<Variant>& values) {
  std::vector<Variant> out;
  for (const auto& value : values) out.push_back(modest(value));
  return Variant::array(out);
}

/// Methods whose audit events have types of their own (Part 9, 5.10; Part 12, 7.8.2 and 7.10; Part 18, 4.5).
struct SpecialCall {
  std::string_view method;
  StandardId type;
  bool namesEvent = false;  // of a condition, with a comment
};
constexpr SpecialCall kSpecialCalls[] = {
    {"AddComment", id::AuditConditionCommentEventType, true},
    {"Acknowledge", id::AuditConditionAcknowledgeEventType, true},
    {"Confirm", id::AuditConditionConfirmEventType, true},
    {"Enable", id::AuditConditionEnableEventType},
    {"Disable", id::AuditConditionEnableEventType},
    {"TimedShelve", id::AuditConditionShelvingEventType},
    {"TimedShelve2", id::AuditConditionShelvingEventType},
    {"OneShotShelve", id::AuditConditionShelvingEventType},
    {"OneShotShelve2", id::AuditConditionShelvingEventType},
    {"Unshelve", id::AuditConditionShelvingEventType},
    {"Unshelve2", id::AuditConditionShelvingEventType},
    {"Suppress", id::AuditConditionSuppressionEventType},
    {"Suppress2", id::AuditConditionSuppressionEventType},
    {"Unsuppress", id::AuditConditionSuppressionEventType},
    {"Unsuppress2", id::AuditConditionSuppressionEventType},
    {"RemoveFromService", id::AuditConditionOutOfServiceEventType},
    {"RemoveFromService2", id::AuditConditionOutOfServiceEventType},
    {"PlaceInService", id::AuditConditionOutOfServiceEventType},
    {"PlaceInService2", id::AuditConditionOutOfServiceEventType},
    {"Silence", id::AuditConditionSilenceEventType},
    {"Reset", id::AuditConditionResetEventType},
    {"Reset2", id::AuditConditionResetEventType},
    {"Respond", id::AuditConditionRespondEventType},
    {"Respond2", id::AuditConditionRespondEventType},
    {"CloseAndUpdate", id::TrustListUpdatedAuditEventType},
    {"AddCertificate", id::TrustListUpdatedAuditEventType},
    {"RemoveCertificate", id::TrustListUpdatedAuditEventType},
    {"UpdateCertificate", id::CertificateUpdatedAuditEventType},
    {"ApplyChanges", id::CertificateUpdatedAuditEventType},
    {"AddIdentity", id::RoleMappingRuleChangedAuditEventType},
    {"RemoveIdentity", id::RoleMappingRuleChangedAuditEventType},
    {"AddApplication", id::RoleMappingRuleChangedAuditEventType},
    {"RemoveApplication", id::RoleMappingRuleChangedAuditEventType},
    {"AddEndpoint", id::RoleMappingRuleChangedAuditEventType},
    {"RemoveEndpoint", id::RoleMappingRuleChangedAuditEventType},
};

/// By the standard's name; a model's own method of that name is in another namespace.
const SpecialCall* specialCall(const QualifiedName& name) {
  if (name.namespaceIndex != 0) return nullptr;
  const auto* found = std::ranges::find(kSpecialCalls, name.name.view(), &SpecialCall::method);
  return found == std::end(kSpecialCalls) ? nullptr : found;
}

/// Methods whose arguments hold what nobody else may learn (Part 12, 7.10: keys; Part 18, 5.2: passwords).
bool isSecret(const NodeId& method) {
  static constexpr StandardId kSecret[] = {
      id::ServerConfiguration_UpdateCertificate,
      id::ServerConfigurationType_UpdateCertificate,
      id::UserManagementType_AddUser,
      id::UserManagementType_ModifyUser,
      id::UserManagementType_ChangePassword,
  };
  return std::ranges::any_of(kSecret, [&](StandardId each) { return method.is(each); });
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

constexpr std::size_t kMostCertificate = 64 * 1024;  // octets, of those that are shown in events

/// Part 5, 6.4.12 to 6.4.18.
StandardId typeOfRefusal(StatusCode why) {
  if (why == status::BadCertificateTimeInvalid || why == status::BadCertificateIssuerTimeInvalid)
    return id::AuditCertificateExpiredEventType;
  if (why == status::BadCertificateUntrusted) return id::AuditCertificateUntrustedEventType;
  if (why == status::BadCertificateRevoked || why == status::BadCertificateIssuerRevoked ||
      why == status::BadCertificateRevocationUnknown || why == status::BadCertificateIssuerRevocationUnknown)
    return id::AuditCertificateRevokedEventType;
  if (why == status::BadCertificateUseNotAllowed || why == status::BadCertificateIssuerUseNotAllowed)
    return id::AuditCertificateMismatchEventType;
  if (why == status::BadCertificateUriInvalid || why == status::BadCertificateHostNameInvalid)
    return id::AuditCertificateDataMismatchEventType;
  return id::AuditCertificateInvalidEventType;
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
  event.set("ClientAuditEntryId", actor.auditEntryId)
      .set("ClientUserId", String(actor.user.empty() ? "Anonymous" : actor.user));
  return event;
}

Announcer::Actor::Actor(const Session* session, String entryId, const Peer& peer)
    : address(peer.address()), auditEntryId(std::move(entryId)), channelId(peer.channelId()) {
  if (const auto& proved = peer.security().peer) application = proved->applicationUri();
  if (!session) return;
  if (session->isActivated) user = session->userName();
  if (application.empty()) application = session->client.applicationUri.str();
  sessionId = session->sessionId;
  sessionName = session->name;
}

void Announcer::note(const char* what, const Actor& actor, StatusCode outcome, std::string about) {
  if (!log_) return;
  log_({wallClock_(), what, shown(actor.user), actor.address, shown(actor.application), outcome, std::move(about)});
}

void Announcer::channelOpened(const Peer& peer, const OpenSecureChannelRequest& request, StatusCode status) {
  const auto& security = peer.security();
  if (request.requestType == SecurityTokenRequestType::Issue) {
    const std::string uri = security.policyUri.str();
    note("connection", Actor(nullptr, {}, peer), status, shown(uri.substr(uri.rfind('#') + 1)));
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
  if (why.code.isBad()) note("connection", Actor(nullptr, {}, peer), why.code, shown(why.cause));
  if (!isHeard()) return;
  raise(audit(id::AuditChannelEventType, "SecureChannel/CloseSecureChannel", !why.code.isBad(),
              fmt::format("the secure channel of {} was closed", peer.address()))
            .set("SecureChannelId", String(std::to_string(peer.channelId())))
            .set("StatusCodeId", why.code));
}

void Announcer::certificateRefused(const ByteString& certificate, const Error& why) {
  if (!isHeard() || certificate.size() > kMostCertificate) return;
  Event event = audit(typeOfRefusal(why.code), "Security/Certificate", false,
                      fmt::format("a certificate was refused: {}", shown(why.cause, 300)));
  event.set("Certificate", certificate).set("StatusCodeId", why.code);
  raise(std::move(event));
}

void Announcer::urlMismatched(const Actor& actor, const CreateSessionRequest& request) {
  if (!isHeard()) return;
  raise(audit(id::AuditUrlMismatchEventType, "Security/CreateSession", true,
              fmt::format("{} came by {}, and the server's certificate is for other hosts", actor.address,
                          shown(request.endpointUrl.view())),
              actor)
            .set("EndpointUrl", String(shown(request.endpointUrl.view(), 300)))
            .set("SessionId", actor.sessionId)
            .set("SecureChannelId", String(std::to_string(actor.channelId))));
}

void Announcer::sessionCreated(const Actor& actor, const CreateSessionRequest& request, StatusCode status) {
  const std::string name = shown(request.sessionName.view());
  note("session", actor, status, name);
  if (!isHeard()) return;
  const ByteString certificate =
      request.clientCertificate.size() <= kMostCertificate ? request.clientCertificate : ByteString();
  raise(audit(id::AuditCreateSessionEventType, "Session/CreateSession", !status.isBad(),
              fmt::format("{} asked for a session '{}': {}", actor.address, name, status.name()), actor)
            .set("StatusCodeId", status)
            .set("SessionId", actor.sessionId)
            .set("SecureChannelId", String(std::to_string(actor.channelId)))
            .set("ClientCertificate", certificate)
            .set("ClientCertificateThumbprint", thumbprint(certificate))
            .set("RevisedSessionTimeout", request.requestedSessionTimeout));
}

void Announcer::sessionActivated(const Actor& actor, const ActivateSessionRequest& request, StatusCode status) {
  std::string claimed;
  if (auto named = request.userIdentityToken.as<UserNameIdentityToken>()) claimed = shown(named->userName.view());
  note("login", actor, status, claimed);
  if (!isHeard()) return;
  raise(audit(id::AuditActivateSessionEventType, "Session/ActivateSession", !status.isBad(),
              fmt::format("the session '{}' was activated: {}", shown(actor.sessionName.view()), status.name()), actor)
            .set("StatusCodeId", status)
            .set("SessionId", actor.sessionId)
            .set("ClientSoftwareCertificates", arrayOf(request.clientSoftwareCertificates))
            .set("UserIdentityToken", ExtensionObject::withoutBody(request.userIdentityToken.encodingId()))
            .set("SecureChannelId", String(std::to_string(actor.channelId))));
}

void Announcer::sessionClosed(const Session& session, std::string_view how) {
  const std::string name = shown(session.name.view());
  if (const auto peer = session.peer.lock())
    note("session end", Actor(&session, {}, *peer), status::Good, name);
  else
    note("session end", actorOf(session), status::Good, name);
  if (!isHeard()) return;
  const std::string source = "Session/" + std::string(how);
  raise(audit(id::AuditSessionEventType, source.c_str(), true, fmt::format("the session '{}' ended", name))
            .set("SessionId", session.sessionId)
            .set("StatusCodeId", StatusCode(status::Good)));
}

void Announcer::requestsCancelled(const Actor& actor, std::uint32_t requestHandle) {
  if (!isHeard()) return;
  raise(audit(id::AuditCancelEventType, "Session/Cancel", true, "requests were cancelled", actor)
            .set("SessionId", actor.sessionId)
            .set("StatusCodeId", StatusCode(status::Good))
            .set("RequestHandle", requestHandle));
}

void Announcer::written(const Actor& actor, const WriteValue& write, const Variant& before, StatusCode status) {
  if (!log_ && !isHeard()) return;
  const auto node = space_.find(write.nodeId);
  if (log_)
    note("write", actor, status,
         fmt::format("{} = {}", node == kNoNode ? shown(write.nodeId.text()) : shown(space_.path(node), 300),
                     shortText(write.value.value)));
  if (!isHeard()) return;
  Event event =
      audit(id::AuditWriteUpdateEventType, "Attribute/Write", !status.isBad(),
            fmt::format("{} was written: {}",
                        node == kNoNode ? shown(write.nodeId.text()) : shown(space_.path(node), 300), status.name()),
            actor);
  event.set("SourceNode", write.nodeId)
      .set("AttributeId", write.attributeId)
      .set("IndexRange", write.indexRange)
      .set("NewValue", modest(write.value.value))
      .set("OldValue", modest(before));
  raise(std::move(event));
}

void Announcer::historyUpdated(const Actor& actor, const ExtensionObject& details, const NodeId& nodeId,
                               StatusCode status) {
  if (!log_ && !isHeard()) return;
  const auto node = space_.find(nodeId);
  const std::string name = node == kNoNode ? shown(nodeId.text()) : shown(space_.path(node), 300);
  const std::string_view how = structureNamed(details.encodingId().isNumericIn0() ? details.encodingId().numeric() : 0);
  if (log_) note("history changed", actor, status, fmt::format("{}: {}", name, how));
  if (!isHeard()) return;
  // Part 11, 5.5: each way has its event.
  const bool isRange = details.is<DeleteRawModifiedDetails>(), isTimes = details.is<DeleteAtTimeDetails>();
  const bool isNewEvents = details.is<UpdateEventDetails>(), isOldEvents = details.is<DeleteEventDetails>();
  const auto type = isRange                                    ? id::AuditHistoryRawModifyDeleteEventType
                    : isTimes                                  ? id::AuditHistoryAtTimeDeleteEventType
                    : isNewEvents                              ? id::AuditHistoryEventUpdateEventType
                    : isOldEvents                              ? id::AuditHistoryEventDeleteEventType
                    : details.is<UpdateStructureDataDetails>() ? id::AuditHistoryAnnotationUpdateEventType
                                                               : id::AuditHistoryValueUpdateEventType;
  Event event = audit(type, "Attribute/HistoryUpdate", !status.isBad(),
                      fmt::format("the history of {} was changed: {}", name, status.name()), actor);
  event.set("SourceNode", nodeId).set("UpdatedNode", nodeId);
  event.set("ParameterDataTypeId", details.encodingId());
  if (const auto range =
          isRange ? details.as<DeleteRawModifiedDetails>() : Result<DeleteRawModifiedDetails>(status::Bad))
    event.set("IsDeleteModified", range->isDeleteModified)
        .set("StartTime", range->startTime)
        .set("EndTime", range->endTime);
  if (const auto update =
          details.is<UpdateDataDetails>() ? details.as<UpdateDataDetails>() : Result<UpdateDataDetails>(status::Bad))
    event.set("PerformInsertReplace", static_cast<std::int32_t>(update->performInsertReplace));
  if (const auto update = isNewEvents ? details.as<UpdateEventDetails>() : Result<UpdateEventDetails>(status::Bad))
    event.set("PerformInsertReplace", static_cast<std::int32_t>(update->performInsertReplace));
  if (const auto update = details.is<UpdateStructureDataDetails>() ? details.as<UpdateStructureDataDetails>()
                                                                   : Result<UpdateStructureDataDetails>(status::Bad))
    event.set("PerformInsertReplace", static_cast<std::int32_t>(update->performInsertReplace));
  if (const auto removal = isOldEvents ? details.as<DeleteEventDetails>() : Result<DeleteEventDetails>(status::Bad)) {
    std::vector<Variant> ids;
    for (const auto& id : removal->eventIds) ids.emplace_back(id);
    event.set("EventIds", modestArray(List<Variant>(std::move(ids))));
  }
  raise(std::move(event));
}

void Announcer::called(const Actor& actor, const CallMethodRequest& call, StatusCode status) {
  if (!log_ && !isHeard()) return;
  const auto method = space_.find(call.methodId);
  if (log_) {
    std::string arguments;
    for (const auto& argument : call.inputArguments) {
      if (arguments.size() > 200) break;
      arguments += (arguments.empty() ? "" : ", ") + shortText(argument);
    }
    if (isSecret(call.methodId)) arguments = "...";
    std::string name = method == kNoNode ? call.methodId.text() : space_.path(method);
    // Methods of types are on no path: they have a name, too.
    if (method != kNoNode && name == space_.nodeId(method).text()) name = space_.browseName(method).name.str();
    note("call", actor, status, fmt::format("{}({})", shown(name, 300), arguments));
  }
  if (!isHeard()) return;
  const auto* special = method == kNoNode ? nullptr : specialCall(space_.browseName(method));
  const std::string source = special ? fmt::format("Method/{}", special->method) : "Attribute/Call";
  Event event = audit(
      special ? special->type : id::AuditUpdateMethodEventType, source.c_str(), !status.isBad(),
      fmt::format("{} was called: {}",
                  method == kNoNode ? shown(call.methodId.text()) : shown(space_.path(method), 300), status.name()),
      actor);
  event.set("SourceNode", call.objectId)
      .set("MethodId", call.methodId)
      .set("StatusCodeId", status)
      .set("InputArguments", isSecret(call.methodId) ? Variant() : modestArray(call.inputArguments));
  if (special && special->namesEvent && call.inputArguments.size() >= 2)
    event.set("ConditionEventId", call.inputArguments[0]).set("Comment", modest(call.inputArguments[1]));
  if (special && special->type.value == id::AuditConditionShelvingEventType.value &&
      special->method.starts_with("TimedShelve") && !call.inputArguments.empty())
    event.set("ShelvingTime", call.inputArguments[0]);
  if (special && special->type.value == id::AuditConditionRespondEventType.value && !call.inputArguments.empty())
    event.set("SelectedResponse", call.inputArguments[0]);
  if (special && special->type.value == id::CertificateUpdatedAuditEventType.value && call.inputArguments.size() >= 2)
    event.set("CertificateGroup", call.inputArguments[0]).set("CertificateType", call.inputArguments[1]);
  raise(std::move(event));
}

void Announcer::nodesAdded(const Actor& actor, const List<AddNodesItem>& items, bool allGood) {
  note("add nodes", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return shown(item.browseName.name.view()); }));
  if (isHeard())
    raise(audit(id::AuditAddNodesEventType, "NodeManagement/AddNodes", allGood, "nodes were added", actor)
              .set("NodesToAdd", arrayOf(items)));
}
void Announcer::nodesDeleted(const Actor& actor, const List<DeleteNodesItem>& items, bool allGood) {
  note("delete nodes", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return shown(item.nodeId.text()); }));
  if (isHeard())
    raise(audit(id::AuditDeleteNodesEventType, "NodeManagement/DeleteNodes", allGood, "nodes were deleted", actor)
              .set("NodesToDelete", arrayOf(items)));
}
void Announcer::referencesAdded(const Actor& actor, const List<AddReferencesItem>& items, bool allGood) {
  note("add references", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return shown(item.sourceNodeId.text()); }));
  if (isHeard())
    raise(
        audit(id::AuditAddReferencesEventType, "NodeManagement/AddReferences", allGood, "references were added", actor)
            .set("ReferencesToAdd", arrayOf(items)));
}
void Announcer::referencesDeleted(const Actor& actor, const List<DeleteReferencesItem>& items, bool allGood) {
  note("delete references", actor, allGood ? status::Good : status::Bad,
       listed(items, [](const auto& item) { return shown(item.sourceNodeId.text()); }));
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
  if (!delivery_.isWanted()) return;
  raise(make(id::GeneralModelChangeEventType, kNotable, fmt::format("{} nodes of the model changed", changes.size()))
            .set("Changes", arrayOf(List<ModelChangeStructureDataType>(std::move(changes)))));
}

void Announcer::meaningChanged(space::NodeIndex variable) {
  if (!delivery_.isWanted()) return;
  const auto type = space_.typeDefinition(variable);
  List<SemanticChangeStructureDataType> changes;
  changes.push_back({space_.nodeId(variable), type == kNoNode ? NodeId() : space_.nodeId(type)});
  raise(make(id::SemanticChangeEventType, kNotable,
             fmt::format("what the value of {} means has changed", space_.path(variable)))
            .set("Changes", arrayOf(changes)));
}

}  // namespace zunth::server
