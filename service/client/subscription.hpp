#pragma once

#include "service/client/session.hpp"

#include <deque>
#include <map>

namespace zunth::client {

/// A subscription whose notifications are handed to callbacks as they come, each once and in order. Keeps enough
/// Publish requests under way and acknowledges what arrived. After a lost connection it goes on where it was: it asks
/// for the messages that were sent meanwhile, takes itself over into a new session, and only when the server has
/// forgotten it makes itself anew. What was missed for good is told as a gap.
class Subscription : public std::enable_shared_from_this<Subscription> {
 public:
  struct Handlers {
    std::function<void(std::uint32_t clientHandle, const ua::DataValue& value)> change;
    std::function<void(std::uint32_t clientHandle, const ua::List<ua::Variant>& fields)> event;
    /// Notifications are missing here; says why.
    std::function<void(const std::string& why)> gap;
    /// Publishing has failed for good.
    std::function<void(const ua::Error& why)> failed;
  };
  struct Settings {
    double interval = 500;  // ms
    std::uint32_t keepAliveCount = 10;
    std::uint32_t lifetimeCount = 600;
    std::uint8_t priority = 0;
    std::uint32_t durableHours = 0;  // asks the server to keep it for hours, where it can
  };

  /// The server's revised interval is in interval() afterwards.
  static Awaitable<ua::Result<std::shared_ptr<Subscription>>> create(std::shared_ptr<Session> session,
                                                                     Settings settings, Handlers handlers);
  /// Takes over one that another session left behind or has, items and all; `sendInitialValues` for a first value of
  /// each. BadSubscriptionIdInvalid, BadUserAccessDenied.
  static Awaitable<ua::Result<std::shared_ptr<Subscription>>> takeOver(std::shared_ptr<Session> session,
                                                                       std::uint32_t id, bool sendInitialValues,
                                                                       Handlers handlers);
  Subscription(const Subscription&) = delete;
  ~Subscription();

  /// One result for each item, in order. The client handle is the caller's.
  Awaitable<ua::Result<ua::List<ua::MonitoredItemCreateResult>>> add(
      std::vector<ua::MonitoredItemCreateRequest> items,
      ua::TimestampsToReturn timestamps = ua::TimestampsToReturn::Both);
  /// The events of an object, those that pass the filter; thousands may wait between two publishings.
  Awaitable<ua::Result<ua::MonitoredItemCreateResult>> addEvents(ua::NodeId source, ua::EventFilter filter);
  /// One status for each.
  Awaitable<ua::Result<ua::List<ua::StatusCode>>> remove(std::vector<std::uint32_t> itemIds);
  Awaitable<ua::Result<ua::List<ua::StatusCode>>> setMode(ua::MonitoringMode mode, std::vector<std::uint32_t> itemIds);
  /// From now on `triggering` makes the server report what the others sampled.
  Awaitable<ua::Result<ua::List<ua::StatusCode>>> trigger(std::uint32_t triggering, std::vector<std::uint32_t> linked);
  /// The client handles of the items that the server has, by item id.
  Awaitable<ua::Result<std::map<std::uint32_t, std::uint32_t>>> items();

  /// Hands out nothing more and deletes the subscription on the server.
  Awaitable<void> close();
  /// Hands out nothing more and leaves the subscription to whoever takes it over.
  void leave();

  std::uint32_t id() const { return id_; }
  double interval() const { return settings_.interval; }

 private:
  friend class Session;
  static constexpr int kPublishesUnderWay = 3;
  static constexpr std::uint32_t kMostMissing = 10'000;
  static constexpr int kMostAnew = 5;  // in a row, without a notification in between
  struct Item {
    ua::MonitoredItemCreateRequest asked;
    ua::TimestampsToReturn timestamps;
    std::vector<std::uint32_t> triggers;  // ids of items as the caller knows them
  };

  Subscription(std::shared_ptr<Session> session, Settings settings, Handlers handlers);
  Awaitable<ua::Result<void>> createOnServer();
  Awaitable<ua::Result<void>> createAgain(const std::string& why);
  void startPublishing();
  Awaitable<void> keepPublishing(int generation);
  void makeAnew(const std::string& why);
  void arrived(ua::NotificationMessage message);
  Awaitable<void> handOut();
  Awaitable<void> fetchMissing(std::uint32_t until);
  void deliver(const ua::NotificationMessage& message);
  void fail(const ua::Error& why);
  void gap(const std::string& why);
  /// The session is back, with or without what the server knew of it.
  Awaitable<ua::Result<void>> restored(bool sameSession);
  std::uint32_t serverIdOf(std::uint32_t itemId) const;

  std::shared_ptr<Session> session_;
  Settings settings_;
  Handlers handlers_;
  std::uint32_t id_ = 0;
  bool isActive_ = false;
  int madeAnew_ = 0;    // since the last notification
  int generation_ = 0;  // of the Publish requests under way; those of an earlier one end
  std::uint32_t nextSequence_ = 1;
  std::vector<std::uint32_t> toAcknowledge_;
  std::deque<ua::NotificationMessage> inbox_;
  bool isHandingOut_ = false;
  std::map<std::uint32_t, Item> items_;                // by the id that the caller knows
  std::map<std::uint32_t, std::uint32_t> renumbered_;  // that id to the server's, where it has changed
};

}  // namespace zunth::client
