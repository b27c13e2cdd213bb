#pragma once

#include "service/device/driver_kinds.hpp"

#include <optional>

/// Points that come by themselves when somebody speaks of them: "{tank}/oxygen: hall/{tank}/state $.oxygen".
namespace zunth::device::mqtt {

class TopicPattern {
 public:
  /// Of an entry below 'discover'; nothing and a finding when it is not sound.
  static std::optional<TopicPattern> read(const model::Entry& entry, model::Findings& findings);

  /// What is subscribed to: "hall/+/state".
  const std::string& filter() const { return filter_; }
  /// The point that messages of this topic are, as a file would name it. Nothing for a topic that doesn't fit, or whose
  /// parts can't stand in a file: blanks, quotes, braces, more than 64 octets.
  std::optional<DeviceText::PointText> pointOf(const std::string& topic) const;

 private:
  /// A level of the topic: what stands before and behind its placeholder; without one, all of it is `before`.
  struct Level {
    std::string before, placeholder, behind;
  };
  model::Text name_, words_;
  std::vector<Level> levels_;
  std::string filter_;
};

}  // namespace zunth::device::mqtt
