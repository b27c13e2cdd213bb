#include "service/device/conversion.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/device/plain_value.hpp"

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

constexpr double kTicksPerMs = 10'000;
constexpr DateTime k1970{116'444'736'000'000'000};

std::string_view unitOf(double milliseconds) { return milliseconds == 1 ? "ms" : "s"; }

/// So many ms after 1970; nothing beyond the year 9999 and before 1601.
std::optional<DateTime> timeOf(double milliseconds) {
  constexpr double kLast = 253'402'300'799'000, kFirst = -11'644'473'600'000;  // ms
  if (!(milliseconds > kFirst && milliseconds <= kLast)) return std::nullopt;
  return DateTime{k1970.ticks + static_cast<std::int64_t>(std::llround(milliseconds * kTicksPerMs))};
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
  if (bit >= 0 || isInverted) return BuiltInType::Boolean;
  if (countsOf > 0) return BuiltInType::DateTime;
  if (!names.empty()) return BuiltInType::String;
  if (isScaled()) return BuiltInType::Double;
  if (meanings.empty()) return raw;
  const BuiltInType first = meanings.front().second.type();
  const bool areAlike = std::ranges::all_of(meanings, [&](const auto& each) { return each.second.type() == first; });
  return areAlike ? first : BuiltInType::Variant;
}

Result<Variant> Conversion::toNode(Variant value, Trace* trace) const {
  if (isIdentity()) return value;
  if (!value.isArray()) return elementToNode(std::move(value), trace);
  auto out = eachElement(value, [this](const Variant& element) { return elementToNode(element, nullptr); });
  if (trace && out) trace->push_back({"each element converted", format(*out)});
  return out;
}

Result<Variant> Conversion::toDevice(const Variant& value, BuiltInType raw) const {
  return eachElement(value, [this, raw](const Variant& element) { return elementToDevice(element, raw); });
}

Result<Variant> Conversion::elementToNode(Variant value, Trace* trace) const {
  const auto tell = [trace](std::string what, const Variant& shows) {
    if (trace) trace->push_back({std::move(what), format(shows)});
  };
  if (!meanings.empty()) {
    const auto meant = std::ranges::find(meanings, plainText(value), &std::pair<std::string, Variant>::first);
    if (meant == meanings.end())
      return Error{
          status::BadOutOfRange, fmt::format("the device's file doesn't say what {} means", format(value)), {}};
    tell("means", value = meant->second);
  }
  if (bit >= 0) {
    std::uint64_t bits = 0;
    if (const auto positive = convert(value, BuiltInType::UInt64))
      bits = *positive->get<std::uint64_t>();
    else if (const auto negative = convert(value, BuiltInType::Int64))
      bits = static_cast<std::uint64_t>(*negative->get<std::int64_t>());
    else
      return noNumber(value);
    tell(fmt::format("bit {}", bit), value = Variant((bits >> bit & 1) != 0));
  }
  if (isScaled() || bounds || !names.empty()) {
    double number = 0;
    if (!value.toDouble(number)) return noNumber(value);
    if (isScaled()) {
      // Dividing by 10 gives 1894.6 where multiplying by 0.1 gives 1894.6000000000001.
      const double divisor = std::round(1 / scale);
      const bool isFraction = divisor != 0 && 1 / divisor == scale;
      number = (isFraction ? number / divisor : number * scale) + offset;
      tell(fmt::format("× {:g} + {:g}", scale, offset), value = Variant(number));
    }
    if (bounds && (number < bounds->first || number > bounds->second)) {
      number = std::clamp(number, bounds->first, bounds->second);
      auto kept = convert(Variant(number), value.type(), true);
      if (!kept) return kept;
      tell(fmt::format("within {:g}..{:g}", bounds->first, bounds->second), value = std::move(*kept));
    }
    if (!names.empty()) {
      const auto named =
          std::ranges::find_if(names, [&](const auto& name) { return static_cast<double>(name.first) == number; });
      if (named == names.end())
        return Error{status::BadOutOfRange, fmt::format("{:g} has no name in the device's file", number), {}};
      tell("named", value = Variant(String(named->second)));
    }
  }
  if (countsOf > 0) {
    double count = 0;
    if (!value.toDouble(count)) return noNumber(value);
    const auto time = timeOf(count * countsOf);
    if (!time) return Error{status::BadOutOfRange, fmt::format("{:.17g} is no time", count), {}};
    tell(fmt::format("{} since 1970", unitOf(countsOf)), value = Variant(*time));
  }
  if (isInverted) {
    const auto state = convert(value, BuiltInType::Boolean);
    if (!state) return Error{status::BadTypeMismatch, fmt::format("{} is neither true nor false", format(value)), {}};
    tell("inverted", value = Variant(!*state->get<bool>()));
  }
  return value;
}

Result<Variant> Conversion::elementToDevice(const Variant& value, BuiltInType raw) const {
  Variant plain = value;
  if (countsOf > 0) {
    const auto* time = value.get<DateTime>();
    if (!time || time->isNull()) return Error{status::BadTypeMismatch, "the point takes a time", {}};
    plain = Variant(std::floor(static_cast<double>(time->ticks - k1970.ticks) / kTicksPerMs / countsOf));
  }
  if (isInverted) {
    const auto state = convert(value, BuiltInType::Boolean);
    if (!state) return state;
    plain = Variant(!*state->get<bool>());
  }
  if (!names.empty()) {
    const auto* text = value.get<String>();
    if (!text) return Error{status::BadTypeMismatch, "the point takes one of its names", {}};
    const auto named = std::ranges::find(names, text->str(), &std::pair<std::int64_t, std::string>::second);
    if (named == names.end())
      return Error{status::BadOutOfRange, fmt::format("the point knows no '{}'", text->str()), {}};
    plain = Variant(static_cast<double>(named->first));
  }
  double number = 0;
  if (bounds) {
    if (!plain.toDouble(number)) return noNumber(plain);
    if (number < bounds->first || number > bounds->second)
      return Error{status::BadOutOfRange,
                   fmt::format("the point takes {:g} to {:g}, not {:g}", bounds->first, bounds->second, number),
                   {}};
  }
  if (isScaled()) {
    if (!plain.toDouble(number)) return noNumber(plain);
    plain = Variant((number - offset) / scale);
  }
  if (bit >= 0) return convert(plain, BuiltInType::Boolean);
  if (!meanings.empty()) {
    const auto meant = std::ranges::find_if(meanings, [&](const auto& each) {
      const auto same = convert(plain, each.second.type());
      return same && *same == each.second;
    });
    if (meant == meanings.end())
      return Error{status::BadOutOfRange, fmt::format("the point has no text for {}", format(plain)), {}};
    return Variant(String(meant->first));
  }
  return raw == BuiltInType::Variant ? Result<Variant>(std::move(plain)) : convert(plain, raw, true);
}

const std::vector<std::string>& conversionWords() {
  static const std::vector<std::string> words{"bit",   "scale", "offset",   "from",     "within",
                                              "named", "means", "inverted", "deadband", "time-in"};
  return words;
}

namespace {

/// Reads the words of one conversion.
class ConversionReader {
 public:
  ConversionReader(const std::vector<Text>& words, std::size_t& at, Conversion& conversion, Findings& findings)
      : words_(words), at_(at), conversion_(conversion), findings_(findings) {}

  std::optional<bool> read() {
    const std::string& word = words_[at_].text;
    if (word == "bit") return readBit();
    if (word == "scale" || word == "offset") return readScale(word == "scale");
    if (word == "from") return readTwoPoints();
    if (word == "within") return readBounds();
    if (word == "deadband") return readDeadband();
    if (word == "named") return readNames();
    if (word == "means") return readMeanings();
    if (word == "time-in") return readTime();
    if (word != "inverted") return false;
    conversion_.isInverted = true;
    ++at_;
    return true;
  }

 private:
  std::optional<bool> fail(const Text& where, std::string message, std::string hint) {
    findings_.error(where.place, std::move(message), std::move(hint));
    return std::nullopt;
  }
  /// The finite number in the next word.
  std::optional<double> number() const {
    if (at_ + 1 >= words_.size()) return std::nullopt;
    const auto value = parse(words_[at_ + 1].text, BuiltInType::Double);
    if (!value || !std::isfinite(*value->get<double>())) return std::nullopt;
    return *value->get<double>();
  }
  /// "A..B" in the word `ahead` of here.
  std::optional<std::pair<double, double>> range(std::size_t ahead) const {
    if (at_ + ahead >= words_.size()) return std::nullopt;
    const std::string& text = words_[at_ + ahead].text;
    const auto dots = text.find("..");
    if (dots == std::string::npos) return std::nullopt;
    const auto low = parse(text.substr(0, dots), BuiltInType::Double);
    const auto high = parse(text.substr(dots + 2), BuiltInType::Double);
    if (!low || !high) return std::nullopt;
    const double a = *low->get<double>(), b = *high->get<double>();
    if (!std::isfinite(a) || !std::isfinite(b)) return std::nullopt;
    return std::pair(a, b);
  }

  std::optional<bool> readBit() {
    const auto bit = number();
    if (!bit || *bit < 0 || *bit > 63 || *bit != std::trunc(*bit))
      return fail(words_[at_], "'bit' needs a number from 0", "0 is the lowest bit");
    conversion_.bit = static_cast<int>(*bit);
    at_ += 2;
    return true;
  }
  std::optional<bool> readScale(bool isScale) {
    const auto value = number();
    const char* const word = isScale ? "scale" : "offset";
    if (!value || (isScale && *value == 0))
      return fail(words_[at_], fmt::format("'{}' needs a number{}", word, isScale ? " other than 0" : ""),
                  fmt::format("as in: {} 0.1", word));
    (isScale ? conversion_.scale : conversion_.offset) = *value;
    at_ += 2;
    return true;
  }
  /// "from 4..20 to 0..100": what 4 and 20 are, and all between and beyond on the same line.
  std::optional<bool> readTwoPoints() {
    const auto raw = range(1), shown = range(3);
    if (!raw || !shown || words_[at_ + 2].text != "to" || raw->first == raw->second || shown->first == shown->second)
      return fail(words_[at_], "'from' needs two ranges", "as in: from 4..20 to 0..100");
    conversion_.scale = (shown->second - shown->first) / (raw->second - raw->first);
    conversion_.offset = shown->first - raw->first * conversion_.scale;
    at_ += 4;
    return true;
  }
  std::optional<bool> readBounds() {
    const auto bounds = range(1);
    if (!bounds || bounds->first >= bounds->second)
      return fail(words_[at_], "'within' needs a range", "as in: within 0..100");
    conversion_.bounds = bounds;
    at_ += 2;
    return true;
  }
  std::optional<bool> readTime() {
    const std::string unit = at_ + 1 < words_.size() ? words_[at_ + 1].text : "";
    if (unit != "s" && unit != "ms")
      return fail(words_[at_], "'time-in' needs what the number counts since 1970", "as in: time-in s, or: time-in ms");
    conversion_.countsOf = unit == "s" ? 1'000 : 1;
    at_ += 2;
    return true;
  }
  std::optional<bool> readDeadband() {
    const auto value = number();
    if (!value || *value < 0) return fail(words_[at_], "'deadband' needs a number from 0", "as in: deadband 0.5");
    conversion_.deadband = *value;
    at_ += 2;
    return true;
  }
  /// The words with an equals sign that follow, in two parts.
  std::vector<std::pair<std::string, std::string>> pairs() {
    std::vector<std::pair<std::string, std::string>> out;
    for (++at_; at_ < words_.size(); ++at_) {
      const auto equals = words_[at_].text.find('=');
      if (equals == std::string::npos) break;
      out.emplace_back(words_[at_].text.substr(0, equals), words_[at_].text.substr(equals + 1));
    }
    return out;
  }
  std::optional<bool> readNames() {
    const Text& word = words_[at_];
    for (const auto& [key, name] : pairs()) {
      const auto number = parse(key, BuiltInType::Int64);
      if (!number || name.empty()) return fail(word, "a name is written NUMBER=NAME", "as in: named 0=off 1=on");
      conversion_.names.emplace_back(*number->get<std::int64_t>(), name);
    }
    if (conversion_.names.empty()) return fail(word, "'named' needs names", "as in: named 0=off 1=on");
    return true;
  }
  std::optional<bool> readMeanings() {
    const Text& word = words_[at_];
    for (const auto& [text, value] : pairs()) {
      if (value.empty()) return fail(word, "a meaning is written TEXT=VALUE", "as in: means ON=true OFF=false");
      conversion_.meanings.emplace_back(text, plainValue(value));
    }
    if (conversion_.meanings.empty()) return fail(word, "'means' needs meanings", "as in: means ON=true OFF=false");
    return true;
  }

  const std::vector<Text>& words_;
  std::size_t& at_;
  Conversion& conversion_;
  Findings& findings_;
};

}  // namespace

std::optional<bool> readConversion(const std::vector<Text>& words, std::size_t& at, Conversion& conversion,
                                   Findings& findings) {
  return ConversionReader(words, at, conversion, findings).read();
}

bool checkConversion(const Conversion& conversion, BuiltInType raw, const Text& words, Findings& findings,
                     bool isArray) {
  const auto fail = [&](std::string message, const char* hint) {
    findings.error(words.place, std::move(message), hint);
    return false;
  };
  const bool isOpen = raw == BuiltInType::Variant;  // it shows by the value
  const bool isText = isOpen || raw == BuiltInType::String;
  if (!conversion.meanings.empty() && !isText) return fail("only texts have meanings", "'named' names numbers");
  const bool isNumber = isOpen || isNumeric(raw) || !conversion.meanings.empty();
  if (conversion.bit >= 0 && isArray) return fail("an array has no single bits", "make a point of that element");
  if (conversion.countsOf > 0 && (!isNumber || conversion.isScaled() || conversion.bounds || conversion.bit >= 0 ||
                                  conversion.isInverted || !conversion.names.empty() || conversion.deadband > 0))
    return fail("only plain numbers count since 1970", "leave 'time-in' or the other steps out");
  if (conversion.bit >= 0 && !isOpen && !isWhole(raw)) return fail("only whole numbers have bits", "leave 'bit' out");
  if (conversion.bit >= bitsOf(raw))
    return fail(fmt::format("a {} has the bits 0 to {}", nameOf(raw), bitsOf(raw) - 1), "0 is the lowest bit");
  if (conversion.bit >= 0 && (conversion.isScaled() || conversion.bounds || !conversion.names.empty()))
    return fail("a bit is neither scaled nor named", "leave 'scale', 'offset', 'within' and 'named' out");
  if (conversion.isScaled() && !isNumber)
    return fail("only numbers can be scaled", "leave 'scale', 'offset' and 'from' out");
  if (conversion.bounds && !isNumber) return fail("only numbers have bounds", "leave 'within' out");
  if (conversion.deadband > 0 && (!isNumber || !conversion.names.empty() || conversion.bit >= 0))
    return fail("only numbers have a deadband", "leave 'deadband' out");
  if (!conversion.names.empty() && !isNumber) return fail("only numbers can be named", "leave 'named' out");
  if (conversion.isInverted && (conversion.isScaled() || !conversion.names.empty() || raw == BuiltInType::String))
    return fail("only what is true or false can be inverted", "leave 'inverted' out");
  return true;
}

}  // namespace zunth::device
