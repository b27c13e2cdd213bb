#pragma once

#include "core/monitor/subscription.hpp"
#include "core/ua/slice.hpp"

#include <deque>
#include <unordered_map>

namespace zunth::monitor {

/// Brings events to the items that watch their source, the notifiers above it, or the Server object, which hears them
/// all (Part 3, 4.6); to each only what its subscription's listener may hear, event by event (Part 3, 8.55). Many items
/// with long filters take their time: what the slice of one turn has no room for is brought in the next ones, in order.
class EventDelivery {
 public:
  explicit EventDelivery(const space::Space& space) : space_(space) {}

  void add(MonitoredItem& item);
  void remove(MonitoredItem& item);
  void nodeRemoved(space::NodeIndex node);
  /// Whether anybody listens at all: what makes an event can be left out otherwise.
  bool isWatched() const { return !watchers_.empty(); }
  /// Whether events are kept or listened to.
  bool isWanted() const { return isWatched() || keep_; }
  /// Gets every event, whether or not somebody listens.
  void setKeeper(std::function<void(const Event&)> keep) { keep_ = std::move(keep); }
  /// The nodes at which an event of this source is heard, each once.
  std::vector<space::NodeIndex> notifiersOf(space::NodeIndex source) const;
  void raise(Event event);
  /// Brings it to one item alone: when it hears its source and wants it, or whatever it wants with `isForAll`.
  void tell(MonitoredItem& item, const Event& event, bool isForAll);

  /// Events are brought within this slice until another is set.
  void setSlice(const ua::Slice& slice) { slice_ = slice; }
  /// Goes on with what is left, within the slice.
  void tick();
  bool hasMore() const { return !waiting_.empty(); }

 private:
  struct Waiting {
    std::uint64_t number;
    Event event;
  };
  static constexpr std::size_t kMostWaiting = 1'000;  // then whoever raises another waits for those
  void offer(MonitoredItem& item, const Event& event) const;
  void bring(MonitoredItem& item, const Event& event) const;
  bool hears(const MonitoredItem& item, const Event& event) const;
  /// False when the slice ended before everybody had it.
  bool bringToAll(const Waiting& waiting, ua::Slice& slice);

  const space::Space& space_;
  std::unordered_map<space::NodeIndex, std::vector<MonitoredItem*>> watchers_;
  std::function<void(const Event&)> keep_;
  std::deque<Waiting> waiting_;
  std::uint64_t lastNumber_ = 0;
  ua::Slice slice_;
};

}  // namespace zunth::monitor
