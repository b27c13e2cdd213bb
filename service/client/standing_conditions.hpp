#pragma once

#include "service/client/conditions.hpp"
#include "service/client/subscription.hpp"

namespace zunth::client {

/// The conditions of a server as they stand, kept up to date (Part 9, 5.5.7): told by a refresh, and by another one
/// wherever something was missed: the server asks for it, or messages were lost. One loop's thread.
class StandingConditions : public std::enable_shared_from_this<StandingConditions> {
 public:
  using Key = std::pair<std::string, std::string>;  // of the condition and its branch
  struct Handlers {
    /// Of each word on a condition; `isGone` when it is of interest no longer.
    std::function<void(const Condition& condition, bool isGone)> told;
    /// All that stands has been told, for the first time or again.
    std::function<void()> complete;
    std::function<void(const std::string& why)> gap;
    std::function<void(const ua::Error& why)> failed;
  };

  /// Begins to listen to all that the session's user may hear of; BadTooManyMonitoredItems and the like.
  static Awaitable<ua::Result<std::shared_ptr<StandingConditions>>> open(std::shared_ptr<Session> session,
                                                                         Handlers handlers);
  const std::map<Key, Condition>& all() const { return standing_; }
  /// Whether the server has told all that stands.
  bool isComplete() const { return isComplete_; }
  Awaitable<void> close();

 private:
  static constexpr std::size_t kMost = 100'000;  // conditions, whatever a server tells
  StandingConditions(std::shared_ptr<Session> session, Handlers handlers)
      : session_(std::move(session)), handlers_(std::move(handlers)) {}
  void heard(const ua::List<ua::Variant>& fields);
  void refreshed();
  /// At most one refresh a second, each after the one before has ended, as long as one is wanted.
  void wantRefresh();
  Awaitable<void> keepRefreshing();
  Awaitable<ua::Error> refresh();

  std::shared_ptr<Session> session_;
  Handlers handlers_;
  std::shared_ptr<Subscription> subscription_;
  std::map<Key, Condition> standing_;
  std::map<Key, std::uint64_t> toldIn_;  // of the same: the refresh in or after which each was last told of
  std::uint64_t refreshes_ = 0;          // that have begun
  bool isComplete_ = false, isRefreshWanted_ = false, isAsking_ = false, isFull_ = false;
  ua::Instant askedAt_{};
};

}  // namespace zunth::client
