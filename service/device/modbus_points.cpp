#include "service/device/modbus_points.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <bit>

#include <fmt/format.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

const std::vector<std::string> kTables = {"coil", "discrete", "input", "holding"};
const std::vector<std::string> kTypes = {"Boolean", "Int16", "UInt16", "Int32",  "UInt32", "Int64",
                                         "UInt64",  "Float", "Double", "String", "BCD",    "BCD32"};
const std::vector<std::string> kWords = {"low-word-first", "low-byte-first", "read-only"};
constexpr std::uint16_t kMostRegisters = 125, kMostBits = 2000;  // that are read at once
constexpr std::uint16_t kMostWritten = 123, kMostBitsWritten = 1968;

std::optional<BuiltInType> typeNamed(std::string_view name) {
  for (auto type :
       {BuiltInType::Boolean, BuiltInType::Int16, BuiltInType::UInt16, BuiltInType::Int32, BuiltInType::UInt32,
        BuiltInType::Int64, BuiltInType::UInt64, BuiltInType::Float, BuiltInType::Double, BuiltInType::String})
    if (nameOf(type) == name) return type;
  return std::nullopt;
}

std::uint16_t swapped(std::uint16_t r) { return static_cast<std::uint16_t>(r << 8 | r >> 8); }

/// "Float[10]" as Float and 10; nothing for what is no such word, and 0 for a length that isn't from 1 to 2000.
std::optional<std::pair<std::string, std::uint16_t>> arrayWord(const std::string& word) {
  const auto bracket = word.find('[');
  if (bracket == std::string::npos || bracket == 0 || word.back() != ']') return std::nullopt;
  const auto length = parse(word.substr(bracket + 1, word.size() - bracket - 2), BuiltInType::UInt16);
  const std::uint16_t number = length ? *length->get<std::uint16_t>() : 0;
  return std::pair(word.substr(0, bracket), number <= kMostBits ? number : std::uint16_t{0});
}

/// A place as its elements have it.
Place elementOf(const Place& place) {
  Place one = place;
  one.count = static_cast<std::uint16_t>(place.count / place.length);
  one.length = 0;
  return one;
}

/// The registers' bits as one number, in the point's word and byte order.
std::uint64_t join(const Place& place, std::span<const std::uint16_t> registers) {
  std::uint64_t bits = 0;
  for (std::size_t i = 0; i < registers.size(); ++i) {
    const std::uint16_t r = place.lowWordFirst ? registers[registers.size() - 1 - i] : registers[i];
    bits = bits << 16 | (place.lowByteFirst ? swapped(r) : r);
  }
  return bits;
}

/// Four bits a decimal digit; nothing where they are none.
std::optional<std::uint64_t> fromDigits(std::uint64_t digits) {
  std::uint64_t number = 0;
  for (int shift = 60; shift >= 0; shift -= 4) {
    const std::uint64_t digit = digits >> shift & 0xF;
    if (digit > 9) return std::nullopt;
    number = number * 10 + digit;
  }
  return number;
}
std::optional<std::uint64_t> toDigits(std::uint64_t number, int most) {
  std::uint64_t digits = 0;
  for (int i = 0; i < most; ++i, number /= 10) digits |= number % 10 << (4 * i);
  return number == 0 ? std::optional(digits) : std::nullopt;
}

std::vector<std::uint16_t> cut(const Place& place, std::uint64_t bits) {
  std::vector<std::uint16_t> out(place.count);
  for (std::size_t i = 0; i < out.size(); ++i) {
    const auto r = static_cast<std::uint16_t>(bits >> (16 * (out.size() - 1 - i)));
    out[place.lowWordFirst ? out.size() - 1 - i : i] = place.lowByteFirst ? swapped(r) : r;
  }
  return out;
}

}  // namespace

std::uint16_t registersOf(BuiltInType type) {
  switch (type) {
    case BuiltInType::Int32:
    case BuiltInType::UInt32:
    case BuiltInType::Float: return 2;
    case BuiltInType::Int64:
    case BuiltInType::UInt64:
    case BuiltInType::Double: return 4;
    default: return 1;
  }
}

std::string_view nameOf(Table table) { return kTables[static_cast<std::size_t>(table)]; }

std::optional<ModbusPoint> parsePoint(const model::Text& name, const model::Text& words, Conversion& conversion,
                                      model::Findings& findings, const Place& usual) {
  ModbusPoint out;
  Place& place = out.place;
  out.point.name = name.text;
  out.point.where = words.text;
  const auto parts = wordsOf(words);
  auto fail = [&](const model::Text& at, std::string message, std::string hint) {
    findings.error(at.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  auto didYouMean = [](const std::string& typed, const std::vector<std::string>& known, std::string otherwise) {
    const auto near = nearest(typed, known);
    return near.empty() ? otherwise : fmt::format("did you mean '{}'?", near);
  };
  auto number = [&](std::size_t i, BuiltInType type) {
    return i < parts.size() ? parse(parts[i].text, type) : Result<Variant>(status::BadSyntaxError);
  };
  if (parts.size() < 2) return fail(words, "a point is a table and an address", "as in: input 0 Float");
  const auto table = std::ranges::find(kTables, parts[0].text);
  if (table == kTables.end())
    return fail(parts[0], fmt::format("there is no table '{}'", parts[0].text),
                didYouMean(parts[0].text, kTables, "the tables are coil, discrete, input and holding"));
  place.table = static_cast<Table>(table - kTables.begin());
  auto address = number(1, BuiltInType::UInt16);
  if (!address)
    return fail(parts[1], fmt::format("'{}' is no address", parts[1].text),
                "addresses count from 0 to 65535, as on the wire");
  place.address = *address->get<std::uint16_t>();
  place.raw = isBits(place.table) ? BuiltInType::Boolean : usual.raw;
  place.count = isBits(place.table) ? 1 : registersOf(place.raw);
  place.length = usual.length;

  bool readOnly = !canWrite(place.table);
  for (std::size_t i = 2; i < parts.size();) {
    const auto isConversion = readConversion(parts, i, conversion, findings);
    if (!isConversion) return std::nullopt;
    if (*isConversion) continue;
    std::string word = parts[i].text;
    if (const auto array = arrayWord(word); array && i == 2) {
      if (array->second == 0 || array->first == "String")
        return fail(parts[i], fmt::format("'{}' is no array", word), "as in: holding 100 Float[10]");
      word = array->first;
      place.length = array->second;
    }
    if (word == "read-only") {
      readOnly = true;
    } else if (word == "low-word-first") {
      place.lowWordFirst = true;
    } else if (word == "low-byte-first") {
      place.lowByteFirst = true;
    } else if (i == 2 && !isBits(place.table) && (word == "BCD" || word == "BCD32")) {
      place.isDecimal = true;
      place.raw = word == "BCD" ? BuiltInType::UInt16 : BuiltInType::UInt32;
      place.count = registersOf(place.raw);
    } else if (auto type = typeNamed(word); type && i == 2) {
      if (isBits(place.table) && *type != BuiltInType::Boolean)
        return fail(parts[i], fmt::format("a {} is a Boolean, no {}", parts[0].text, word), "leave the type out");
      place.raw = *type;
      place.count = registersOf(*type);
      if (*type == BuiltInType::String) {
        auto length = number(++i, BuiltInType::UInt16);
        if (!length || *length->get<std::uint16_t>() == 0 || *length->get<std::uint16_t>() > kMostRegisters)
          return fail(parts[2], "a String needs its number of registers, 1 to 125", "as in: holding 40 String 8");
        place.count = *length->get<std::uint16_t>();
      }
    } else {
      std::vector<std::string> known = i == 2 ? kTypes : kWords;
      known.insert(known.end(), conversionWords().begin(), conversionWords().end());
      return fail(parts[i], fmt::format("'{}' means nothing here", word),
                  didYouMean(word, known,
                             "after the address come a type, 'bit N', 'scale X', 'offset Y', 'named 0=off 1=on', "
                             "low-word-first, low-byte-first, read-only"));
    }
    ++i;
  }
  if (!checkConversion(conversion, place.raw, words, findings, place.length > 0)) return std::nullopt;
  const int most = isBits(place.table) ? kMostBits : kMostRegisters;
  const int whole = std::max<int>(place.length, 1) * place.count;
  if (whole > most)
    return fail(words,
                fmt::format("{} {} are read at once at most, and the point has {}", most,
                            isBits(place.table) ? "bits" : "registers", whole),
                "make several points of it");
  place.count = static_cast<std::uint16_t>(whole);
  if (place.address + place.count > 65536) return fail(parts[1], "the point ends beyond address 65535", {});
  if (const int written = isBits(place.table) ? kMostBitsWritten : kMostWritten; !readOnly && place.count > written)
    return fail(words,
                fmt::format("{} {} are written at once at most, and the point has {}", written,
                            isBits(place.table) ? "bits" : "registers", place.count),
                "write read-only behind it, or make it shorter");
  out.point.isWritable = !readOnly;
  out.point.type = place.raw;
  out.point.length = place.length;
  return out;
}

std::vector<ReadRequest> plan(const std::vector<ModbusPoint>& points, std::span<const PointIndex> wanted,
                              std::uint16_t gap) {
  std::vector<PointIndex> order(wanted.begin(), wanted.end());
  std::ranges::sort(order, {}, [&](PointIndex i) {
    return std::tuple(points[i].place.table, points[i].place.address, points[i].place.count);
  });
  std::vector<ReadRequest> out;
  for (PointIndex i : order) {
    const Place& place = points[i].place;
    const int most = isBits(place.table) ? kMostBits : kMostRegisters;
    if (!out.empty() && out.back().table == place.table) {
      ReadRequest& last = out.back();
      const int end = std::max(last.first + last.count, place.address + place.count);
      if (place.address <= last.first + last.count + gap && end - last.first <= most) {
        last.count = static_cast<std::uint16_t>(end - last.first);
        last.points.push_back(i);
        continue;
      }
    }
    out.push_back({place.table, place.address, place.count, {i}});
  }
  return out;
}

std::pair<std::uint16_t, int> bitAt(const Place& place, int bit) {
  const int fromLow = bit / 16, own = bit % 16;
  const int index = place.lowWordFirst ? fromLow : place.count - 1 - fromLow;
  return {static_cast<std::uint16_t>(place.address + index), place.lowByteFirst ? own ^ 8 : own};
}

Variant decode(const Place& place, std::span<const std::uint16_t> registers) {
  if (place.length > 0) {
    const Place one = elementOf(place);
    std::vector<Variant> elements;
    for (std::size_t i = 0; i < place.length; ++i)
      elements.push_back(decode(one, registers.subspan(i * one.count, one.count)));
    const auto array = arrayOf(elements, place.raw);
    return array ? *array : Variant();
  }
  const std::uint64_t joined = join(place, registers);
  const auto digits = place.isDecimal ? fromDigits(joined) : joined;
  if (!digits) return {};
  const std::uint64_t bits = *digits;
  switch (place.raw) {
    case BuiltInType::Boolean: return Variant(bits != 0);
    case BuiltInType::Int16: return Variant(static_cast<std::int16_t>(bits));
    case BuiltInType::UInt16: return Variant(static_cast<std::uint16_t>(bits));
    case BuiltInType::Int32: return Variant(static_cast<std::int32_t>(bits));
    case BuiltInType::UInt32: return Variant(static_cast<std::uint32_t>(bits));
    case BuiltInType::Int64: return Variant(static_cast<std::int64_t>(bits));
    case BuiltInType::UInt64: return Variant(bits);
    case BuiltInType::Float: return Variant(std::bit_cast<float>(static_cast<std::uint32_t>(bits)));
    case BuiltInType::Double: return Variant(std::bit_cast<double>(bits));
    default: {
      std::string text;
      for (std::uint16_t r : registers) {
        if (place.lowByteFirst) r = swapped(r);
        text += static_cast<char>(r >> 8);
        text += static_cast<char>(r & 0xFF);
      }
      text.resize(std::min(text.find('\0'), text.size()));
      text.erase(text.find_last_not_of(' ') + 1);
      return Variant(textOf(text));
    }
  }
}

Result<std::vector<std::uint16_t>> encode(const Place& place, const Variant& value) {
  if (value.isArray() != (place.length > 0) || value.length() != place.length)
    return Error{status::BadTypeMismatch,
                 place.length > 0 ? fmt::format("the point takes {} elements", place.length)
                                  : std::string("the point takes a single value"),
                 {}};
  if (place.length > 0) {
    const Place one = elementOf(place);
    std::vector<std::uint16_t> out;
    for (const auto& element : elementsOf(value)) {
      auto registers = encode(one, element);
      if (!registers) return registers;
      out.insert(out.end(), registers->begin(), registers->end());
    }
    return out;
  }
  if (place.raw == BuiltInType::String) {
    const auto* text = value.get<String>();
    if (!text) return Error{status::BadTypeMismatch, "the point takes text", {}};
    if (text->size() > place.count * 2u)
      return Error{status::BadOutOfRange,
                   fmt::format("the point holds {} characters, not {}", place.count * 2, text->size()),
                   {}};
    std::vector<std::uint16_t> out(place.count);
    for (std::size_t i = 0; i < text->size(); ++i) {
      const auto octet = static_cast<std::uint16_t>(static_cast<unsigned char>(text->view()[i]));
      out[i / 2] = static_cast<std::uint16_t>(out[i / 2] | (i % 2 ? octet : octet << 8));
    }
    if (place.lowByteFirst)
      for (auto& r : out) r = swapped(r);
    return out;
  }
  const auto raw = convert(value, place.raw, true);
  if (!raw) return raw.error();
  std::uint64_t bits = 0;
  visitBuiltIn(raw->type(), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_same_v<T, float>)
      bits = std::bit_cast<std::uint32_t>(*raw->get<float>());
    else if constexpr (std::is_same_v<T, double>)
      bits = std::bit_cast<std::uint64_t>(*raw->get<double>());
    else if constexpr (std::is_arithmetic_v<T>)
      bits = static_cast<std::uint64_t>(*raw->get<T>());
  });
  if (place.isDecimal) {
    const auto digits = toDigits(bits, place.count * 4);
    if (!digits) return Error{status::BadOutOfRange, fmt::format("the point has {} digits", place.count * 4), {}};
    bits = *digits;
  }
  return cut(place, bits);
}

}  // namespace zunth::device::modbus
