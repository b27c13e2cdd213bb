#include "service/device/dnp3_application.hpp"

#include "core/ua/foreign.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <bit>
#include <cmath>

#include <fmt/format.h>

namespace zunth::device::dnp3 {

using namespace ua;

namespace {

constexpr std::int64_t kUnixEpoch = 116'444'736'000'000'000, kTicksPerMs = 10'000;
constexpr std::uint8_t kOnline = 0x01;

/// Takes numbers, the lowest octet first, off the front.
class OctetReader {
 public:
  explicit OctetReader(BytesView octets) : left_(octets) {}
  std::uint64_t number(std::size_t octets) {
    std::uint64_t out = 0;
    if (left_.size() < octets) {
      isOk_ = false;
      left_ = {};
      return 0;
    }
    for (std::size_t i = 0; i < octets; ++i) out |= std::to_integer<std::uint64_t>(left_[i]) << (8 * i);
    left_ = left_.subspan(octets);
    return out;
  }
  BytesView take(std::size_t octets) {
    if (left_.size() < octets) {
      isOk_ = false;
      return {};
    }
    const BytesView out = left_.first(octets);
    left_ = left_.subspan(octets);
    return out;
  }
  bool ok() const { return isOk_; }
  bool isEmpty() const { return left_.empty(); }
  std::size_t left() const { return left_.size(); }

 private:
  BytesView left_;
  bool isOk_ = true;
};

void putNumber(Bytes& out, std::uint64_t number, std::size_t octets) {
  for (std::size_t i = 0; i < octets; ++i) out.push_back(static_cast<std::byte>(number >> (8 * i) & 0xFF));
}

/// How the objects of a group and variation look: annex A of the standard.
struct Layout {
  std::uint8_t group, variation;
  Kind kind;
  bool isEvent;
  enum class Value { Packed, InFlags, U16, U32, I16, I32, F32, F64, Octets } value;
  bool hasFlags;
  enum class Time { None, Absolute, Relative } time = Time::None;

  std::size_t size() const {
    std::size_t out = hasFlags ? 1 : 0;
    switch (value) {
      case Value::U16:
      case Value::I16: out += 2; break;
      case Value::U32:
      case Value::I32:
      case Value::F32: out += 4; break;
      case Value::F64: out += 8; break;
      case Value::Octets: out += variation; break;
      default: break;
    }
    return out + (time == Time::Absolute ? 6 : time == Time::Relative ? 2 : 0);
  }
};
using V = Layout::Value;
using T = Layout::Time;
constexpr Layout kLayouts[] = {
    {1, 1, Kind::Binary, false, V::Packed, false},
    {1, 2, Kind::Binary, false, V::InFlags, true},
    {2, 1, Kind::Binary, true, V::InFlags, true},
    {2, 2, Kind::Binary, true, V::InFlags, true, T::Absolute},
    {2, 3, Kind::Binary, true, V::InFlags, true, T::Relative},
    {3, 1, Kind::DoubleBit, false, V::Packed, false},
    {3, 2, Kind::DoubleBit, false, V::InFlags, true},
    {4, 1, Kind::DoubleBit, true, V::InFlags, true},
    {4, 2, Kind::DoubleBit, true, V::InFlags, true, T::Absolute},
    {4, 3, Kind::DoubleBit, true, V::InFlags, true, T::Relative},
    {10, 1, Kind::BinaryOutput, false, V::Packed, false},
    {10, 2, Kind::BinaryOutput, false, V::InFlags, true},
    {11, 1, Kind::BinaryOutput, true, V::InFlags, true},
    {11, 2, Kind::BinaryOutput, true, V::InFlags, true, T::Absolute},
    {20, 1, Kind::Counter, false, V::U32, true},
    {20, 2, Kind::Counter, false, V::U16, true},
    {20, 5, Kind::Counter, false, V::U32, false},
    {20, 6, Kind::Counter, false, V::U16, false},
    {21, 1, Kind::Frozen, false, V::U32, true},
    {21, 2, Kind::Frozen, false, V::U16, true},
    {21, 5, Kind::Frozen, false, V::U32, true, T::Absolute},
    {21, 6, Kind::Frozen, false, V::U16, true, T::Absolute},
    {21, 9, Kind::Frozen, false, V::U32, false},
    {21, 10, Kind::Frozen, false, V::U16, false},
    {22, 1, Kind::Counter, true, V::U32, true},
    {22, 2, Kind::Counter, true, V::U16, true},
    {22, 5, Kind::Counter, true, V::U32, true, T::Absolute},
    {22, 6, Kind::Counter, true, V::U16, true, T::Absolute},
    {23, 1, Kind::Frozen, true, V::U32, true},
    {23, 2, Kind::Frozen, true, V::U16, true},
    {23, 5, Kind::Frozen, true, V::U32, true, T::Absolute},
    {23, 6, Kind::Frozen, true, V::U16, true, T::Absolute},
    {30, 1, Kind::Analog, false, V::I32, true},
    {30, 2, Kind::Analog, false, V::I16, true},
    {30, 3, Kind::Analog, false, V::I32, false},
    {30, 4, Kind::Analog, false, V::I16, false},
    {30, 5, Kind::Analog, false, V::F32, true},
    {30, 6, Kind::Analog, false, V::F64, true},
    {32, 1, Kind::Analog, true, V::I32, true},
    {32, 2, Kind::Analog, true, V::I16, true},
    {32, 3, Kind::Analog, true, V::I32, true, T::Absolute},
    {32, 4, Kind::Analog, true, V::I16, true, T::Absolute},
    {32, 5, Kind::Analog, true, V::F32, true},
    {32, 6, Kind::Analog, true, V::F64, true},
    {32, 7, Kind::Analog, true, V::F32, true, T::Absolute},
    {32, 8, Kind::Analog, true, V::F64, true, T::Absolute},
    {31, 1, Kind::FrozenAnalog, false, V::I32, true},
    {31, 2, Kind::FrozenAnalog, false, V::I16, true},
    {31, 3, Kind::FrozenAnalog, false, V::I32, true, T::Absolute},
    {31, 4, Kind::FrozenAnalog, false, V::I16, true, T::Absolute},
    {31, 5, Kind::FrozenAnalog, false, V::I32, false},
    {31, 6, Kind::FrozenAnalog, false, V::I16, false},
    {31, 7, Kind::FrozenAnalog, false, V::F32, true},
    {31, 8, Kind::FrozenAnalog, false, V::F64, true},
    {33, 1, Kind::FrozenAnalog, true, V::I32, true},
    {33, 2, Kind::FrozenAnalog, true, V::I16, true},
    {33, 3, Kind::FrozenAnalog, true, V::I32, true, T::Absolute},
    {33, 4, Kind::FrozenAnalog, true, V::I16, true, T::Absolute},
    {33, 5, Kind::FrozenAnalog, true, V::F32, true},
    {33, 6, Kind::FrozenAnalog, true, V::F64, true},
    {33, 7, Kind::FrozenAnalog, true, V::F32, true, T::Absolute},
    {33, 8, Kind::FrozenAnalog, true, V::F64, true, T::Absolute},
    {40, 1, Kind::AnalogOutput, false, V::I32, true},
    {40, 2, Kind::AnalogOutput, false, V::I16, true},
    {40, 3, Kind::AnalogOutput, false, V::F32, true},
    {40, 4, Kind::AnalogOutput, false, V::F64, true},
    {42, 1, Kind::AnalogOutput, true, V::I32, true},
    {42, 2, Kind::AnalogOutput, true, V::I16, true},
    {42, 3, Kind::AnalogOutput, true, V::I32, true, T::Absolute},
    {42, 4, Kind::AnalogOutput, true, V::I16, true, T::Absolute},
    {42, 5, Kind::AnalogOutput, true, V::F32, true},
    {42, 6, Kind::AnalogOutput, true, V::F64, true},
    {42, 7, Kind::AnalogOutput, true, V::F32, true, T::Absolute},
    {42, 8, Kind::AnalogOutput, true, V::F64, true, T::Absolute},
};
constexpr std::uint8_t kStaticGroups[] = {1, 3, 10, 20, 21, 30, 31, 40, 110};

/// How the objects of a group and variation look; nothing for those that aren't known.
std::optional<Layout> layoutOf(std::uint8_t group, std::uint8_t variation) {
  // Of strings the variation is the length.
  if ((group == 110 || group == 111) && variation > 0)
    return Layout{group, variation, Kind::OctetString, group == 111, V::Octets, false};
  const auto found = std::ranges::find_if(
      kLayouts, [&](const Layout& each) { return each.group == group && each.variation == variation; });
  return found == std::end(kLayouts) ? std::nullopt : std::optional(*found);
}

/// The octets of an object that says nothing here: commands that others gave, as events, numbers without flags of the
/// vendor's own meaning.
std::optional<std::size_t> sizeOfOther(std::uint8_t group, std::uint8_t variation) {
  constexpr std::size_t kBinaryCommands[] = {0, 1, 7}, kAnalogCommands[] = {0, 5, 3, 11, 9, 5, 9, 11, 15},
                        kDecimals[] = {0, 2, 4, 8}, kNumbers[] = {0, 1};
  const auto of = [variation](std::span<const std::size_t> sizes) {
    return variation > 0 && variation < sizes.size() ? std::optional(sizes[variation]) : std::nullopt;
  };
  switch (group) {
    case 13: return of(kBinaryCommands);
    case 43: return of(kAnalogCommands);
    case 101: return of(kDecimals);
    case 102: return of(kNumbers);
    default: return std::nullopt;
  }
}

/// Text as devices keep it: what stands before the padding.
String textOf(BytesView octets) {
  std::string_view text(reinterpret_cast<const char*>(octets.data()), octets.size());
  text = text.substr(0, text.find_last_not_of(std::string_view("\0 ", 2)) + 1);
  return String(shown(text, 1'024));
}

DateTime timeOf(std::uint64_t ms) { return DateTime{kUnixEpoch + static_cast<std::int64_t>(ms) * kTicksPerMs}; }

Measurement readOne(const Layout& layout, OctetReader& in, const std::optional<std::uint64_t>& commonTime) {
  Measurement out{layout.kind, 0, {}, kOnline, {}, layout.isEvent};
  if (layout.hasFlags) out.flags = static_cast<std::uint8_t>(in.number(1));
  constexpr auto kSentAs = [](V value) {
    switch (value) {
      case V::I16: return BuiltInType::Int16;
      case V::I32: return BuiltInType::Int32;
      case V::F32: return BuiltInType::Float;
      default: return BuiltInType::Double;
    }
  };
  out.sentAs = kSentAs(layout.value);
  switch (layout.value) {
    case V::InFlags:
      if (layout.kind == Kind::DoubleBit)
        out.value = Variant(static_cast<std::uint8_t>(out.flags >> 6));
      else
        out.value = Variant((out.flags & 0x80) != 0);
      break;
    case V::U16: out.value = Variant(static_cast<std::uint32_t>(in.number(2))); break;
    case V::U32: out.value = Variant(static_cast<std::uint32_t>(in.number(4))); break;
    case V::I16: out.value = Variant(static_cast<double>(static_cast<std::int16_t>(in.number(2)))); break;
    case V::I32: out.value = Variant(static_cast<double>(static_cast<std::int32_t>(in.number(4)))); break;
    case V::F32: out.value = Variant(widened(std::bit_cast<float>(static_cast<std::uint32_t>(in.number(4))))); break;
    case V::F64: out.value = Variant(std::bit_cast<double>(in.number(8))); break;
    case V::Octets: out.value = Variant(textOf(in.take(layout.variation))); break;
    case V::Packed: break;
  }
  if (layout.time == T::Absolute) out.time = timeOf(in.number(6));
  if (layout.time == T::Relative) {
    const auto after = in.number(2);
    if (commonTime) out.time = timeOf(*commonTime + after);
  }
  return out;
}

/// Which objects follow a header: their number, and where they count from or how wide their indexes are.
struct Range {
  std::uint32_t first = 0, count = 0;
  std::size_t prefix = 0;  // octets of the index before each
  bool isSound = true;
};
Range readRange(std::uint8_t qualifier, OctetReader& in) {
  Range out;
  const unsigned prefix = qualifier >> 4 & 7, range = qualifier & 0x0F;
  out.isSound = prefix <= 3;
  out.prefix = prefix == 3 ? 4 : prefix;
  if (range <= 2) {
    const std::size_t width = std::size_t{1} << range;
    out.first = static_cast<std::uint32_t>(in.number(width));
    const auto last = static_cast<std::uint32_t>(in.number(width));
    out.isSound &= last >= out.first && out.prefix == 0 && last - out.first < UINT32_MAX;
    out.count = last - out.first + 1;
  } else if (range >= 7 && range <= 9) {
    out.count = static_cast<std::uint32_t>(in.number(std::size_t{1} << (range - 7)));
  } else if (range != 6) {
    out.isSound = false;
  }
  return out;
}

class FragmentReader {
 public:
  FragmentReader(Fragment& out, OctetReader& in) : out_(out), in_(in) {}

  /// False when the rest can't be read.
  bool readHeader() {
    const auto group = static_cast<std::uint8_t>(in_.number(1)), variation = static_cast<std::uint8_t>(in_.number(1));
    const Range range = readRange(static_cast<std::uint8_t>(in_.number(1)), in_);
    if (!in_.ok() || !range.isSound) return fail(group, variation);
    if (range.count == 0) return true;
    if (group == 51 && (variation == 1 || variation == 2)) {
      for (std::uint32_t i = 0; i < range.count && in_.ok(); ++i) commonTime_ = in_.number(6);
      return in_.ok() || fail(group, variation);
    }
    if (group == 52 && (variation == 1 || variation == 2)) {
      const auto delay = static_cast<std::uint32_t>(in_.number(2)) * (variation == 1 ? 1'000u : 1u);
      out_.delay = static_cast<std::uint16_t>(std::min<std::uint32_t>(delay, UINT16_MAX));
      return in_.ok() || fail(group, variation);
    }
    if (group == 12 || group == 41) return readEchoes(group, variation, range) || fail(group, variation);
    if (const auto size = sizeOfOther(group, variation)) return passOver(*size, range) || fail(group, variation);
    const auto layout = layoutOf(group, variation);
    if (!layout) return fail(group, variation);
    return (layout->value == V::Packed ? readPacked(*layout, range) : readObjects(*layout, range)) ||
           fail(group, variation);
  }

 private:
  bool fail(int group, int variation) {
    out_.unknownObject = {group, variation};
    return false;
  }
  bool passOver(std::size_t size, const Range& range) {
    if (range.count > in_.left() / (size + range.prefix)) return false;
    (void)in_.take(range.count * (size + range.prefix));
    return in_.ok();
  }
  bool readObjects(const Layout& layout, const Range& range) {
    if (range.count > in_.left() / (layout.size() + range.prefix)) return false;
    for (std::uint32_t i = 0; i < range.count; ++i) {
      const auto index = range.prefix ? static_cast<std::uint32_t>(in_.number(range.prefix)) : range.first + i;
      auto measurement = readOne(layout, in_, commonTime_);
      if (!in_.ok()) return false;
      measurement.index = index;
      out_.measurements.push_back(std::move(measurement));
    }
    return true;
  }
  bool readPacked(const Layout& layout, const Range& range) {
    const std::uint64_t bits = layout.kind == Kind::DoubleBit ? 2 : 1;
    if (range.prefix || range.count > in_.left() * 8 / bits) return false;
    const BytesView octets = in_.take((range.count * bits + 7) / 8);
    if (!in_.ok()) return false;
    for (std::uint32_t i = 0; i < range.count; ++i) {
      const std::uint64_t at = i * bits;
      const unsigned value = std::to_integer<unsigned>(octets[at / 8]) >> (at % 8) & (bits == 2 ? 3u : 1u);
      out_.measurements.push_back({layout.kind,
                                   range.first + i,
                                   bits == 2 ? Variant(static_cast<std::uint8_t>(value)) : Variant(value != 0),
                                   kOnline,
                                   {},
                                   false});
    }
    return true;
  }
  /// Commands come back with what became of each.
  bool readEchoes(std::uint8_t group, std::uint8_t variation, const Range& range) {
    constexpr std::size_t kAnalogSizes[] = {0, 4, 2, 4, 8};
    if (group == 12 ? variation != 1 : (variation < 1 || variation > 4)) return false;
    const std::size_t size = group == 12 ? 10 : kAnalogSizes[variation];
    if (range.count > in_.left() / (size + 1 + range.prefix)) return false;
    for (std::uint32_t i = 0; i < range.count; ++i) {
      (void)in_.take(range.prefix + size);
      out_.controlStatuses.push_back(static_cast<std::uint8_t>(in_.number(1)));
    }
    return in_.ok();
  }

  Fragment& out_;
  OctetReader& in_;
  std::optional<std::uint64_t> commonTime_;  // of events with times relative to it
};

Bytes request(std::uint8_t sequence, Function function, bool isUnsolicited = false) {
  const unsigned control = 0xC0u | (isUnsolicited ? 0x10u : 0u) | (sequence & 0x0Fu);
  return {static_cast<std::byte>(control), static_cast<std::byte>(function)};
}
void putHeader(Bytes& out, std::uint8_t group, std::uint8_t variation, std::uint8_t qualifier) {
  for (const auto octet : {group, variation, qualifier}) out.push_back(static_cast<std::byte>(octet));
}
constexpr std::uint8_t kAll = 0x06, kRange8 = 0x00, kRange16 = 0x01, kCount8 = 0x07, kCount16Index16 = 0x28;

}  // namespace

const std::vector<Kind>& allKinds() {
  static const std::vector<Kind> kinds{Kind::Binary,       Kind::DoubleBit,    Kind::BinaryOutput,
                                       Kind::Counter,      Kind::Frozen,       Kind::Analog,
                                       Kind::FrozenAnalog, Kind::AnalogOutput, Kind::OctetString};
  return kinds;
}

std::string_view nameOf(Kind kind) {
  constexpr std::string_view kNames[] = {"binary", "double-bit",    "binary-output", "counter",     "frozen",
                                         "analog", "frozen-analog", "analog-output", "octet-string"};
  return kNames[static_cast<int>(kind)];
}

std::optional<Kind> kindNamed(std::string_view name) {
  const auto found = std::ranges::find(allKinds(), name, nameOf);
  return found == allKinds().end() ? std::nullopt : std::optional(*found);
}

StatusCode statusOf(const Measurement& measurement) {
  enum Flag : std::uint8_t {
    Online = 1,
    Restart = 2,
    CommLost = 4,
    RemoteForced = 8,
    LocalForced = 16,
    Fifth = 32,
    Sixth = 64
  };
  const unsigned flags = measurement.flags;
  const bool isAnalog = measurement.kind == Kind::Analog || measurement.kind == Kind::AnalogOutput ||
                        measurement.kind == Kind::FrozenAnalog;
  const bool isCounter = measurement.kind == Kind::Counter || measurement.kind == Kind::Frozen;
  if (flags & CommLost) return status::UncertainNoCommunicationLastUsableValue;
  if (flags & Restart) return status::UncertainInitialValue;
  if (!(flags & Online)) return status::BadOutOfService;
  if (isAnalog && flags & Fifth) return status::UncertainEngineeringUnitsExceeded;  // over range
  if (isAnalog && flags & Sixth) return status::UncertainSensorNotAccurate;         // reference check
  if (isCounter && flags & Sixth) return status::UncertainSubNormal;                // discontinuity
  if (!isAnalog && !isCounter && flags & Fifth) return status::UncertainSubNormal;  // chatter
  return flags & (RemoteForced | LocalForced) ? status::GoodLocalOverride : status::Good;
}

Result<Fragment> readFragment(BytesView octets) {
  OctetReader in(octets);
  const auto control = in.number(1), function = in.number(1), first = in.number(1), second = in.number(1);
  if (!in.ok()) return Error{status::BadDecodingError, "the outstation sent too few octets", {}};
  if (function != static_cast<std::uint8_t>(Function::Response) &&
      function != static_cast<std::uint8_t>(Function::Unsolicited))
    return Error{status::BadDecodingError, fmt::format("the outstation sent the function {}", function), {}};
  Fragment out;
  out.control = {(control & 0x80) != 0, (control & 0x40) != 0, (control & 0x20) != 0, (control & 0x10) != 0,
                 static_cast<std::uint8_t>(control & 0x0F)};
  out.function = static_cast<Function>(function);
  out.indications = {static_cast<std::uint8_t>(first), static_cast<std::uint8_t>(second)};
  FragmentReader reader(out, in);
  while (!in.isEmpty() && reader.readHeader()) {
  }
  return out;
}

Bytes confirm(std::uint8_t sequence, bool isUnsolicited) { return request(sequence, Function::Confirm, isUnsolicited); }

Bytes readClasses(std::uint8_t sequence, unsigned classes, const std::vector<Kind>& kinds) {
  Bytes out = request(sequence, Function::Read);
  // Events first, so that what is read of the points themselves is not older.
  for (const unsigned each : {1u, 2u, 3u, 0u})
    if (classes >> each & 1) putHeader(out, 60, static_cast<std::uint8_t>(each + 1), kAll);
  for (const Kind kind : kinds) putHeader(out, kStaticGroups[static_cast<int>(kind)], 0, kAll);
  return out;
}

Bytes readPoints(std::uint8_t sequence, Kind kind, std::uint16_t first, std::uint16_t last) {
  Bytes out = request(sequence, Function::Read);
  putHeader(out, kStaticGroups[static_cast<int>(kind)], 0, kRange16);
  putNumber(out, first, 2);
  putNumber(out, last, 2);
  return out;
}

Bytes unsolicited(std::uint8_t sequence, bool on, unsigned classes) {
  Bytes out = request(sequence, on ? Function::EnableUnsolicited : Function::DisableUnsolicited);
  for (const unsigned each : {1u, 2u, 3u})
    if (classes >> each & 1) putHeader(out, 60, static_cast<std::uint8_t>(each + 1), kAll);
  return out;
}

Bytes clearRestart(std::uint8_t sequence) {
  constexpr std::uint8_t kRestartBit = 7;
  Bytes out = request(sequence, Function::Write);
  putHeader(out, 80, 1, kRange8);
  for (const std::uint8_t octet : {kRestartBit, kRestartBit, std::uint8_t{0}})
    out.push_back(static_cast<std::byte>(octet));
  return out;
}

Bytes measureDelay(std::uint8_t sequence) { return request(sequence, Function::DelayMeasure); }

Bytes writeTime(std::uint8_t sequence, DateTime time) {
  Bytes out = request(sequence, Function::Write);
  putHeader(out, 50, 1, kCount8);
  putNumber(out, 1, 1);
  putNumber(out, static_cast<std::uint64_t>(std::max<std::int64_t>(time.ticks - kUnixEpoch, 0) / kTicksPerMs), 6);
  return out;
}

Bytes freezeCounters(std::uint8_t sequence) {
  Bytes out = request(sequence, Function::Freeze);
  putHeader(out, 20, 0, kAll);
  return out;
}

Bytes command(std::uint8_t sequence, Function function, const Command& wanted) {
  Bytes out = request(sequence, function);
  putHeader(out, wanted.isBinary ? 12 : 41, wanted.isBinary ? 1 : wanted.variation, kCount16Index16);
  putNumber(out, 1, 2);
  putNumber(out, wanted.index, 2);
  if (wanted.isBinary) {
    putNumber(out, wanted.code, 1);
    putNumber(out, 1, 1);  // once
    putNumber(out, wanted.onTime, 4);
    putNumber(out, 0, 4);
  } else {
    switch (wanted.variation) {
      case 1:
        putNumber(out, static_cast<std::uint32_t>(static_cast<std::int32_t>(std::lround(wanted.number))), 4);
        break;
      case 2:
        putNumber(out, static_cast<std::uint16_t>(static_cast<std::int16_t>(std::lround(wanted.number))), 2);
        break;
      case 3: putNumber(out, std::bit_cast<std::uint32_t>(static_cast<float>(wanted.number)), 4); break;
      default: putNumber(out, std::bit_cast<std::uint64_t>(wanted.number), 8); break;
    }
  }
  putNumber(out, 0, 1);  // its status
  return out;
}

Error controlOutcome(std::uint8_t outcome) {
  const auto says = [&](StatusCode code, const char* words) {
    return Error{code, fmt::format("the outstation says: {}", words), {}};
  };
  switch (outcome) {
    case 0: return {status::Good, {}, {}};
    case 1: return says(status::BadTimeout, "the operate came too late after the select");
    case 2: return says(status::BadInvalidState, "there was no select before the operate");
    case 3: return says(status::BadOutOfRange, "the command is not sound for this point");
    case 4: return says(status::BadNotSupported, "this point can't be commanded so");
    case 5: return says(status::BadInvalidState, "it is being operated already");
    case 6: return says(status::BadDeviceFailure, "its hardware has failed");
    case 7: return says(status::BadNotWritable, "it is switched to local");
    case 8: return says(status::BadTooManyOperations, "too many are operated at once");
    case 9: return says(status::BadUserAccessDenied, "this master may not");
    case 10: return says(status::BadNotWritable, "its automation forbids it");
    default: return says(status::BadDeviceFailure, "it refuses");
  }
}

}  // namespace zunth::device::dnp3
