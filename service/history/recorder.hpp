#pragma once

#include "core/history/archive.hpp"
#include "core/history/keeping.hpp"
#include "core/space/space.hpp"

#include <unordered_map>

namespace zunth::history {

/// A rule for the variables that a pattern of paths means.
struct Choice {
  std::string pattern;
  Rule rule;
  double days = 0;  // after which it is given up; 0 for as long as the rest
  bool operator==(const Choice&) const = default;
};

/// Brings the values of variables that have a history into an archive, by the rules of the site. All calls on the
/// services' thread.
class Recorder {
 public:
  /// `followsGap`: nothing was recorded since the archive was last closed, as at a start.
  Recorder(space::Space& space, Archive& archive, std::function<ua::DateTime()> wallClock, bool followsGap);
  ~Recorder();

  /// Finds the variables that have a history; again when the model or the rules changed. The first choice that fits
  /// counts; without one, every change is kept. Where nothing was watched, between the last run and this one too, what
  /// happened is marked as lost.
  void bind(const std::vector<Choice>& choices);
  /// Nothing more is recorded, while the archive goes on: what happens is marked as lost from now on.
  void endAll();
  /// A value that isn't the newest, and came late.
  void take(space::NodeIndex variable, ua::DataValue past);
  /// Values that are computed at each read are looked at here, each second.
  void tick();
  std::size_t size() const { return kept_.size(); }

 private:
  struct Kept {
    ua::NodeId nodeId;
    VariableId variable;
    Keeper keeper;
  };
  void took(std::span<const space::Change> changes);
  void unwatch(space::NodeIndex node);
  void begin(space::NodeIndex node, const Rule& rule);
  void end(Kept& kept);
  void add(Kept& kept, ua::DataValue value);
  void markGap(std::vector<VariableId> variables);

  space::Space& space_;
  Archive& archive_;
  const std::function<ua::DateTime()> wallClock_;
  const space::TapId tap_;
  std::unordered_map<space::NodeIndex, Kept> kept_;
  std::vector<space::NodeIndex> polled_;  // those that are computed at each read
  std::vector<Record> batch_;
  bool followsGap_;
};

}  // namespace zunth::history
