#pragma once

#include "service/client/connection.hpp"

#include <set>

namespace zunth::client {

class Subscription;

/// A session on a server: the services as awaitable calls that check what came back. When the connection is lost, or
/// the server has ended the session, it comes back by itself, with everything that the server still has of it. While
/// nothing else is asked, it lets the server know that it is still there. One loop's thread.
class Session : public std::enable_shared_from_this<Session> {
 public:
  /// How far the opening of a session has come.
  enum class Step { Nothing, Channel, Created, Activated };
  struct Options {
    std::string name = "zunth";
    ua::Duration timeout = std::chrono::seconds(10);  // of connecting and of each request
    double sessionTimeout = 60'000;                   // ms without a request, until the server ends it
    Security security;
    std::string user, password;                            // an anonymous user when empty, and nothing of what follows
    std::shared_ptr<const secure::Identity> userIdentity;  // a user with a certificate
    std::string token;                                     // an issued token (a JSON Web Token)
    bool reconnects = true;
    ua::Duration firstRetry = std::chrono::milliseconds(200);  // doubles up to mostRetry
    ua::Duration mostRetry = std::chrono::seconds(5);
    std::function<void(Step)> progress;  // told of each step as it is reached
    /// Another way to the server than by its URL, and as good as a secured one.
    std::function<Awaitable<ua::Result<std::shared_ptr<Carrier>>>()> reach;
  };

  /// Connects as securely as wished, creates and activates a session.
  static Awaitable<ua::Result<std::shared_ptr<Session>>> open(std::string url, Options options);
  Session(const Session&) = delete;
  ~Session();
  /// Closes session and connection; does nothing twice. With `keepSubscriptions` the server keeps them for their
  /// life-time, for another session to take over.
  Awaitable<void> close(bool keepSubscriptions = false);

  /// What became of the connection: lost (an error), or back (Good, saying what of the session survived).
  using OnConnection = std::function<void(const ua::Error& what)>;
  void onConnection(OnConnection told) { told_ = std::move(told); }

  /// Any service; the header is filled in here. While the connection is being restored, waits for that as long as a
  /// request may take. What is under way when it is lost ends with BadConnectionClosed: whether the server still did
  /// it is not known.
  template <class Request>
  Awaitable<ua::Result<typename Request::Response>> request(Request request) {
    return this->request(std::move(request), options_.timeout);
  }
  /// What has more operations than the server takes at once is asked for in parts, one after the other; diagnostics
  /// of operations are kept only where one part is enough.
  template <class Request>
  Awaitable<ua::Result<typename Request::Response>> request(Request request, ua::Duration timeout) {
    std::conditional_t<Parts<Request>::exist, ListExchange<Request>, ExchangeOf<Request>> exchange(std::move(request));
    if (auto fine = co_await perform(exchange, timeout); !fine) co_return fine.error();
    co_return std::move(exchange.response);
  }

  // Attributes and methods
  /// One value for each of `what`, in order.
  Awaitable<ua::Result<ua::List<ua::DataValue>>> read(std::vector<ua::ReadValueId> what,
                                                      ua::TimestampsToReturn timestamps = ua::TimestampsToReturn::Both);
  /// The attributes of one node, in order.
  Awaitable<ua::Result<ua::List<ua::DataValue>>> readAttributes(ua::NodeId node,
                                                                std::vector<ua::AttributeId> attributes);
  struct WriteOutcome {
    ua::Error error;  // Good when the server took it
  };
  Awaitable<ua::Result<WriteOutcome>> write(ua::NodeId node, ua::Variant value);
  /// Values of several nodes, in their order; one outcome for each.
  Awaitable<ua::Result<std::vector<WriteOutcome>>> write(std::vector<std::pair<ua::NodeId, ua::Variant>> values);
  struct CallOutcome {
    ua::Error error;
    std::vector<ua::Variant> outputs;
  };
  Awaitable<ua::Result<CallOutcome>> call(ua::NodeId object, ua::NodeId method, std::vector<ua::Variant> inputs);

  // Views and queries
  /// All references that match, following continuation points.
  Awaitable<ua::Result<ua::List<ua::ReferenceDescription>>> browse(ua::BrowseDescription what);
  /// Several nodes in one request, results in order; a node's own failure is its result's status.
  Awaitable<ua::Result<std::vector<ua::BrowseResult>>> browse(std::vector<ua::BrowseDescription> what);
  /// The nodes that a path leads to; the operation's own failure as an error.
  Awaitable<ua::Result<ua::List<ua::BrowsePathTarget>>> translate(ua::BrowsePath path);
  Awaitable<ua::Result<ua::List<ua::NodeId>>> registerNodes(ua::List<ua::NodeId> nodes);
  Awaitable<ua::Result<void>> unregisterNodes(ua::List<ua::NodeId> nodes);
  /// All that is found, page by page. What is wrong with a filter or a type is the error's cause.
  Awaitable<ua::Result<ua::List<ua::QueryDataSet>>> query(ua::QueryFirstRequest request);
  /// The server's namespace table.
  Awaitable<ua::Result<std::vector<std::string>>> namespaces();

  // Node management; an operation's own failure as an error, with the server's cause
  Awaitable<ua::Result<ua::NodeId>> addNode(ua::AddNodesItem item);
  Awaitable<ua::Result<void>> deleteNode(ua::NodeId node);
  Awaitable<ua::Result<void>> addReference(ua::AddReferencesItem item);
  Awaitable<ua::Result<void>> deleteReference(ua::DeleteReferencesItem item);

  const std::shared_ptr<Carrier>& connection() const { return connection_; }
  const Options& options() const { return options_; }
  const asio::any_io_executor& executor() const { return executor_; }
  const ua::NodeId& id() const { return sessionId_; }
  bool isOpen() const { return isOpen_; }

 private:
  friend class Subscription;
  Awaitable<ua::Result<void>> perform(Exchange& exchange, ua::Duration timeout);
  /// Brings a message to the subscription that it is of, whichever asked.
  void hand(ua::PublishResponse response);
  Awaitable<ua::Result<void>> performOnce(Exchange& exchange, ua::Duration timeout);
  Session(std::string url, Options options, asio::any_io_executor executor);
  Awaitable<ua::Result<void>> connect();
  Awaitable<ua::Result<ChannelSecurityChoice>> chooseSecurity();
  Awaitable<ua::Result<void>> create();
  Awaitable<ua::Result<void>> activate();
  void takeUserPolicies(const ua::List<ua::EndpointDescription>& endpoints);
  void watchConnection();
  void lost(const ua::Error& why);
  /// Whether a service was refused because the server no longer has the session.
  static bool isForgotten(ua::StatusCode code);
  /// No answer on a connection that looks alive: nothing tells but trying anew.
  void silent(Carrier& carrier);
  /// That came over `carrier`: the session is made anew.
  void forgotten(Carrier& carrier);
  Awaitable<void> restore();
  Awaitable<ua::Error> restoreOnce();
  Awaitable<ua::Result<void>> isReady();
  Awaitable<void> pause(ua::Duration time);
  static Awaitable<void> keepAlive(std::weak_ptr<Session> weak, std::shared_ptr<asio::steady_timer> beat);

  std::size_t mostAtOnce_ = kUsualPart;  // operations, as far as the server has said
  std::string url_;
  Options options_;
  asio::any_io_executor executor_;
  std::shared_ptr<Carrier> connection_;
  ua::NodeId sessionId_, token_;
  ua::Result<ua::ExtensionObject> identityToken() const;
  ua::UserTokenType userKind() const;
  /// The policy by which this user's secret or signature goes to this server; an error where there is none.
  const ua::UserTokenPolicy* offeredToken() const;
  const secure::Policy* policyOf(const ua::UserTokenPolicy& offered) const;
  ua::Result<const secure::Policy*> tokenPolicy(const ua::UserTokenPolicy* offered) const;
  ua::List<ua::UserTokenPolicy> userPolicies_;  // of the endpoint in use
  ua::ByteString serverCertificate_;
  ua::ByteString serverNonce_;
  std::optional<ChannelSecurityChoice> choice_;   // what the connection is secured by, once known
  bool isOpen_ = false;                           // from open() to close()
  bool isRestoring_ = false;                      // the connection is lost and sought again
  std::shared_ptr<asio::steady_timer> restored_;  // cancelled when it is back, or given up
  int forgotten_ = 0;                             // how often in a row the server had ended the session
  ua::Duration grantedTimeout_{};                 // without a request, until the server ends the session
  ua::Instant lastAsked_;
  std::shared_ptr<asio::steady_timer> beat_;
  OnConnection told_;
  std::set<Subscription*> subscriptions_;  // living ones; they leave by themselves
};

}  // namespace zunth::client
