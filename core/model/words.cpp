#include "core/model/words.hpp"

#include "core/ua/text.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::model {
namespace {

const std::vector<std::string> kFlags = {"writable", "readonly", "unreadable", "property",
                                         "history",  "addin",    "static",     "notifier"};
const std::vector<std::string> kArguments = {"of", "instrument", "precision", "every",
                                             "status"};  // a word follows each

bool isFlag(const std::string& word) { return std::ranges::find(kFlags, word) != kFlags.end(); }
bool takesArgument(const std::string& word) { return std::ranges::find(kArguments, word) != kArguments.end(); }
bool isKnown(const std::string& word) { return isFlag(word) || takesArgument(word); }

bool number(std::string_view text, double& out) {
  const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), out);
  return failure == std::errc() && end == text.data() + text.size() && std::isfinite(out);
}

/// Takes "[...]" off the end of a type word.
std::optional<std::string> takeDimensions(Text& word) {
  const auto open = word.text.find('[');
  if (open == std::string::npos || word.text.back() != ']') return std::nullopt;
  std::string inside = word.text.substr(open + 1, word.text.size() - open - 2);
  word = word.part(0, open);
  return inside;
}

Text trimmed(const Text& text) {
  const auto from = text.text.find_first_not_of(' ');
  if (from == std::string::npos) return text.part(text.text.size());
  return text.part(from, text.text.find_last_not_of(' ') - from + 1);
}

/// The parts of a text between separators, outside of square brackets.
std::vector<Text> partsOf(const Text& text, char separator) {
  std::vector<Text> parts;
  std::size_t from = 0;
  int depth = 0;
  for (std::size_t i = 0; i <= text.text.size(); ++i) {
    const char c = i < text.text.size() ? text.text[i] : separator;
    depth += c == '[' ? 1 : c == ']' ? -1 : 0;
    if (c != separator || (depth > 0 && i < text.text.size())) continue;
    parts.push_back(trimmed(text.part(from, i - from)));
    from = i + 1;
  }
  return parts;
}

std::vector<Member> parseMembers(const Text& list, bool mayBeOptional, const char* what, const char* example,
                                 Findings& findings) {
  std::vector<Member> out;
  if (trimmed(list).text.empty()) return out;
  for (const Text& one : partsOf(list, ',')) {
    auto words = splitWords(one);
    if (words.size() != 2) {
      findings.error(one.place, fmt::format("{} is a name and a data type", what), example);
      continue;
    }
    Member member{words[0], words[1], {}, false};
    if (mayBeOptional && member.name.text.ends_with('?')) {
      member.isOptional = true;
      member.name = member.name.part(0, member.name.text.size() - 1);
    }
    member.dimensions = takeDimensions(member.type);
    out.push_back(std::move(member));
  }
  return out;
}

std::vector<Member> parseArguments(const Text& list, Findings& findings) {
  return parseMembers(list, false, "an argument", "as in: wash(seconds UInt16)", findings);
}

/// Reads the words of a Spec one by one.
class SpecParser {
 public:
  SpecParser(Spec& spec, Findings& findings, const Units& units) : spec_(spec), findings_(findings), units_(units) {}

  void read(const std::vector<Text>& words) {
    for (at_ = 0; at_ < words.size(); ++at_) {
      const Text& word = words[at_];
      if (flag(word)) {
        spec_.words.push_back(word);
      } else if (isKnown(word.text)) {
        spec_.words.push_back(word);
        argument(word, words);
      } else if (at_ == 0 && word.text.find("..") == std::string::npos) {
        Text type = word;
        spec_.dimensions = takeDimensions(type);
        spec_.type = type;
      } else if (word.text.find("..") != std::string::npos) {
        spec_.words.push_back(word);
        spec_.range = parseRange(word, findings_);
      } else if (!spec_.unit && !spec_.range) {
        unit(words);
      } else {
        nothing(word);
      }
    }
  }

 private:
  bool flag(const Text& word) {
    if (word.text == "writable")
      spec_.isWritable = true;
    else if (word.text == "readonly")
      spec_.isReadOnly = true;
    else if (word.text == "notifier")
      spec_.isNotifier = true;
    else if (word.text == "static")
      spec_.isStatic = true;
    else if (word.text == "unreadable")
      spec_.isReadable = false;
    else if (word.text == "property")
      spec_.isProperty = true;
    else if (word.text == "history")
      spec_.isHistorized = true;
    else if (word.text == "addin")
      spec_.isAddIn = true;
    else
      return false;
    return true;
  }

  void argument(const Text& word, const std::vector<Text>& words) {
    if (at_ + 1 == words.size())
      return findings_.error(word.place, fmt::format("'{}' is followed by {}", word.text,
                                                     word.text == "instrument" ? "a range, as -5..60"
                                                     : word.text == "of"       ? "a data type"
                                                     : word.text == "status"   ? "a status, as UncertainInitialValue"
                                                     : word.text == "every"    ? "a time, as 250ms or 2s"
                                                                               : "a number of digits"));
    const Text& next = words[++at_];
    if (word.text == "instrument") {
      spec_.instrumentRange = parseRange(next, findings_);
    } else if (word.text == "precision") {
      spec_.precision = next;
    } else if (word.text == "of") {
      Text type = next;
      spec_.dimensions = takeDimensions(type);
      spec_.dataType = type;
    } else if (word.text == "status") {
      spec_.status = next;
    } else {
      double time = 0;
      const bool isMs = next.text.ends_with("ms");
      const std::string digits = next.text.substr(0, next.text.size() - (isMs ? 2 : next.text.ends_with("s") ? 1 : 0));
      if (digits.size() == next.text.size() || !number(digits, time) || time < 0)
        findings_.error(next.place, fmt::format("'{}' is no time", next.text), "write 250ms or 2s");
      else
        spec_.sampledEvery = isMs ? time : time * 1000;
    }
  }

  /// Units may have spaces ("mm Hg"): as many words as make a known one.
  void unit(const std::vector<Text>& words) {
    std::size_t end = at_;
    while (end < words.size() && !isKnown(words[end].text) && words[end].text.find("..") == std::string::npos) ++end;
    Text joined = words[at_];
    Text best = joined;
    std::size_t last = at_;
    for (std::size_t i = at_; i < end; ++i) {
      if (i > at_) joined.text += " " + words[i].text;
      if (units_.find(joined.text)) {
        best = joined;
        last = i;
      }
    }
    best.place.length = words[last].place.column + words[last].place.length - best.place.column;
    spec_.unit = best;
    spec_.words.push_back(best);
    at_ = last;
  }

  void nothing(const Text& word) {
    const auto dash = word.text.find('-', 1);
    double low = 0, high = 0;
    if (dash != std::string::npos && number(word.text.substr(0, dash), low) && number(word.text.substr(dash + 1), high))
      return findings_.error(word.place, fmt::format("'{}' is no range", word.text),
                             fmt::format("write {}..{}", word.text.substr(0, dash), word.text.substr(dash + 1)));
    std::vector<std::string> known = kFlags;
    known.insert(known.end(), kArguments.begin(), kArguments.end());
    const std::string near = ua::nearest(word.text, known);
    findings_.error(word.place, fmt::format("'{}' means nothing here", word.text),
                    near.empty()
                        ? "after the type come a unit, a range, '= value', and words such as writable, property"
                        : fmt::format("did you mean '{}'?", near));
  }

  Spec& spec_;
  Findings& findings_;
  const Units& units_;
  std::size_t at_ = 0;
};

/// Takes the words that may stand last off the end of a text: flags, and words with what follows them.
std::vector<Text> takeLastWords(Text& value) {
  std::vector<Text> taken;
  const auto cutLast = [&]() -> std::optional<Text> {
    const auto space = value.text.rfind(' ');
    if (space == std::string::npos) return std::nullopt;
    const Text last = value.part(space + 1);
    value = trimmed(value.part(0, space));
    return last;
  };
  while (true) {
    const Text before = value;
    const auto last = cutLast();
    if (last && isFlag(last->text)) {
      taken.insert(taken.begin(), *last);
      continue;
    }
    const auto word = last ? cutLast() : std::nullopt;
    if (!word || !takesArgument(word->text)) {
      value = before;
      return taken;
    }
    taken.insert(taken.begin(), {*word, *last});
  }
}

}  // namespace

std::optional<Spec::Range> parseRange(const Text& word, Findings& findings) {
  const auto dots = word.text.find("..");
  double low = 0, high = 0;
  if (dots == std::string::npos || !number(word.text.substr(0, dots), low) || !number(word.text.substr(dots + 2), high))
    findings.error(word.place, fmt::format("'{}' is no range", word.text), "write two numbers, as 0..50");
  else if (low >= high)
    findings.error(word.place, fmt::format("the range {} is empty", word.text), "write the smaller number first");
  else
    return Spec::Range{low, high, word.place};
  return std::nullopt;
}

Spec parseSpec(const Text& text, Findings& findings, const Units& units) {
  Spec spec;
  // The initial value runs to the end, or to the words that stand last.
  const auto equals = (" " + text.text).find(" = ");
  Text before = equals == std::string::npos ? text : trimmed(text.part(0, equals));
  std::vector<Text> flags;
  if (equals != std::string::npos) {
    Text value = trimmed(text.part(equals + 2));
    flags = takeLastWords(value);
    spec.initial = value;
  }
  if (before.text.find(" | ") != std::string::npos) {
    for (Text& flag : takeLastWords(before)) flags.push_back(flag);
    const auto space = before.text.find(' ');
    for (const Text& state : partsOf(before.part(space), '|')) {
      if (state.text.empty()) findings.error(before.place, "a state has no text", "as in: Boolean Closed | Open");
      spec.states.push_back(state);
    }
    before = before.part(0, space);
  }
  std::vector<Text> words = splitWords(before);
  words.insert(words.end(), flags.begin(), flags.end());
  SpecParser(spec, findings, units).read(words);
  return spec;
}

std::optional<DataTypeWords> parseDataType(const Text& text, Findings& findings) {
  using Kind = DataTypeWords::Kind;
  static const std::pair<std::string, Kind> kinds[] = {
      {"enum", Kind::Enumeration}, {"options", Kind::Options}, {"struct", Kind::Structure}, {"union", Kind::Union}};
  const auto end = std::min(text.text.find_first_of(" {"), text.text.size());
  const auto* kind = std::ranges::find(kinds, text.text.substr(0, end), &std::pair<std::string, Kind>::first);
  if (kind == std::end(kinds)) return std::nullopt;
  DataTypeWords out;
  out.kind = kind->second;
  Text rest = trimmed(text.part(end));
  if (out.kind == Kind::Structure || out.kind == Kind::Union) {
    if (rest.text.empty()) return out;
    if (!rest.text.starts_with('{') || !rest.text.ends_with('}')) {
      findings.error(rest.place, "the fields of a structure stand in braces",
                     "as in: struct { grams UInt32, pellets? String }");
      return out;
    }
    out.fields = parseMembers(rest.part(1, rest.text.size() - 2), out.kind == Kind::Structure, "a field",
                              "as in: struct { grams UInt32, pellets? String }", findings);
    return out;
  }
  std::int64_t next = 0;
  if (rest.text.empty()) return out;
  for (const Text& part : partsOf(rest, '|')) {
    const auto equals = part.text.find('=');
    DataTypeWords::Value value{trimmed(part.part(0, equals)), next};
    if (value.name.text.empty())
      findings.error(part.place, "a value of this enumeration has no name", "as in: enum Off | Auto | Wash");
    if (equals != std::string::npos) {
      const Text digits = trimmed(part.part(equals + 1));
      const auto [stop, failure] =
          std::from_chars(digits.text.data(), digits.text.data() + digits.text.size(), value.number);
      if (failure != std::errc() || stop != digits.text.data() + digits.text.size())
        findings.error(digits.place, fmt::format("'{}' is no whole number", digits.text),
                       "as in: enum Off = 0 | On = 5");
    }
    next = value.number + 1;
    out.values.push_back(std::move(value));
  }
  return out;
}

std::vector<Text> splitWords(const Text& text) {
  std::vector<Text> words;
  std::size_t at = 0;
  while (at < text.text.size()) {
    if (text.text[at] == ' ') {
      ++at;
      continue;
    }
    const auto end = std::min(text.text.find(' ', at), text.text.size());
    words.push_back(text.part(at, end - at));
    at = end;
  }
  return words;
}

std::vector<Text> splitPath(const Text& path) {
  auto parts = partsOf(path, '/');
  std::erase_if(parts, [](const Text& part) { return part.text.empty(); });
  return parts;
}

std::optional<Signature> parseSignature(const Text& key, Findings& findings) {
  const auto open = key.text.find('(');
  if (open == std::string::npos) return std::nullopt;
  Signature signature;
  signature.name = trimmed(key.part(0, open));
  const auto close = key.text.find(')', open);
  if (close == std::string::npos) {
    findings.error(key.place, "the bracket of this method is not closed",
                   "as in: wash(seconds UInt16) -> started Boolean");
    return signature;
  }
  signature.inputs = parseArguments(key.part(open + 1, close - open - 1), findings);
  const Text after = trimmed(key.part(close + 1));
  if (after.text.starts_with("->"))
    signature.outputs = parseArguments(after.part(2), findings);
  else if (!after.text.empty())
    findings.error(after.place, fmt::format("'{}' means nothing after a method's arguments", after.text),
                   "results follow '->'");
  return signature;
}

std::vector<std::string> expandName(const Text& name, Findings& findings) {
  const auto open = name.text.find('{');
  if (open == std::string::npos) return {name.text};
  const auto close = name.text.find('}', open);
  const Text inside = name.part(open + 1, close == std::string::npos ? close : close - open - 1);
  const std::string before = name.text.substr(0, open),
                    after = close == std::string::npos ? "" : name.text.substr(close + 1);
  std::vector<std::string> out;
  const auto dots = inside.text.find("..");
  double low = 0, high = 0;
  if (close == std::string::npos) {
    findings.error(name.place, "the brace of this name is not closed", "as in: Tank A{1..8}");
  } else if (dots != std::string::npos) {
    if (!number(inside.text.substr(0, dots), low) || !number(inside.text.substr(dots + 2), high) || low < 0 ||
        high < low || high - low > 1e6) {
      findings.error(inside.place, fmt::format("'{}' counts nothing", inside.text),
                     "write the first and the last number, as {1..8}");
      return out;
    }
    // "01..12" keeps its leading zeros.
    const std::size_t width = inside.text[0] == '0' ? dots : 0;
    for (auto i = static_cast<long>(low); i <= static_cast<long>(high); ++i)
      out.push_back(fmt::format("{}{:0{}}{}", before, i, width, after));
  } else {
    std::size_t from = 0;
    while (from <= inside.text.size()) {
      const auto comma = std::min(inside.text.find(',', from), inside.text.size());
      out.push_back(before + trimmed(inside.part(from, comma - from)).text + after);
      from = comma + 1;
    }
  }
  return out;
}

}  // namespace zunth::model
