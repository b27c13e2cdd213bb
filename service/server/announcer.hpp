#pragma once

#include "core/monitor/event_delivery.hpp"
#include "service/server/audit_record.hpp"
#include "service/server/session.hpp"

namespace zunth::server {

/// What the server itself announces as events of the Server object: audit (Part 5, 6.4.3 on), changes of the model
/// and of the meaning of values. Makes nothing while nobody listens.
class Announcer {
 public:
  Announcer(space::Space& space, monitor::EventDelivery& delivery, std::function<ua::DateTime()> wallClock,
            bool audits);

  /// An event with the fields that every event has; the source is the Server unless another is given.
  monitor::Event make(ua::StandardId type, std::uint16_t severity, std::string message,
                      space::NodeIndex source = space::kNoNode);
  void raise(monitor::Event event) { delivery_.raise(std::move(event)); }
  /// An id that no other event has.
  ua::ByteString newEventId();
  /// Gets a record of everything that is audited, whether or not somebody listens to events.
  void setAuditLog(std::function<void(const AuditRecord&)> log) { log_ = std::move(log); }
  /// Whether audit events are made at all, as the Auditing property says.
  bool audits() const { return audits_; }

  /// Who does something, as audit names them; it may be kept until it is known what came of it.
  struct Actor {
    std::string user;         // empty before anybody has logged in
    std::string application;  // the URI that was proved, else the one that was claimed
    std::string address;
    ua::String auditEntryId;
    ua::NodeId sessionId;
    ua::String sessionName;
    std::uint32_t channelId = 0;

    Actor() = default;
    Actor(const Session* session, ua::String auditEntryId, const Peer& peer);
  };
  void channelOpened(const Peer& peer, const ua::OpenSecureChannelRequest& request, ua::StatusCode status);
  void channelClosed(const Peer& peer, const ua::Error& why);
  /// A client's certificate was refused, for a reason that Part 4, 6.1.3 names.
  void certificateRefused(const ua::ByteString& certificate, const ua::Error& why);
  /// The session was asked for by a host name that the server's certificate doesn't have (Part 4, 5.6.2).
  void urlMismatched(const Actor& actor, const ua::CreateSessionRequest& request);
  void sessionCreated(const Actor& actor, const ua::CreateSessionRequest& request, ua::StatusCode status);
  void sessionActivated(const Actor& actor, const ua::ActivateSessionRequest& request, ua::StatusCode status);
  void sessionClosed(const Session& session, std::string_view how);
  void requestsCancelled(const Actor& actor, std::uint32_t requestHandle);
  void written(const Actor& actor, const ua::WriteValue& write, const ua::Variant& before, ua::StatusCode status);
  /// Secret arguments, such as private keys, are left out.
  void called(const Actor& actor, const ua::CallMethodRequest& call, ua::StatusCode status);
  void historyUpdated(const Actor& actor, const ua::ExtensionObject& details, const ua::NodeId& node,
                      ua::StatusCode status);
  void nodesAdded(const Actor& actor, const ua::List<ua::AddNodesItem>& items, bool allGood);
  void nodesDeleted(const Actor& actor, const ua::List<ua::DeleteNodesItem>& items, bool allGood);
  void referencesAdded(const Actor& actor, const ua::List<ua::AddReferencesItem>& items, bool allGood);
  void referencesDeleted(const Actor& actor, const ua::List<ua::DeleteReferencesItem>& items, bool allGood);

  /// The nodes of the address space have changed: a GeneralModelChangeEvent, and the NodeVersion of those that have
  /// one.
  void modelChanged(std::vector<ua::ModelChangeStructureDataType> changes);
  /// The meaning of a variable's value has changed, as its range did.
  void meaningChanged(space::NodeIndex variable);

 private:
  bool isHeard() const { return audits_ && delivery_.isWatched(); }
  void note(const char* what, const Actor& actor, ua::StatusCode outcome, std::string about);
  monitor::Event audit(ua::StandardId type, const char* source, bool isGood, std::string message);
  monitor::Event audit(ua::StandardId type, const char* source, bool isGood, std::string message, const Actor& actor);

  space::Space& space_;
  monitor::EventDelivery& delivery_;
  std::function<ua::DateTime()> wallClock_;
  bool audits_;
  std::function<void(const AuditRecord&)> log_;
  std::uint64_t lastEvent_ = 0;
  std::uint64_t eventIdStart_;  // random, so that ids of two runs differ
};

}  // namespace zunth::server
