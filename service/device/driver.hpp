#pragma once

#include "core/ua/instant.hpp"
#include "core/ua/variant.hpp"

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace zunth::device {

/// When a value was measured, where the device doesn't say it itself.
inline ua::DateTime wallClock() { return ua::DateTime::from(std::chrono::system_clock::now()); }

/// A value that a device offers, under the name that its file gives.
struct Point {
  std::string name;
  ua::BuiltInType type = ua::BuiltInType::Double;  // of its values, as the device has them; Variant where they tell
  bool isWritable = false;
  std::string where;       // in the device's own terms, as its file writes it: "input 0 Float"
  std::size_t length = 0;  // of an array; 0 for a single value
};
using PointIndex = std::size_t;

/// A stage of the way from the wire to a value, for people: "two registers, high word first" and "41CC 0000".
struct Stage {
  std::string what, shows;
};
using Trace = std::vector<Stage>;

/// A point's value as the device gave it.
struct Sample {
  /// What a device kept and gives later goes to history alone.
  enum class Kind { Current, Past };
  PointIndex point = 0;
  ua::DataValue value;  // with a status where the device refuses it; source time is the device's own where it has one
  std::shared_ptr<const Trace> trace = {};  // only while somebody looks
  Kind kind = Kind::Current;
};

/// How often somebody wants a point's value.
struct Wish {
  PointIndex point;
  ua::Duration every;
};
struct PointWrite {
  PointIndex point;
  ua::Variant value;  // of the point's type
  int bit = -1;       // of a whole number: only this one, and the value is Boolean
};
/// One step of an action: writes a value to a point, or reads a point into an output.
struct Step {
  enum class Kind { Write, Read } kind;
  PointIndex point = 0;
  ua::Variant value;  // that is written
  int bit = -1;       // as in PointWrite
};

/// A point that a device shows though its file doesn't name it, as the file would.
struct Discovered {
  std::string name, words;
  ua::BuiltInType type;  // of its values
};
struct DevicePoint;

/// How a driver has been doing, for people.
struct Figures {
  std::uint64_t polls = 0, failures = 0;
  double roundTrip = 0;  // ms, of the last poll
};

inline constexpr std::size_t kMostDiscovered = 10'000;  // of a device

/// Where a driver brings what it has; from any thread, never blocks.
class Sink {
 public:
  virtual ~Sink() = default;
  /// Values of some points that belong together. False when too many wait already: bring the next ones later.
  virtual bool samples(std::vector<Sample> batch) = 0;
  /// The device is there, or it has gone and why. Said once for each change.
  virtual void link(bool isConnected, const ua::Error& why) = 0;
  /// The device shows points that its file doesn't name. They are numbered on from its last, and said before their
  /// first samples; kMostDiscovered at most.
  virtual void discovered(std::vector<DevicePoint> points) = 0;
  /// Whether somebody wants to see how the values of this point come about.
  virtual bool isTraced(PointIndex point) const = 0;
};

/// Speaks one protocol to one device, connects and reconnects by itself. Nothing blocks, and callbacks come on threads
/// of its own. What was not begun at its deadline is not done any more and answered BadTimeout; while the device is
/// away all is answered BadNoCommunication; when too much waits, BadTooManyOperations.
class Driver {
 public:
  virtual ~Driver() = default;
  virtual const std::vector<Point>& points() const = 0;
  /// What it discovered in an earlier run, numbered on from the last of its file; before start(). As the sink would be
  /// told of them; those left out that make no sense any more.
  virtual std::vector<DevicePoint> remember(const std::vector<Discovered>& points);
  /// The sink outlives the driver.
  virtual void start(Sink& sink) = 0;
  /// Says goodbye; after `done` nothing comes any more.
  virtual void stop(std::function<void()> done) = 0;
  /// From now on these points, and no others; the connection goes on.
  virtual void want(std::vector<Wish> wishes) = 0;
  /// Brings the points to the sink as soon as it can, then calls `done`, also when it can't.
  virtual void refresh(std::vector<PointIndex> points, ua::Instant deadline, std::function<void()> done) = 0;
  /// In order, in few frames; what the device says to each. Their values are brought to the sink before `done`.
  using WritesDone = std::function<void(std::vector<ua::Error>)>;
  virtual void write(std::vector<PointWrite> writes, ua::Instant deadline, WritesDone done) = 0;
  /// Step by step, with nothing of others in between, until one is refused; the values of the steps that read.
  using ActDone = std::function<void(ua::Result<std::vector<ua::Variant>>)>;
  virtual void act(std::vector<Step> steps, ua::Instant deadline, ActDone done) = 0;
  virtual Figures figures() const { return {}; }
};

}  // namespace zunth::device
