#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <optional>
#include <vector>

/// Fragments of the DNP3 application layer (IEEE 1815, clauses 4, 5 and 11, annex A); no I/O.
namespace zunth::device::dnp3 {

/// What a fragment asks or answers (4.4).
enum class Function : std::uint8_t {
  Confirm = 0,
  Read = 1,
  Write = 2,
  Select = 3,
  Operate = 4,
  DirectOperate = 5,
  DirectOperateNoAck = 6,
  Freeze = 7,
  EnableUnsolicited = 20,
  DisableUnsolicited = 21,
  DelayMeasure = 23,
  Response = 129,
  Unsolicited = 130
};

/// The octet before the function (4.2.2.4).
struct Control {
  bool isFirst = true, isFinal = true, wantsConfirm = false, isUnsolicited = false;
  std::uint8_t sequence = 0;  // 0 to 15
};

/// What an outstation says of itself in each response (4.2.2.6).
struct Indications {
  std::uint8_t first = 0, second = 0;
  bool hasEvents() const { return first & 0x0E; }  // of class 1, 2 or 3
  bool needsTime() const { return first & 0x10; }
  bool isLocal() const { return first & 0x20; }
  bool hasTrouble() const { return first & 0x40; }
  bool hasRestarted() const { return first & 0x80; }
  bool lacksFunction() const { return second & 0x01; }
  bool lacksObject() const { return second & 0x02; }
  bool refusesParameter() const { return second & 0x04; }
  bool hasOverflown() const { return second & 0x08; }  // events were lost
};

/// The kinds of points.
enum class Kind { Binary, DoubleBit, BinaryOutput, Counter, Frozen, Analog, FrozenAnalog, AnalogOutput, OctetString };
const std::vector<Kind>& allKinds();
std::string_view nameOf(Kind kind);
std::optional<Kind> kindNamed(std::string_view name);

/// One value of one point.
struct Measurement {
  Kind kind;
  std::uint32_t index = 0;
  ua::Variant value;  // Boolean, Byte (a double bit), UInt32 (a counter), Double; String, of octets
  std::uint8_t flags = 0x01;
  std::optional<ua::DateTime> time;  // the outstation's
  bool isEvent = false;
  ua::BuiltInType sentAs = ua::BuiltInType::Double;  // of an analogue one
};
/// What the flags make of a value (11.6): Good, GoodLocalOverride, Uncertain... or Bad...
ua::StatusCode statusOf(const Measurement& measurement);

/// A fragment from an outstation, read.
struct Fragment {
  Control control;
  Function function = Function::Response;
  Indications indications;
  std::vector<Measurement> measurements;             // in their order
  std::optional<std::uint16_t> delay;                // ms, of a measurement of it
  std::vector<std::uint8_t> controlStatuses;         // of commands that are answered
  std::optional<std::pair<int, int>> unknownObject;  // group and variation at which reading ended
};
/// BadDecodingError for what is no fragment of an outstation. Objects that aren't known end the reading of a fragment,
/// and what came before counts.
ua::Result<Fragment> readFragment(ua::BytesView octets);

// Requests, ready for the transport layer
ua::Bytes confirm(std::uint8_t sequence, bool isUnsolicited);
/// Reads classes: bit 0 is class 0 (all points as they are), bits 1 to 3 the events of classes 1 to 3; and all points
/// of some kinds as they are.
ua::Bytes readClasses(std::uint8_t sequence, unsigned classes, const std::vector<Kind>& kinds = {});
/// One object of each kind of a range of points.
ua::Bytes readPoints(std::uint8_t sequence, Kind kind, std::uint16_t first, std::uint16_t last);
/// Whether the outstation sends events of classes 1 to 3 (bits 1 to 3) by itself.
ua::Bytes unsolicited(std::uint8_t sequence, bool on, unsigned classes);
ua::Bytes clearRestart(std::uint8_t sequence);
ua::Bytes measureDelay(std::uint8_t sequence);
ua::Bytes writeTime(std::uint8_t sequence, ua::DateTime time);
ua::Bytes freezeCounters(std::uint8_t sequence);
/// What is to be done with an output.
struct Command {
  std::uint16_t index = 0;
  bool isBinary = true;
  std::uint8_t code = 3;       // 3 latch on, 4 latch off, 1 pulse on, 2 pulse off
  std::uint32_t onTime = 0;    // ms, of a pulse
  double number = 0;           // of an analogue output
  std::uint8_t variation = 1;  // of it: 1 Int32, 2 Int16, 3 Float, 4 Double
};
ua::Bytes command(std::uint8_t sequence, Function function, const Command& wanted);
/// What an outstation says to a command (11.9.4): "no select before operate", and the code that fits.
ua::Error controlOutcome(std::uint8_t status);

}  // namespace zunth::device::dnp3
