#pragma once

#include "core/alarm/alarms.hpp"
#include "core/monitor/event_delivery.hpp"
#include "core/monitor/sampling.hpp"
#include "core/space/space.hpp"
#include "service/server/announcer.hpp"
#include "service/server/login_guard.hpp"
#include "service/server/server_directory.hpp"
#include "service/server/session.hpp"

#include <functional>
#include <unordered_map>

namespace zunth::server {

/// What a server grants at most; published in its capabilities.
struct Limits {
  std::uint32_t maxSessions = 100;
  std::uint32_t maxSubscriptions = 10'000;  // of all sessions
  std::uint32_t maxSubscriptionsPerSession = 100;
  std::uint32_t maxMonitoredItems = 1'000'000;  // of all sessions
  std::uint32_t maxMonitoredItemsPerSubscription = 1'000'000;
  std::uint32_t maxContinuationPointsPerSession = 100;  // of Browse, and as many of queries
  std::uint32_t maxReferencesPerNode = 10'000;          // in one BrowseResult
  std::uint32_t maxDataSetsPerQuery = 10'000;           // in one response
  std::uint32_t maxOperationsPerRequest = 100'000;
  std::uint32_t maxPublishRequestsPerSession = 100;
  std::uint32_t maxFilterElements = 1'000;
  std::uint32_t maxSelectClauses = 1'000;
  std::uint32_t maxQueueSize = 10'000;  // of a monitored item; durable subscriptions have ten times that
  std::uint32_t defaultEventQueueSize = 1'000;
  double leastSamplingInterval = 0;           // ms
  double leastPublishingInterval = 10;        // ms
  double mostPublishingInterval = 3'600'000;  // ms
  std::uint32_t mostKeepAliveCount = 100'000;
  std::uint32_t mostDurableHours = 24 * 14;
  double leastSessionTimeout = 1'000;     // ms
  double mostSessionTimeout = 3'600'000;  // ms
};

/// What a site knows of a user beside how they prove who they are.
struct Account {
  std::vector<ua::NodeId> roles;
};

/// One rule by which every session has the role.
std::vector<secure::RoleRule> rolesForEveryone(ua::StandardId role);

struct Settings {
  std::string applicationName = "Zunth";
  std::string applicationUri = "urn:zunth";
  std::vector<std::string> endpointUrls;
  std::vector<std::string> clientUrls;  // of clients that the server connects to by itself
  bool allowUnsecured = false;          // security policy None
  secure::Identities identities;        // without any, no secured endpoint is offered
  /// Whether a client's certificate (with its chain) is accepted; why not, otherwise.
  std::function<ua::Result<void>(const ua::ByteString& chain)> trust;
  bool allowAnonymous = false;
  /// The account to a name and password, when users may log in with them. BadUserAccessDenied when they don't fit.
  /// It may take its time, and tells what came of it on the server's thread.
  std::function<void(std::string name, std::string password, std::function<void(ua::Result<Account>)> done)>
      checkPassword;
  /// The account to a user's certificate, when users may log in with one. BadUserAccessDenied when it isn't trusted.
  std::function<ua::Result<Account>(const ua::ByteString& chain)> checkUserCertificate;
  /// The account to an issued token (a JSON Web Token), with the roles that it names, when users may log in with one.
  std::function<ua::Result<User>(const std::string& token)> checkToken;
  /// Whether anybody could log in so at present; endpoints offer only what somebody has. Always, without these.
  std::function<bool()> hasPasswords, hasUserCertificates, hasTokenIssuers;
  /// Who gets which role; without another word, whoever is let in is an engineer.
  std::vector<secure::RoleRule> roles = rolesForEveryone(ua::id::WellKnownRole_Engineer);
  bool allowNodeManagement = false;  // AddNodes and so on, by any client
  bool acceptRegistrations = false;  // RegisterServer: stands in for a discovery server
  bool diagnostics = true;           // counters of sessions and subscriptions; switchable at the EnabledFlag
  bool auditing = true;              // audit events
  std::uint32_t maxMessageSize = 16u << 20;
  Limits limits;
};

/// Time, as the server sees it.
struct Clock {
  std::function<ua::Instant()> now;
  std::function<ua::DateTime()> wallClock;
  static Clock real();
};

/// Takes a client's write to a variable to where it belongs and tells what came of it, now or later, on the server's
/// thread. Without a handler the variable itself keeps the value.
using WriteHandler = std::function<void(ua::Variant value, std::function<void(ua::Error)> done)>;

/// Where a variable's value comes from, when it can be asked for a newer one; many variables share a source. Called on
/// the server's thread.
class ValueSource {
 public:
  virtual ~ValueSource() = default;
  /// Whether what it brought last is older than this, and it could bring something newer.
  virtual bool isOlderThan(ua::Duration age) const = 0;
  /// Brings its values, then calls `done`, on the server's thread.
  virtual void refresh(std::function<void()> done) = 0;
};

struct CallOutcome {
  ua::Error error{ua::status::Good, {}, {}};
  std::vector<ua::Variant> outputs;
};
/// Carries out a method, arguments checked already; tells what came of it, now or later, on the server's thread.
using CallHandler = std::function<void(std::vector<ua::Variant> inputs, std::function<void(CallOutcome)> done)>;

/// Carries out a method at once that must know whose session it is, as when files are opened.
using SessionMethod = std::function<CallOutcome(const std::vector<ua::Variant>& inputs, const ua::NodeId& sessionId)>;

/// The services of the standard (Part 4) over one address space, without sockets or threads: requests come in decoded
/// from a channel, answers go out through Peer. All calls on one thread.
class Server {
 public:
  Server(space::Space& space, Settings settings, Clock clock = Clock::real());
  ~Server();

  /// Serves one request. `body` starts with its encoding id.
  void handle(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, ua::BytesView body);
  /// Does what is due: samples, publishing, time-outs. Call at nextDue() and after any handle().
  void tick();
  ua::Instant nextDue() const;
  /// Ends all sessions.
  void shutdown();

  void setWriteHandler(space::NodeIndex variable, WriteHandler handler) {
    writeHandlers_[variable] = std::move(handler);
  }
  void setSource(space::NodeIndex variable, std::shared_ptr<ValueSource> source) {
    sources_[variable] = std::move(source);
  }
  void setCallHandler(space::NodeIndex method, CallHandler handler) { callHandlers_[method] = std::move(handler); }
  void setSessionMethod(space::NodeIndex method, SessionMethod carryOut) {
    sessionMethods_[method] = std::move(carryOut);
  }

  /// Forgets all handlers and sources of variables and methods, as before they are bound anew.
  void unbind() {
    writeHandlers_.clear();
    callHandlers_.clear();
    sources_.clear();
  }

  /// Told of each variable with a write handler that clients delete, before it goes.
  void setRemovalHandler(std::function<void(space::NodeIndex)> handler) { removalHandler_ = std::move(handler); }
  /// Carries out RequestServerStateChange; without one the method is refused.
  void setStateHandler(std::function<void(ua::ServerState, std::uint32_t secondsTillShutdown)> handler) {
    stateHandler_ = std::move(handler);
  }

  /// Where it is to be found, once the ports are known.
  void setEndpointUrls(std::vector<std::string> urls) { settings_.endpointUrls = std::move(urls); }
  /// Shows another certificate from the next channel on.
  void setIdentities(secure::Identities identities) { settings_.identities = std::move(identities); }
  /// The accounts or the rules have changed: sessions of users whom `accountOf` doesn't know any more end, the others
  /// get what they now may.
  void accountsChanged(const std::function<ua::Result<Account>(const User& user)>& accountOf);
  /// Other rules count from now on, for the sessions that are open, too.
  void setRoles(std::vector<secure::RoleRule> rules);
  /// Ends the sessions of users whose proof has run out, as tokens do.
  void endRunOut();
  /// The channel of a peer was opened or its token renewed, or it ended.
  void channelOpened(const Peer& peer, const ua::OpenSecureChannelRequest& request);
  void channelClosed(const Peer& peer, const ua::Error& why);

  space::Space& space() { return space_; }
  const Settings& settings() const { return settings_; }
  Announcer& announcer() { return announcer_; }
  /// Finds the alarms of the space; again when models changed.
  void bindAlarms() { alarms_.bind(); }
  /// Shows clients what the space's models say of their namespaces and languages; again when models changed.
  void showModels();
  std::size_t sessionCount() const { return sessions_.size(); }
  std::size_t monitoredItemCount() const { return sampling_.itemCount(); }
  std::size_t subscriptionCount() const;

 private:
  struct Context {
    const std::shared_ptr<Peer>& peer;
    Session* session;  // of requests that need one, else null
    const ua::RequestHeader& header;
    Reply reply;
    ua::Instant now;
    ua::DateTime wallClock;
    /// What the caller may do; nothing where there is no session.
    const space::Rights& rights() const { return session->rights; }
    Announcer::Actor actor() const { return {session, header, *peer}; }
    /// When the client no longer waits for an answer.
    ua::Instant giveUpAt() const {
      return header.timeoutHint ? now + ua::milliseconds(header.timeoutHint) : ua::Instant::max();
    }
  };
  enum class Needs { Nothing, Session, ActivatedSession };

  template <class Request>
  using Answers = ua::Result<typename Request::Response> (Server::*)(const Request&, Context&);
  /// An error answers at once; without one, the answer has been given or will be.
  template <class Request>
  using AnswersLater = ua::Result<void> (Server::*)(const Request&, Context&);
  template <class Request, class Handler>
  void serve(Needs needs, Handler handler, const std::shared_ptr<Peer>& peer, std::uint32_t requestId,
             ua::BinaryReader& reader);
  ua::Result<Session*> sessionOf(const ua::RequestHeader& header, Needs needs, const Peer& peer);
  ua::Result<void> checkCount(std::size_t operations) const;
  /// Keeps an answer that waits, so that it ends with the client's patience or at its wish.
  void keepOutstanding(const Context& context, std::shared_ptr<Outstanding> answer);
  void nodeRemoved(space::NodeIndex node);

  // Discovery and sessions: discovery_services.cpp, session_services.cpp
  ua::ApplicationDescription application() const;
  ua::List<ua::EndpointDescription> endpoints(const ua::String& askedUrl) const;
  ua::List<ua::UserTokenPolicy> userTokens(const secure::Policy* policy, ua::MessageSecurityMode mode) const;
  ua::Result<void> isPrivate(const Peer& peer) const;
  ua::Result<ua::FindServersResponse> findServers(const ua::FindServersRequest&, Context&);
  ua::Result<ua::FindServersOnNetworkResponse> findServersOnNetwork(const ua::FindServersOnNetworkRequest&, Context&);
  ua::Result<ua::GetEndpointsResponse> getEndpoints(const ua::GetEndpointsRequest&, Context&);
  ua::Result<ua::RegisterServerResponse> registerServer(const ua::RegisterServerRequest&, Context&);
  ua::Result<ua::RegisterServer2Response> registerServer2(const ua::RegisterServer2Request&, Context&);
  ua::Result<void> mayRegister(const Context& context) const;
  ua::Result<ua::CreateSessionResponse> createSession(const ua::CreateSessionRequest&, Context&);
  ua::Result<ua::CreateSessionResponse> newSession(const ua::CreateSessionRequest&, Context&);
  ua::Result<void> activateSession(const ua::ActivateSessionRequest&, Context&);
  using TellUser = std::function<void(ua::Result<User>)>;
  /// Who the user is, told now or later. BadIdentityTokenInvalid, BadIdentityTokenRejected, BadUserSignatureInvalid,
  /// BadUserAccessDenied.
  void checkIdentity(const ua::ActivateSessionRequest& request, const Context&, const TellUser& tell);
  void checkPassword(const ua::UserNameIdentityToken& token, const Context&, const TellUser& tell);
  struct Activation;
  void finishActivation(const Activation& activation, ua::Result<User> user);
  ua::Result<std::string> decryptSecret(const ua::ByteString& encrypted, const ua::String& algorithm,
                                        const Context&) const;
  ua::Result<User> checkIssuedToken(const ua::IssuedIdentityToken& token, const Context&) const;
  ua::Result<User> checkUserCertificate(const ua::X509IdentityToken& token, const ua::SignatureData& signature,
                                        const Context&) const;
  /// Gives the session what its user may do, and takes away what it watches beyond that.
  void grant(Session& session);
  ua::Result<void> checkClientCertificate(const ua::CreateSessionRequest&, const Context&) const;
  ua::Result<void> checkClientSignature(const ua::ActivateSessionRequest&, const Context&) const;
  ua::Result<ua::CloseSessionResponse> closeSession(const ua::CloseSessionRequest&, Context&);
  ua::Result<ua::CancelResponse> cancel(const ua::CancelRequest&, Context&);
  enum class Subscriptions { Delete, Keep };
  void endSession(Session& session, const ua::Error& why, Subscriptions subscriptions);
  bool makeRoomForSession();

  // View and query: view_services.cpp, query_services.cpp
  ua::Result<ua::BrowseResponse> browse(const ua::BrowseRequest&, Context&);
  ua::Result<ua::BrowseNextResponse> browseNext(const ua::BrowseNextRequest&, Context&);
  ua::Result<ua::TranslateBrowsePathsToNodeIdsResponse> translate(const ua::TranslateBrowsePathsToNodeIdsRequest&,
                                                                  Context&);
  ua::Result<ua::RegisterNodesResponse> registerNodes(const ua::RegisterNodesRequest&, Context&);
  ua::Result<ua::UnregisterNodesResponse> unregisterNodes(const ua::UnregisterNodesRequest&, Context&);
  ua::BrowseResult browseOne(Session& session, Session::BrowseRest work);
  ua::Result<space::NodeIndex> viewOf(const ua::ViewDescription& view) const;
  ua::Result<ua::QueryFirstResponse> queryFirst(const ua::QueryFirstRequest&, Context&);
  ua::Result<ua::QueryNextResponse> queryNext(const ua::QueryNextRequest&, Context&);
  ua::Result<ua::ByteString> keepQuery(Session& session, Session::QueryRest rest, const space::Query::Page& page);

  // Node management: node_management_services.cpp
  ua::Result<ua::AddNodesResponse> addNodes(const ua::AddNodesRequest&, Context&);
  ua::Result<ua::DeleteNodesResponse> deleteNodes(const ua::DeleteNodesRequest&, Context&);
  ua::Result<ua::AddReferencesResponse> addReferences(const ua::AddReferencesRequest&, Context&);
  ua::Result<ua::DeleteReferencesResponse> deleteReferences(const ua::DeleteReferencesRequest&, Context&);
  ua::Result<void> mayManageNodes(std::size_t operations) const;

  // Attributes and methods: attribute_services.cpp, method_services.cpp, server_methods.cpp
  ua::Result<void> read(const ua::ReadRequest&, Context&);
  ua::ReadResponse readNow(const ua::ReadRequest& request, const space::Rights& rights, WantedDiagnostics wanted) const;
  ua::DataValue readOne(const ua::ReadValueId& what, ua::TimestampsToReturn timestamps, const space::Rights& rights,
                        ua::DateTime wallClock) const;
  class WaitingRead;
  ua::Result<void> write(const ua::WriteRequest&, Context&);
  ua::Result<void> call(const ua::CallRequest&, Context&);
  /// A method of the Server object; it may look at who calls.
  using ServerMethod = CallOutcome (Server::*)(const std::vector<ua::Variant>& inputs, Context& context);
  CallOutcome getMonitoredItems(const std::vector<ua::Variant>& inputs, Context& context);
  CallOutcome resendData(const std::vector<ua::Variant>& inputs, Context& context);
  CallOutcome setSubscriptionDurable(const std::vector<ua::Variant>& inputs, Context& context);
  CallOutcome requestServerStateChange(const std::vector<ua::Variant>& inputs, Context& context);
  /// Part 9, 5.5.7 and 5.5.8: tells one subscription again of all conditions that are of interest.
  CallOutcome conditionRefresh(const std::vector<ua::Variant>& inputs, Context& context);
  ua::Result<monitor::Subscription*> ownSubscription(const ua::Variant& id, Context& context) const;

  // Subscriptions: subscription_services.cpp, monitored_item_services.cpp
  ua::Result<ua::CreateSubscriptionResponse> createSubscription(const ua::CreateSubscriptionRequest&, Context&);
  ua::Result<ua::ModifySubscriptionResponse> modifySubscription(const ua::ModifySubscriptionRequest&, Context&);
  ua::Result<ua::SetPublishingModeResponse> setPublishingMode(const ua::SetPublishingModeRequest&, Context&);
  ua::Result<ua::TransferSubscriptionsResponse> transferSubscriptions(const ua::TransferSubscriptionsRequest&,
                                                                      Context&);
  ua::Result<ua::TransferResult> transferOne(std::uint32_t id, bool sendInitialValues, Context& context);
  ua::Result<ua::DeleteSubscriptionsResponse> deleteSubscriptions(const ua::DeleteSubscriptionsRequest&, Context&);
  ua::Result<void> publish(const ua::PublishRequest&, Context&);
  ua::Result<ua::RepublishResponse> republish(const ua::RepublishRequest&, Context&);
  monitor::SubscriptionSettings revise(double interval, std::uint32_t lifetime, std::uint32_t keepAlive) const;
  monitor::Subscription* subscriptionOf(const Context& context, std::uint32_t id) const;
  void drop(monitor::Subscription& subscription);
  void dropSubscription(Session& session, std::uint32_t id);
  void tickSubscriptions(Session& session, ua::Instant now);
  void tickOrphans(ua::Instant now);
  void publishLate(Session& session);
  void answerPublishes(Session& session, const ua::Error& why);
  ua::Result<ua::CreateMonitoredItemsResponse> createMonitoredItems(const ua::CreateMonitoredItemsRequest&, Context&);
  ua::Result<ua::MonitoredItemCreateResult> createItem(monitor::Subscription& subscription,
                                                       const ua::MonitoredItemCreateRequest& asked,
                                                       ua::TimestampsToReturn timestamps, const Context& context);
  ua::Result<ua::ModifyMonitoredItemsResponse> modifyMonitoredItems(const ua::ModifyMonitoredItemsRequest&, Context&);
  ua::Result<ua::SetMonitoringModeResponse> setMonitoringMode(const ua::SetMonitoringModeRequest&, Context&);
  ua::Result<ua::SetTriggeringResponse> setTriggering(const ua::SetTriggeringRequest&, Context&);
  ua::Result<ua::DeleteMonitoredItemsResponse> deleteMonitoredItems(const ua::DeleteMonitoredItemsRequest&, Context&);
  void forget(monitor::MonitoredItem& item);
  /// `filterResult` gets what came of an event filter's clauses.
  ua::Result<monitor::ItemSettings> reviseItem(const ua::MonitoringParameters& asked,
                                               const monitor::Subscription& subscription, space::NodeIndex node,
                                               ua::AttributeId attribute, ua::TimestampsToReturn timestamps,
                                               ua::ExtensionObject& filterResult) const;
  ua::Result<std::shared_ptr<const monitor::EventSelector>> selectorOf(const ua::ExtensionObject& filter,
                                                                       ua::ExtensionObject& filterResult) const;

  // The Server object of namespace 0 and its diagnostics: server_object.cpp, server_diagnostics.cpp, server_roles.cpp
  void fillServerObject();
  void fillCapabilities();
  void fillDiagnostics();
  void fillRoles();
  ua::ServerStatusDataType serverStatus() const;
  ua::ServerDiagnosticsSummaryDataType diagnosticsSummary() const;
  ua::SessionDiagnosticsDataType diagnosticsOf(const Session& session) const;
  ua::SessionSecurityDiagnosticsDataType securityOf(const Session& session) const;
  std::vector<ua::SubscriptionDiagnosticsDataType> subscriptionDiagnostics(const Session* ofOne) const;
  std::vector<ua::SamplingIntervalDiagnosticsDataType> samplingDiagnostics() const;
  void switchDiagnostics(bool on);
  void showSession(const Session& session);
  void hideSession(const Session& session);
  void count(Session* session, std::uint32_t requestId, ua::StatusCode outcome);

  struct Orphan {
    std::unique_ptr<monitor::Subscription> subscription;
    ua::String applicationUri, userName;  // whose it was
  };
  struct Waiting {
    ua::Instant giveUpAt;
    ua::NodeId session;
    std::weak_ptr<Outstanding> answer;
  };

  space::Space& space_;
  Settings settings_;
  Clock clock_;
  ua::DateTime startTime_;
  monitor::Sampling sampling_;
  monitor::EventDelivery events_;
  Announcer announcer_;
  alarm::Alarms alarms_;
  ServerDirectory directory_;
  std::unordered_map<ua::NodeId, std::unique_ptr<Session>> sessions_;  // by token
  std::map<std::uint32_t, Orphan> orphans_;                            // subscriptions whose session ended
  std::vector<Waiting> waiting_;
  std::unordered_map<space::NodeIndex, WriteHandler> writeHandlers_;
  std::unordered_map<space::NodeIndex, std::shared_ptr<ValueSource>> sources_;
  std::unordered_map<space::NodeIndex, CallHandler> callHandlers_;
  std::unordered_map<space::NodeIndex, ServerMethod> serverMethods_;
  std::unordered_map<space::NodeIndex, SessionMethod> sessionMethods_;
  std::function<void(space::NodeIndex)> removalHandler_;
  std::function<void(ua::ServerState, std::uint32_t)> stateHandler_;
  ua::ServerDiagnosticsSummaryDataType summary_;  // its counters
  bool diagnosticsOn_ = true;
  LoginGuard loginGuard_;
  ua::ServerState state_ = ua::ServerState::Running;
  ua::Instant shutdownAt_ = ua::Instant::max();
  ua::LocalizedText shutdownReason_;
  std::uint32_t lastSessionId_ = 0, lastSubscriptionId_ = 0, lastItemId_ = 0;
};

}  // namespace zunth::server
