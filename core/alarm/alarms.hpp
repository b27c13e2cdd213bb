#pragma once

#include "core/alarm/alarm.hpp"
#include "core/alarm/groups.hpp"
#include "core/alarm/kept_state.hpp"
#include "core/alarm/metrics.hpp"
#include "core/ua/slice.hpp"

#include <deque>
#include <unordered_map>
#include <unordered_set>

namespace zunth::alarm {

/// The alarms of an address space: each is looked at when a value changes that matters to it, or when something of it
/// is due; what there is to tell becomes an event. A flood of values is looked at within the slices that it is given,
/// each value, in order. Everything on one thread.
class Alarms {
 public:
  struct Surroundings {
    std::function<ua::Instant()> now;
    std::function<ua::DateTime()> wallClock;
    std::function<ua::ByteString()> newEventId;
    std::function<void(monitor::Event)> raise;
    /// Whether those who hear what is raised still have enough of it: values wait meanwhile.
    std::function<bool()> isBusy = [] { return false; };
  };

  Alarms(space::Space& space, Surroundings surroundings);
  ~Alarms();
  Alarms(const Alarms&) = delete;

  /// All go on as they stood when the last run ended, as far as `kept` knows them; so do those that come later.
  void restore(std::function<std::optional<KeptState>(const ua::NodeId&)> kept);
  /// Told when takeChanged() has something to give, after it had nothing.
  void setChanged(std::function<void()> told) { toldChanged_ = std::move(told); }
  /// Finds the alarms that there are now. Those that were there before go on as they stood.
  void bind();
  void nodeRemoved(space::NodeIndex node);
  /// Values are looked at within this slice until another is set.
  void setSlice(const ua::Slice& slice) { slice_ = slice; }
  void tick();
  ua::Instant nextDue() const { return waiting_.empty() ? due_.next() : ua::Instant::min(); }
  std::size_t count() const { return alarms_.size(); }
  const Alarm* find(space::NodeIndex node) const;

  /// Carries out a method of an alarm (Part 9, 5.5 to 5.8) with the arguments that it takes. Nothing for any other
  /// method.
  std::optional<Answer> call(space::NodeIndex method, const std::vector<ua::Variant>& inputs, const ua::String& user);
  /// Of an alarm that judges no values: how it is.
  void set(space::NodeIndex alarm, bool active, std::uint16_t severity, const std::string& why);

  /// Those that are of interest, the severest first, and of the same severity what came first (Part 9, 5.5.7: what a
  /// refresh tells).
  std::vector<space::NodeIndex> retained() const;
  /// How one of them stands, and its branches, as far as they are of interest.
  std::vector<monitor::Event> standing(space::NodeIndex alarm) const;

  /// Alarms that stand differently than when this was asked last, as they are to be kept, but no more than so many; no
  /// octets for one that is gone.
  struct Changed {
    ua::NodeId alarm;
    ua::Bytes state;
  };
  std::vector<Changed> takeChanged(std::size_t most = SIZE_MAX);
  bool hasChanged() const { return !changed_.empty() || !gone_.empty(); }

 private:
  struct Waiting {
    space::NodeIndex alarm, variable;
    ua::DataValue value;
  };
  static constexpr std::size_t kMostWaiting = 200'000;  // then whoever brings another waits for those

  Moment moment() const;
  template <class Do>
  auto with(Alarm& alarm, Do&& act);
  void arrived(std::span<const space::Change> changes);
  std::optional<KeptState> keptOf(const ua::NodeId& alarm);
  bool mayBring();
  void bringOne();
  void afterwards();
  void changed(space::NodeIndex alarm);
  void detach();
  void drop(space::NodeIndex alarm, bool isRemoved);

  space::Space& space_;
  Surroundings surroundings_;
  space::TapId tap_;
  Layouts layouts_;
  Groups groups_;
  Metrics metrics_;
  std::unordered_map<space::NodeIndex, std::unique_ptr<Alarm>> alarms_;  // by their nodes
  std::unordered_map<space::NodeIndex, std::vector<Alarm*>> watchers_;   // by variable
  ua::DueHeap<Alarm> due_;
  ua::Slice slice_;
  std::deque<Waiting> waiting_;
  std::vector<space::NodeIndex> toSuppress_;  // alarms whose suppression is to be looked at
  std::unordered_set<space::NodeIndex> changed_;
  std::vector<ua::NodeId> gone_;
  /// How alarms stood of which a part was taken away: they may be found again.
  std::unordered_map<ua::NodeId, KeptState> aside_;
  std::function<std::optional<KeptState>(const ua::NodeId&)> kept_;
  std::function<void()> toldChanged_;
  bool hasTold_ = false;
  const std::function<void(monitor::Event)> raise_;
  const std::function<void(Alarm&)> moved_;
};

}  // namespace zunth::alarm
