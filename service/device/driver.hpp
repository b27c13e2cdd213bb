#pragma once

#include "core/ua/variant.hpp"

#include <map>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace zunth::device {

/// A value that a device offers, under the name that its file gives.
struct Point {
  std::string name;
  ua::BuiltInType type = ua::BuiltInType::Double;  // of its values, after scaling
  bool isWritable = false;
  std::string where;  // in the device's own terms, as its file writes it: "input 0 Float"
};
using PointIndex = std::size_t;

/// One step of an action: writes an input or a fixed value to a point, or reads a point into an output.
struct ActionStep {
  enum class Kind { WriteInput, WriteValue, ReadOutput } kind;
  PointIndex point = 0;
  std::string name;   // of the input or output
  ua::Variant value;  // fixed, of the point's type
};
struct Action {
  std::string name;
  std::vector<ActionStep> steps;
};

/// A stage of the way from the wire to a value, for people: "two registers, high word first" and "41CC 0000".
struct Stage {
  std::string what, shows;
};

/// How a value came about, and the value.
struct Explained {
  std::vector<Stage> stages;
  ua::DataValue value;
};

/// Speaks one protocol to one device. All calls come from one thread and may block, each for about the device's
/// time-out at most. A failed Result means that the connection is gone; what one point refuses is that point's status.
class Driver {
 public:
  virtual ~Driver() = default;
  virtual const std::vector<Point>& points() const = 0;

  virtual ua::Result<void> connect() = 0;
  virtual void disconnect() = 0;
  /// One value for each point, in order, with the time it was measured; Bad statuses for points that the device
  /// refuses.
  virtual ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) = 0;

  /// Reads one point and shows each stage of how its value comes about.
  virtual ua::Result<Explained> explain(PointIndex point);

  /// What the device said to a write or an action: Good, or BadOutOfRange, BadNotWritable, BadDeviceFailure...
  struct Outcome {
    ua::Error error{ua::status::Good, {}, {}};
    std::map<std::string, ua::Variant> outputs;  // of an action
  };
  virtual ua::Result<Outcome> write(PointIndex point, const ua::Variant& value) = 0;
  /// Carries an action out step by step; stops at the first that the device refuses. Drivers whose protocol knows
  /// commands of its own override this.
  virtual ua::Result<Outcome> act(const Action& action, const std::map<std::string, ua::Variant>& inputs);
};

}  // namespace zunth::device
