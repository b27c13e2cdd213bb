#include "core/history/block.hpp"

#include "core/history/varint.hpp"
#include "core/ua/binary_reader.hpp"

#include <array>
#include <cmath>
#include <memory>
#include <optional>

#include <zstd.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr std::uint8_t kVersion = 1;
constexpr std::uint8_t kMixed = 255;  // values of several types, or of a type without a way of its own
constexpr std::size_t kMostOctets = 64u << 20;
/// What differences of times are counted in, the largest that fits them all: ticks of 100 ns, 1 µs, 1 ms, 1 s.
constexpr std::array<std::int64_t, 4> kTimeUnits{1, 10, 10'000, 10'000'000};
constexpr std::array<double, 10> kTens{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9};
constexpr std::uint8_t kNoDecimals = 255;

enum class ServerTimes : std::uint8_t { None, SameAsSource, Differences };

constexpr std::int64_t wrapping(std::uint64_t value) { return static_cast<std::int64_t>(value); }
constexpr std::int64_t minus(std::int64_t a, std::int64_t b) {
  return wrapping(static_cast<std::uint64_t>(a) - static_cast<std::uint64_t>(b));
}
constexpr std::int64_t plus(std::int64_t a, std::int64_t b) {
  return wrapping(static_cast<std::uint64_t>(a) + static_cast<std::uint64_t>(b));
}
constexpr std::int64_t times(std::int64_t a, std::int64_t b) {
  return wrapping(static_cast<std::uint64_t>(a) * static_cast<std::uint64_t>(b));
}

// Times

std::uint8_t unitOf(std::span<const std::int64_t> differences) {
  std::uint8_t unit = kTimeUnits.size() - 1;
  for (const auto difference : differences)
    while (difference % kTimeUnits[unit] != 0) --unit;
  return unit;
}

/// The first as it stands, the others as differences of their differences.
void writeTimes(VarintWriter& out, std::span<const DataValue> samples) {
  std::vector<std::int64_t> differences(samples.size() - 1);
  for (std::size_t i = 1; i < samples.size(); ++i)
    differences[i - 1] = minus(samples[i].sourceTimestamp.ticks, samples[i - 1].sourceTimestamp.ticks);
  const auto unit = unitOf(differences);
  out.fixed(samples[0].sourceTimestamp.ticks);
  out.octet(unit);
  std::int64_t last = 0;
  for (const auto difference : differences) {
    const std::int64_t count = difference / kTimeUnits[unit];
    out.difference(minus(count, last));
    last = count;
  }
}

void readTimes(VarintReader& in, std::vector<DataValue>& samples) {
  std::int64_t at = in.fixed<std::int64_t>();
  const std::int64_t unit = kTimeUnits[in.octet() % kTimeUnits.size()];
  std::int64_t difference = 0;
  samples[0].sourceTimestamp.ticks = at;
  for (std::size_t i = 1; i < samples.size(); ++i) {
    difference = plus(difference, in.difference());
    at = plus(at, times(difference, unit));
    samples[i].sourceTimestamp.ticks = at;
  }
}

void writeServerTimes(VarintWriter& out, std::span<const DataValue> samples) {
  bool areNone = true, areSame = true;
  for (const auto& sample : samples) {
    areNone &= sample.serverTimestamp.isNull();
    areSame &= sample.serverTimestamp == sample.sourceTimestamp;
  }
  out.octet(static_cast<std::uint8_t>(areNone   ? ServerTimes::None
                                      : areSame ? ServerTimes::SameAsSource
                                                : ServerTimes::Differences));
  if (areNone || areSame) return;
  std::vector<std::int64_t> differences;
  std::int64_t last = 0;
  for (const auto& sample : samples) {
    const std::int64_t later = minus(sample.serverTimestamp.ticks, sample.sourceTimestamp.ticks);
    differences.push_back(minus(later, last));
    last = later;
  }
  const auto unit = unitOf(differences);
  out.octet(unit);
  for (const auto difference : differences) out.difference(difference / kTimeUnits[unit]);
}

void readServerTimes(VarintReader& in, std::vector<DataValue>& samples) {
  const auto how = static_cast<ServerTimes>(in.octet());
  if (how == ServerTimes::SameAsSource)
    for (auto& sample : samples) sample.serverTimestamp = sample.sourceTimestamp;
  if (how != ServerTimes::Differences) return;
  const std::int64_t unit = kTimeUnits[in.octet() % kTimeUnits.size()];
  std::int64_t later = 0;
  for (auto& sample : samples) {
    later = plus(later, times(in.difference(), unit));
    sample.serverTimestamp.ticks = plus(sample.sourceTimestamp.ticks, later);
  }
}

// Runs

/// How long each run of equal things is, with what it is.
template <class Of, class Write>
void writeRuns(VarintWriter& out, std::size_t count, Of of, Write write) {
  for (std::size_t at = 0; at < count;) {
    const auto what = of(at);
    std::size_t end = at + 1;
    while (end < count && of(end) == what) ++end;
    out.number(end - at);
    write(what);
    at = end;
  }
}

template <class Read, class Set>
void readRuns(VarintReader& in, std::size_t count, Read read, Set set) {
  for (std::size_t at = 0; at < count && in.ok();) {
    const std::uint64_t length = in.number();
    const auto what = read();
    if (length == 0) return static_cast<void>(in.octets(SIZE_MAX));
    for (const std::size_t end = at + std::min<std::uint64_t>(length, count - at); at < end; ++at) set(at, what);
  }
}

// Values

template <class T>
using BitsOf = std::conditional_t<sizeof(T) == 4, std::uint32_t, std::uint64_t>;

/// How many decimals all of them have, when they are decimal fractions; they are then kept as whole numbers.
template <class T>
std::uint8_t decimalsOf(const std::vector<T>& values) {
  constexpr double kMost = 1e15;  // what a double holds exactly, with room
  std::uint8_t decimals = 0;
  for (const T value : values)
    for (;; ++decimals) {
      if (decimals == kTens.size()) return kNoDecimals;
      const double whole = std::nearbyint(static_cast<double>(value) * kTens[decimals]);
      if (!(std::fabs(whole) < kMost)) return kNoDecimals;
      const T back = static_cast<T>(whole / kTens[decimals]);
      if (std::bit_cast<BitsOf<T>>(back) == std::bit_cast<BitsOf<T>>(value)) break;
    }
  // A number of decimals must fit those before it, too.
  for (const T value : values) {
    const double whole = std::nearbyint(static_cast<double>(value) * kTens[decimals]);
    if (!(std::fabs(whole) < kMost) ||
        std::bit_cast<BitsOf<T>>(static_cast<T>(whole / kTens[decimals])) != std::bit_cast<BitsOf<T>>(value))
      return kNoDecimals;
  }
  return decimals;
}

template <class T>
void writeFractions(VarintWriter& out, const std::vector<T>& values) {
  const auto decimals = decimalsOf(values);
  out.octet(decimals);
  if (decimals != kNoDecimals) {
    std::int64_t last = 0;
    for (const T value : values) {
      const auto whole = static_cast<std::int64_t>(std::nearbyint(static_cast<double>(value) * kTens[decimals]));
      out.difference(whole - last);
      last = whole;
    }
    return;
  }
  // What differs from the one before, octet by octet of all: those that stay the same stand together.
  std::vector<BitsOf<T>> changes;
  BitsOf<T> last = 0;
  for (const T value : values) {
    changes.push_back(std::bit_cast<BitsOf<T>>(value) ^ last);
    last = std::bit_cast<BitsOf<T>>(value);
  }
  for (std::size_t octet = 0; octet < sizeof(T); ++octet)
    for (const auto change : changes) out.octet(static_cast<std::uint8_t>(change >> (8 * octet)));
}

template <class T, class Set>
void readFractions(VarintReader& in, std::size_t count, Set set) {
  const auto decimals = in.octet();
  if (decimals < kTens.size()) {
    std::int64_t whole = 0;
    const double ten = kTens[decimals];
    for (std::size_t i = 0; i < count; ++i) {
      whole = plus(whole, in.difference());
      set(static_cast<T>(static_cast<double>(whole) / ten));
    }
    return;
  }
  const auto planes = in.octets(count * sizeof(T));
  if (planes.empty()) return;
  BitsOf<T> bits = 0;
  for (std::size_t i = 0; i < count; ++i) {
    BitsOf<T> change = 0;
    for (std::size_t octet = 0; octet < sizeof(T); ++octet)
      change |= static_cast<BitsOf<T>>(static_cast<std::uint8_t>(planes[octet * count + i])) << (8 * octet);
    bits ^= change;
    set(std::bit_cast<T>(bits));
  }
}

template <class T>
constexpr bool kIsWhole = std::is_integral_v<T> && !std::is_same_v<T, bool>;

bool hasOwnWay(BuiltInType type) { return type >= BuiltInType::Boolean && type <= BuiltInType::Double; }

void writeValues(VarintWriter& out, Bytes& octets, std::span<const DataValue> samples, std::uint8_t kind) {
  if (kind == kMixed) {
    BinaryWriter writer(octets);
    for (const auto& sample : samples) writer.write(sample.value);
    return;
  }
  writeRuns(
      out, samples.size(), [&](std::size_t i) { return samples[i].value.isNull(); },
      [&](bool isNull) { out.octet(isNull); });
  visitBuiltIn(static_cast<BuiltInType>(kind), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>) {
      std::vector<T> values;
      values.reserve(samples.size());
      for (const auto& sample : samples)
        if (const T* value = sample.value.get<T>()) values.push_back(*value);
      if constexpr (std::is_same_v<T, bool>) {
        writeRuns(
            out, values.size(), [&](std::size_t i) -> bool { return values[i]; },
            [&](bool value) { out.octet(value); });
      } else if constexpr (kIsWhole<T>) {
        std::int64_t last = 0;
        for (const T value : values) {
          out.difference(minus(static_cast<std::int64_t>(value), last));
          last = static_cast<std::int64_t>(value);
        }
      } else {
        writeFractions(out, values);
      }
    }
  });
}

Result<void> readValues(VarintReader& in, BytesView rest, std::vector<DataValue>& samples, std::uint8_t kind) {
  if (kind == kMixed) {
    BinaryReader reader(rest);
    for (auto& sample : samples) reader.read(sample.value);
    if (!reader.ok()) return reader.error();
    if (reader.remaining() != 0) return Error{status::BadDecodingError, "a block of history has a tail", {}};
    return {};
  }
  std::vector<std::uint32_t> present;
  present.reserve(samples.size());
  readRuns(
      in, samples.size(), [&] { return in.octet() != 0; },
      [&](std::size_t i, bool isNull) {
        if (!isNull) present.push_back(static_cast<std::uint32_t>(i));
      });
  visitBuiltIn(static_cast<BuiltInType>(kind), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_same_v<T, bool>) {
      readRuns(
          in, present.size(), [&] { return in.octet() != 0; },
          [&](std::size_t i, bool value) { samples[present[i]].value = Variant(value); });
    } else if constexpr (kIsWhole<T>) {
      std::int64_t value = 0;
      for (const auto i : present) {
        value = plus(value, in.difference());
        samples[i].value = Variant(static_cast<T>(value));
      }
    } else if constexpr (std::is_floating_point_v<T>) {
      auto at = present.begin();
      readFractions<T>(in, present.size(), [&](T value) { samples[*at++].value = Variant(value); });
    }
  });
  if (!in.ok() || !in.atEnd()) return Error{status::BadDecodingError, "a block of history ends early or late", {}};
  return {};
}

/// Which way of writing all values have.
std::uint8_t kindOf(std::span<const DataValue> samples) {
  auto type = BuiltInType::Null;
  for (const auto& sample : samples) {
    if (sample.value.isNull()) continue;
    if (sample.value.isArray() || !hasOwnWay(sample.value.type())) return kMixed;
    if (type == BuiltInType::Null) type = sample.value.type();
    if (type != sample.value.type()) return kMixed;
  }
  return static_cast<std::uint8_t>(type == BuiltInType::Null ? BuiltInType::Boolean : type);
}

Error broken(const char* what) { return {status::BadDecodingError, std::string("a block of history ") + what, {}}; }

struct FreeContext {
  void operator()(ZSTD_CCtx* context) const { ZSTD_freeCCtx(context); }
};

}  // namespace

Bytes encodeBlock(std::span<const DataValue> samples) {
  Bytes plain;
  VarintWriter out(plain);
  const auto kind = kindOf(samples);
  out.octet(kVersion);
  out.octet(kind);
  out.number(samples.size());
  writeTimes(out, samples);
  writeServerTimes(out, samples);
  writeRuns(
      out, samples.size(), [&](std::size_t i) { return samples[i].status.value; },
      [&](std::uint32_t status) { out.fixed(status); });
  writeValues(out, plain, samples, kind);

  constexpr int kLevel = 3;
  thread_local const std::unique_ptr<ZSTD_CCtx, FreeContext> context(ZSTD_createCCtx());
  ZSTD_CCtx_reset(context.get(), ZSTD_reset_session_and_parameters);
  ZSTD_CCtx_setParameter(context.get(), ZSTD_c_compressionLevel, kLevel);
  ZSTD_CCtx_setParameter(context.get(), ZSTD_c_checksumFlag, 1);
  Bytes packed(ZSTD_compressBound(plain.size()));
  packed.resize(ZSTD_compress2(context.get(), packed.data(), packed.size(), plain.data(), plain.size()));
  return packed;
}

Result<std::vector<DataValue>> decodeBlock(BytesView octets) {
  const auto size = ZSTD_getFrameContentSize(octets.data(), octets.size());
  if (size == ZSTD_CONTENTSIZE_UNKNOWN || size == ZSTD_CONTENTSIZE_ERROR || size > kMostOctets)
    return broken("has no sound beginning");
  thread_local Bytes plain;
  if (plain.capacity() > 1u << 20) plain = {};
  plain.resize(size);
  if (ZSTD_isError(ZSTD_decompress(plain.data(), plain.size(), octets.data(), octets.size())))
    return broken("does not match its checksum");
  VarintReader in(plain);
  if (in.octet() != kVersion) return broken("is of a version that this program does not know");
  const auto kind = in.octet();
  const auto count = in.number();
  if (kind != kMixed && !hasOwnWay(static_cast<BuiltInType>(kind))) return broken("has values of no known kind");
  if (!in.ok() || count == 0 || count > kMostInBlock) return broken("holds no number of samples that can be");
  std::vector<DataValue> samples(count);
  readTimes(in, samples);
  readServerTimes(in, samples);
  readRuns(
      in, count, [&] { return in.fixed<std::uint32_t>(); },
      [&](std::size_t i, std::uint32_t status) { samples[i].status.value = status; });
  if (!in.ok()) return broken("ends early");
  if (auto fine = readValues(in, in.rest(), samples, kind); !fine) return fine.error();
  return samples;
}

}  // namespace zunth::history
