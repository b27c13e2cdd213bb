#include "service/device/conversion.hpp"

#include "core/ua/text.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

bool isWhole(BuiltInType type) { return isNumeric(type) && type != BuiltInType::Float && type != BuiltInType::Double; }

int bitsOf(BuiltInType type) {
  switch (type) {
    case BuiltInType::SByte:
    case BuiltInType::Byte: return 8;
    case BuiltInType::Int16:
    case BuiltInType::UInt16: return 16;
    case BuiltInType::Int32:
    case BuiltInType::UInt32: return 32;
    default: return 64;
  }
}

Error noNumber(const Variant& value) {
  return {status::BadTypeMismatch, fmt::format("{} is no number", format(value)), {}};
}

}  // namespace

std::vector<Text> wordsOf(const Text& text) {
  std::vector<Text> out;
  for (std::size_t at = text.text.find_first_not_of(' '); at < text.text.size();
       at = text.text.find_first_not_of(' ', at)) {
    const auto end = std::min(text.text.find(' ', at), text.text.size());
    out.push_back(text.part(at, end - at));
    at = end;
  }
  return out;
}

BuiltInType Conversion::typeFrom(BuiltInType raw) const {
  if (bit >= 0) return BuiltInType::Boolean;
  if (!names.empty()) return BuiltInType::String;
  return isScaled() ? BuiltInType::Double : raw;
}

Result<Variant> Conversion::toNode(Variant raw, Trace* trace) const {
  const auto tell = [trace](std::string what, const Variant& shows) {
    if (trace) trace->push_back({std::move(what), format(shows)});
  };
  if (isIdentity()) return raw;
  if (bit >= 0) {
    std::uint64_t bits = 0;
    if (const auto positive = convert(raw, BuiltInType::UInt64))
      bits = *positive->get<std::uint64_t>();
    else if (const auto negative = convert(raw, BuiltInType::Int64))
      bits = static_cast<std::uint64_t>(*negative->get<std::int64_t>());
    else
      return noNumber(raw);
    Variant taken((bits >> bit & 1) != 0);
    tell(fmt::format("bit {}", bit), taken);
    return taken;
  }
  double number = 0;
  if (!raw.toDouble(number)) return noNumber(raw);
  if (isScaled()) {
    // Dividing by 10 gives 1894.6 where multiplying by 0.1 gives 1894.6000000000001.
    const double divisor = std::round(1 / scale);
    const bool isFraction = divisor != 0 && 1 / divisor == scale;
    number = (isFraction ? number / divisor : number * scale) + offset;
    tell(fmt::format("× {:g} + {:g}", scale, offset), Variant(number));
  }
  if (names.empty()) return Variant(number);
  const auto named =
      std::ranges::find_if(names, [&](const auto& name) { return static_cast<double>(name.first) == number; });
  if (named == names.end())
    return Error{status::BadOutOfRange, fmt::format("{:g} has no name in the device's file", number), {}};
  Variant text(String(named->second));
  tell("named", text);
  return text;
}

Result<Variant> Conversion::toDevice(const Variant& value, BuiltInType raw) const {
  // One bit of a register can't be written without racing the device for the others.
  if (bit >= 0) return Error{status::BadNotWritable, "a single bit of a number can't be written", {}};
  Variant plain = value;
  if (!names.empty()) {
    const auto* text = value.get<String>();
    if (!text) return Error{status::BadTypeMismatch, "the point takes one of its names", {}};
    const auto named = std::ranges::find(names, text->str(), &std::pair<std::int64_t, std::string>::second);
    if (named == names.end())
      return Error{status::BadOutOfRange, fmt::format("the point knows no '{}'", text->str()), {}};
    plain = Variant(static_cast<double>(named->first));
  }
  double number = 0;
  if (isScaled()) {
    if (!plain.toDouble(number)) return noNumber(plain);
    plain = Variant((number - offset) / scale);
  }
  return convert(plain, raw, true);
}

const std::vector<std::string>& conversionWords() {
  static const std::vector<std::string> words{"bit", "scale", "offset", "named"};
  return words;
}

std::optional<bool> readConversion(const std::vector<Text>& words, std::size_t& at, Conversion& conversion,
                                   Findings& findings) {
  const Text& word = words[at];
  const auto fail = [&](const Text& where, std::string message, std::string hint) -> std::optional<bool> {
    findings.error(where.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  const auto number = [&](BuiltInType type) {
    return at + 1 < words.size() ? parse(words[at + 1].text, type) : Result<Variant>(status::BadSyntaxError);
  };
  if (word.text == "bit") {
    const auto bit = number(BuiltInType::Byte);
    if (!bit || *bit->get<std::uint8_t>() > 63) return fail(word, "'bit' needs a number from 0", "0 is the lowest bit");
    conversion.bit = *bit->get<std::uint8_t>();
    at += 2;
    return true;
  }
  if (word.text == "scale" || word.text == "offset") {
    const bool isScale = word.text == "scale";
    const auto value = number(BuiltInType::Double);
    if (!value || !std::isfinite(*value->get<double>()) || (isScale && *value->get<double>() == 0))
      return fail(word, fmt::format("'{}' needs a number{}", word.text, isScale ? " other than 0" : ""),
                  fmt::format("as in: {} 0.1", word.text));
    (isScale ? conversion.scale : conversion.offset) = *value->get<double>();
    at += 2;
    return true;
  }
  if (word.text != "named") return false;
  for (++at; at < words.size(); ++at) {
    const auto equals = words[at].text.find('=');
    if (equals == std::string::npos) break;
    const auto key = parse(words[at].text.substr(0, equals), BuiltInType::Int64);
    const std::string name = words[at].text.substr(equals + 1);
    if (!key || name.empty()) return fail(words[at], "a name is written NUMBER=NAME", "as in: named 0=off 1=on");
    conversion.names.emplace_back(*key->get<std::int64_t>(), name);
  }
  if (conversion.names.empty()) return fail(word, "'named' needs names", "as in: named 0=off 1=on");
  return true;
}

bool checkConversion(const Conversion& conversion, BuiltInType raw, const Text& words, Findings& findings) {
  const auto fail = [&](std::string message, const char* hint) {
    findings.error(words.place, std::move(message), hint);
    return false;
  };
  const bool isNumber = isNumeric(raw);
  if (conversion.bit >= 0 && !isWhole(raw)) return fail("only whole numbers have bits", "leave 'bit' out");
  if (conversion.bit >= bitsOf(raw))
    return fail(fmt::format("a {} has the bits 0 to {}", nameOf(raw), bitsOf(raw) - 1), "0 is the lowest bit");
  if (conversion.bit >= 0 && (conversion.isScaled() || !conversion.names.empty()))
    return fail("a bit is neither scaled nor named", "leave 'scale', 'offset' and 'named' out");
  if (conversion.isScaled() && !isNumber) return fail("only numbers can be scaled", "leave 'scale' and 'offset' out");
  if (!conversion.names.empty() && !isNumber) return fail("only numbers can be named", "leave 'named' out");
  return true;
}

}  // namespace zunth::device
