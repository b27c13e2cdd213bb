#pragma once

#include "core/alarm/alarm.hpp"

#include <unordered_map>

namespace zunth::alarm {

/// The alarms of an address space: each is looked at when a value changes that matters to it, or when its delay has
/// passed; what there is to tell becomes an event. Everything on one thread.
class Alarms {
 public:
  struct Surroundings {
    std::function<ua::Instant()> now;
    std::function<ua::DateTime()> wallClock;
    std::function<ua::ByteString()> newEventId;
    std::function<void(const monitor::Event&)> raise;
  };

  Alarms(space::Space& space, Surroundings surroundings);
  ~Alarms();
  Alarms(const Alarms&) = delete;

  /// Finds the alarms that there are now. Those that were there before go on as they stood.
  void bind();
  void nodeRemoved(space::NodeIndex node);
  void tick();
  ua::Instant nextDue() const { return due_; }
  std::size_t count() const { return alarms_.size(); }

  /// Carries out a method of an alarm: Acknowledge, Confirm, AddComment, Enable, Disable (Part 9, 5.5 and 5.7), each
  /// with the arguments that it takes. Nothing for any other method.
  std::optional<Answer> call(space::NodeIndex method, const std::vector<ua::Variant>& inputs, const ua::String& user);

  /// Those that are of interest, as they stand (Part 9, 5.5.7: what a refresh tells).
  std::vector<monitor::Event> retained() const;

 private:
  Alarm::Moment moment() const { return {surroundings_.now(), surroundings_.wallClock(), surroundings_.newEventId}; }
  void valueChanged(space::NodeIndex variable);
  void look(Alarm& alarm);
  void drop(space::NodeIndex alarm);
  void findDue();

  space::Space& space_;
  Surroundings surroundings_;
  space::TapId tap_;
  std::unordered_map<space::NodeIndex, std::unique_ptr<Alarm>> alarms_;  // by their nodes
  std::unordered_map<space::NodeIndex, std::vector<Alarm*>> watchers_;   // by variable
  ua::Instant due_ = ua::Instant::max();
};

}  // namespace zunth::alarm
