#pragma once

#include "service/client/connection.hpp"

namespace zunth::client {

/// A session on a server: the services as awaitable calls that check what came back. One loop's thread.
class Session : public std::enable_shared_from_this<Session> {
 public:
  struct Options {
    std::string name = "zunth";
    ua::Duration timeout = std::chrono::seconds(10);  // of connecting and of each request
    double sessionTimeout = 60'000;                   // ms
  };

  /// Connects, creates and activates an anonymous session.
  static Awaitable<ua::Result<std::shared_ptr<Session>>> open(std::string url, Options options);
  /// Closes session and connection; does nothing twice.
  Awaitable<void> close();

  /// Any service; the header is filled in here.
  template <class Request>
  Awaitable<ua::Result<typename Request::Response>> request(Request request) {
    request.requestHeader.authenticationToken = token_;
    return connection_->request(std::move(request), options_.timeout);
  }

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
  struct CallOutcome {
    ua::Error error;
    std::vector<ua::Variant> outputs;
  };
  Awaitable<ua::Result<CallOutcome>> call(ua::NodeId object, ua::NodeId method, std::vector<ua::Variant> inputs);
  /// All references that match, following continuation points.
  Awaitable<ua::Result<ua::List<ua::ReferenceDescription>>> browse(ua::BrowseDescription what);
  /// Several nodes in one request, results in order; a node's own failure is its result's status.
  Awaitable<ua::Result<std::vector<ua::BrowseResult>>> browse(std::vector<ua::BrowseDescription> what);
  /// The server's namespace table.
  Awaitable<ua::Result<std::vector<std::string>>> namespaces();

  const std::shared_ptr<Connection>& connection() const { return connection_; }
  const ua::NodeId& token() const { return token_; }
  const Options& options() const { return options_; }

 private:
  Session(std::shared_ptr<Connection> connection, Options options)
      : connection_(std::move(connection)), options_(std::move(options)) {}

  std::shared_ptr<Connection> connection_;
  Options options_;
  ua::NodeId token_;
  bool isOpen_ = false;
};

/// A subscription whose values are handed to a callback as they come. Keeps enough Publish requests under way and
/// acknowledges what arrived.
class Subscription : public std::enable_shared_from_this<Subscription> {
 public:
  using OnChange = std::function<void(std::uint32_t clientHandle, const ua::DataValue& value)>;

  /// `interval` in ms. The server's revised interval is in interval() afterwards.
  static Awaitable<ua::Result<std::shared_ptr<Subscription>>> create(std::shared_ptr<Session> session, double interval,
                                                                     OnChange onChange);
  Subscription(const Subscription&) = delete;
  /// One result for each item, in order. The client handle is the caller's.
  Awaitable<ua::Result<ua::List<ua::MonitoredItemCreateResult>>> add(std::vector<ua::MonitoredItemCreateRequest> items);
  /// Hands out nothing more and deletes the subscription on the server.
  Awaitable<void> close();
  double interval() const { return interval_; }
  /// Set once when publishing fails for good.
  void onFailure(std::function<void(const ua::Error&)> failed) { failed_ = std::move(failed); }

 private:
  static constexpr int kPublishesUnderWay = 3;
  Subscription(std::shared_ptr<Session> session, OnChange onChange)
      : session_(std::move(session)), onChange_(std::move(onChange)) {}
  Awaitable<void> keepPublishing();

  std::shared_ptr<Session> session_;
  OnChange onChange_;
  std::function<void(const ua::Error&)> failed_;
  std::uint32_t id_ = 0;
  double interval_ = 0;
  std::uint32_t keepAliveCount_ = 10;
  std::vector<std::uint32_t> toAcknowledge_;
};

}  // namespace zunth::client
