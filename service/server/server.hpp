#pragma once

#include "core/monitor/sampling.hpp"
#include "core/space/space.hpp"
#include "service/server/session.hpp"

#include <functional>
#include <unordered_map>

namespace zunth::server {

/// What a server grants at most; published in its capabilities.
struct Limits {
  std::uint32_t maxSessions = 100;
  std::uint32_t maxSubscriptionsPerSession = 100;
  std::uint32_t maxMonitoredItems = 1'000'000;          // of all sessions
  std::uint32_t maxContinuationPointsPerSession = 100;  // of Browse
  std::uint32_t maxReferencesPerNode = 10'000;          // in one BrowseResult
  std::uint32_t maxOperationsPerRequest = 100'000;
  std::uint32_t maxPublishRequestsPerSession = 100;
  std::uint32_t maxQueueSize = 10'000;        // of a monitored item
  double leastSamplingInterval = 0;           // ms
  double leastPublishingInterval = 10;        // ms
  double mostPublishingInterval = 3'600'000;  // ms
  std::uint32_t mostKeepAliveCount = 100'000;
  double leastSessionTimeout = 1'000;     // ms
  double mostSessionTimeout = 3'600'000;  // ms
};

struct Settings {
  std::string applicationName = "Zunth";
  std::string applicationUri = "urn:zunth";
  std::vector<std::string> endpointUrls;
  bool allowUnsecured = false;  // security policy None
  bool allowAnonymous = false;
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

struct CallOutcome {
  ua::Error error{ua::status::Good, {}, {}};
  std::vector<ua::Variant> outputs;
};
/// Carries out a method, arguments checked already; tells what came of it, now or later, on the server's thread.
using CallHandler = std::function<void(std::vector<ua::Variant> inputs, std::function<void(CallOutcome)> done)>;

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
  void setCallHandler(space::NodeIndex method, CallHandler handler) { callHandlers_[method] = std::move(handler); }

  /// Where it is to be found, once the ports are known.
  void setEndpointUrls(std::vector<std::string> urls) { settings_.endpointUrls = std::move(urls); }

  space::Space& space() { return space_; }
  const Settings& settings() const { return settings_; }
  std::size_t sessionCount() const { return sessions_.size(); }
  std::size_t monitoredItemCount() const { return sampling_.itemCount(); }

 private:
  struct Context {
    const std::shared_ptr<Peer>& peer;
    Session* session;  // of requests that need one, else null
    Reply reply;
    ua::Instant now;
    ua::DateTime wallClock;
    double timeoutHint;  // ms; 0 for none
  };
  enum class Needs { Nothing, Session, ActivatedSession };

  template <class Request>
  using Answers = ua::Result<typename Request::Response> (Server::*)(const Request&, Context&);
  template <class Request>
  using AnswersLater = void (Server::*)(const Request&, Context&);
  template <class Request, class Handler>
  void serve(Needs needs, Handler handler, const std::shared_ptr<Peer>& peer, std::uint32_t requestId,
             ua::BinaryReader& reader);
  ua::Result<Session*> sessionOf(const ua::RequestHeader& header, Needs needs, const Peer& peer);
  ua::Result<void> checkCount(std::size_t operations) const;

  // Discovery and sessions: discovery_services.cpp, session_services.cpp
  ua::ApplicationDescription application() const;
  ua::List<ua::EndpointDescription> endpoints(const ua::String& askedUrl) const;
  ua::Result<ua::FindServersResponse> findServers(const ua::FindServersRequest&, Context&);
  ua::Result<ua::GetEndpointsResponse> getEndpoints(const ua::GetEndpointsRequest&, Context&);
  ua::Result<ua::CreateSessionResponse> createSession(const ua::CreateSessionRequest&, Context&);
  ua::Result<ua::ActivateSessionResponse> activateSession(const ua::ActivateSessionRequest&, Context&);
  ua::Result<ua::CloseSessionResponse> closeSession(const ua::CloseSessionRequest&, Context&);
  void endSession(Session& session, const ua::Error& why);

  // View: view_services.cpp
  ua::Result<ua::BrowseResponse> browse(const ua::BrowseRequest&, Context&);
  ua::Result<ua::BrowseNextResponse> browseNext(const ua::BrowseNextRequest&, Context&);
  ua::Result<ua::TranslateBrowsePathsToNodeIdsResponse> translate(const ua::TranslateBrowsePathsToNodeIdsRequest&,
                                                                  Context&);
  ua::BrowseResult browseOne(Session& session, Session::BrowseRest work);

  // Attributes and methods: attribute_services.cpp, method_services.cpp
  ua::Result<ua::ReadResponse> read(const ua::ReadRequest&, Context&);
  ua::DataValue readOne(const ua::ReadValueId& what, ua::TimestampsToReturn timestamps, ua::DateTime wallClock) const;
  void write(const ua::WriteRequest&, Context&);
  void call(const ua::CallRequest&, Context&);

  // Subscriptions: subscription_services.cpp, monitored_item_services.cpp
  ua::Result<ua::CreateSubscriptionResponse> createSubscription(const ua::CreateSubscriptionRequest&, Context&);
  ua::Result<ua::ModifySubscriptionResponse> modifySubscription(const ua::ModifySubscriptionRequest&, Context&);
  ua::Result<ua::SetPublishingModeResponse> setPublishingMode(const ua::SetPublishingModeRequest&, Context&);
  ua::Result<ua::DeleteSubscriptionsResponse> deleteSubscriptions(const ua::DeleteSubscriptionsRequest&, Context&);
  void publish(const ua::PublishRequest&, Context&);
  ua::Result<ua::RepublishResponse> republish(const ua::RepublishRequest&, Context&);
  monitor::SubscriptionSettings revise(double interval, std::uint32_t lifetime, std::uint32_t keepAlive) const;
  monitor::Subscription* subscriptionOf(const Context& context, std::uint32_t id) const;
  void dropSubscription(Session& session, std::uint32_t id);
  void tickSubscriptions(Session& session, ua::Instant now);
  void publishLate(Session& session);
  void answerPublishes(Session& session, const ua::Error& why);
  ua::Result<ua::CreateMonitoredItemsResponse> createMonitoredItems(const ua::CreateMonitoredItemsRequest&, Context&);
  ua::Result<ua::ModifyMonitoredItemsResponse> modifyMonitoredItems(const ua::ModifyMonitoredItemsRequest&, Context&);
  ua::Result<ua::SetMonitoringModeResponse> setMonitoringMode(const ua::SetMonitoringModeRequest&, Context&);
  ua::Result<ua::DeleteMonitoredItemsResponse> deleteMonitoredItems(const ua::DeleteMonitoredItemsRequest&, Context&);
  ua::Result<monitor::ItemSettings> reviseItem(const ua::MonitoringParameters& asked, space::NodeIndex node,
                                               ua::AttributeId attribute, ua::TimestampsToReturn timestamps) const;

  // The Server object of namespace 0: server_object.cpp
  void fillServerObject();
  ua::ServerStatusDataType serverStatus() const;

  space::Space& space_;
  Settings settings_;
  Clock clock_;
  ua::DateTime startTime_;
  monitor::Sampling sampling_;
  std::unordered_map<ua::NodeId, std::unique_ptr<Session>> sessions_;  // by token
  std::unordered_map<space::NodeIndex, WriteHandler> writeHandlers_;
  std::unordered_map<space::NodeIndex, CallHandler> callHandlers_;
  std::uint32_t lastSessionId_ = 0, lastSubscriptionId_ = 0, lastItemId_ = 0;
};

}  // namespace zunth::server
