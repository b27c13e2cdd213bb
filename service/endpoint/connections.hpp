#pragma once

#include "core/ua/result.hpp"
#include "core/ua/slice.hpp"

#include <deque>
#include <memory>
#include <string_view>
#include <unordered_set>
#include <vector>

namespace zunth::endpoint {

/// Who is connected, by whichever door, as far as the doors' common limits care. Everything on the services' executor.
class Guest : public std::enable_shared_from_this<Guest> {
 public:
  virtual ~Guest() = default;
  /// Who hasn't got this far gives way first (Part 4, 5.5.2).
  enum class Standing { Over, Knocking, Channel, Session };
  virtual Standing standing() const = 0;
  virtual ua::Instant since() const = 0;
  virtual void end(const ua::Error& why) = 0;
  /// Whether it came in by the endpoint of this URL.
  virtual bool cameBy(std::string_view) const { return false; }
  /// Somebody else needs the place.
  virtual void giveWay() = 0;
  /// Time-outs.
  virtual void tick() = 0;
  /// Goes on with what was sent and could not be looked at in its turn.
  virtual void resume() = 0;
  /// Ends if its certificate is trusted no longer.
  virtual void checkTrust() {}
};

/// All guests, within their number: for one more, the one that has got least far gives way, and of those the oldest.
/// Guests that take more than their part of the time queue for it; the others are served at once.
class Guests {
 public:
  explicit Guests(std::size_t most) : most_(most) {}

  /// False when nobody gives way: then it is not let in.
  bool enter(const std::shared_ptr<Guest>& guest);
  void leave(const std::shared_ptr<Guest>& guest) { all_.erase(guest); }
  /// Makes the one give way that has got least far; false when all have sessions.
  bool makeRoom(const Guest* but = nullptr);
  std::size_t size() const { return all_.size(); }
  void tick();
  std::vector<std::shared_ptr<Guest>> all() const { return {all_.begin(), all_.end()}; }

  /// It has its turn after those that queue already.
  void queue(const std::shared_ptr<Guest>& guest) { queue_.push_back(guest); }
  bool hasQueue() const { return !queue_.empty(); }
  /// Gives turns away until the slice is over.
  void serveQueue(ua::Slice slice);

 private:
  std::size_t most_;
  std::unordered_set<std::shared_ptr<Guest>> all_;
  std::deque<std::weak_ptr<Guest>> queue_;
};

/// How much of the services' time somebody took of late: more than a tenth for a while is more than their part.
class Spending {
 public:
  void spent(ua::Duration time, ua::Instant now) {
    left(now);
    owed_ += time;
  }
  bool isMuch(ua::Instant now) { return left(now) > std::chrono::milliseconds(5); }

 private:
  ua::Duration left(ua::Instant now) {
    owed_ = std::max(ua::Duration::zero(), owed_ - (now - at_) / 10);
    at_ = now;
    return owed_;
  }
  ua::Duration owed_{};
  ua::Instant at_{};
};

}  // namespace zunth::endpoint
