#pragma once

#include "service/server/discovery.hpp"
#include "service/server/logins.hpp"
#include "service/server/server_object.hpp"
#include "service/server/subscriptions.hpp"

namespace zunth::server {

/// The Session Service Set (Part 4, 5.6): sessions begin, get their users, move between channels, and end.
class Sessions : Service {
 public:
  Sessions(Core& core, Discovery& discovery, Subscriptions& subscriptions, ServerObject& object)
      : Service(core), discovery_(discovery), subscriptions_(subscriptions), object_(object), logins_(core) {}

  ua::Result<ua::CreateSessionResponse> createSession(const ua::CreateSessionRequest&, Context&);
  ua::Result<void> activateSession(const ua::ActivateSessionRequest&, Context&);
  ua::Result<ua::CloseSessionResponse> closeSession(const ua::CloseSessionRequest&, Context&);
  ua::Result<ua::CancelResponse> cancel(const ua::CancelRequest&, Context&);

  /// The session of a token, when it may be used so on this peer's channel. One that is used before it was activated is
  /// closed (Part 4, 5.6.3.1). BadSessionIdInvalid, BadSessionNotActivated, BadSecureChannelIdInvalid.
  enum class Needs { Nothing, Session, ActivatedSession };
  ua::Result<Session*> of(const ua::NodeId& token, Needs needs, const Peer& peer);

  enum class Keep { Nothing, Subscriptions };
  /// `how` is a word of Part 4, 6.5, for the audit: CloseSession, Timeout, Terminated.
  void end(Session& session, const ua::Error& why, Keep keep, std::string_view how = "Terminated");
  /// Ends those whose time is over.
  void tick(ua::Instant now);
  /// Ends all.
  void shutdown();
  /// Ends the sessions of users whose proof has run out, as tokens do.
  void endRunOut();

  /// Gives the session what its user may do, and takes away what it watches beyond that.
  void grant(Session& session);
  void grantAll();
  /// See Server.
  void accountsChanged(const std::function<ua::Result<Account>(const User& user)>& accountOf);

 private:
  ua::Result<ua::CreateSessionResponse> newSession(const ua::CreateSessionRequest&, Context&);
  ua::Result<void> checkTexts(const ua::CreateSessionRequest& request) const;
  ua::Result<void> checkShares(const Context& context);
  ua::Result<void> checkClientCertificate(const ua::CreateSessionRequest&, const Context&) const;
  /// Whether a session may go on on this channel (Part 4, 5.6.3.1).
  ua::Result<void> checkChannel(const Session& session, const Peer& peer) const;
  ua::Result<void> checkClientSignature(const ua::ActivateSessionRequest&, const Context&) const;
  struct Activation;
  void finishActivation(const Activation& activation, ua::Result<User> user);
  bool makeRoom();
  void reschedule(Session& session);

  Discovery& discovery_;
  Subscriptions& subscriptions_;
  ServerObject& object_;
  Logins logins_;
  Shares ofAddresses_, ofUsers_, ofConnections_;
  std::uint32_t lastSessionId_ = 0;
};

}  // namespace zunth::server
