#include "core/model/words.hpp"

#include "core/ua/text.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::model {
namespace {

const std::vector<std::string> kFlags = {"writable", "property"};

std::vector<Text> split(const Text& text) {
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

std::vector<Signature::Argument> parseArguments(const Text& list, Findings& findings) {
  std::vector<Signature::Argument> out;
  std::size_t from = 0;
  while (!trimmed(list.part(from)).text.empty()) {
    auto comma = list.text.find(',', from);
    const auto open = list.text.find('[', from);
    if (open != std::string::npos && open < comma) comma = list.text.find(',', list.text.find(']', open));
    const Text one = trimmed(list.part(from, comma == std::string::npos ? comma : comma - from));
    auto words = split(one);
    if (words.size() != 2) {
      findings.error(one.place, "an argument is a name and a data type", "as in: wash(seconds UInt16)");
    } else {
      Signature::Argument argument{words[0], words[1], {}};
      argument.dimensions = takeDimensions(argument.type);
      out.push_back(std::move(argument));
    }
    if (comma == std::string::npos) break;
    from = comma + 1;
  }
  return out;
}

}  // namespace

Spec parseSpec(const Text& text, Findings& findings) {
  Spec spec;
  Text rest = text;
  // The initial value runs to the end, or to the flags that stand last.
  const auto equals = (" " + rest.text).find(" = ");
  std::vector<Text> words = split(equals == std::string::npos ? rest : rest.part(0, equals));
  if (equals != std::string::npos) {
    Text value = trimmed(rest.part(equals + 2));
    while (true) {
      const auto space = value.text.rfind(' ');
      if (space == std::string::npos) break;
      const Text last = value.part(space + 1);
      if (std::find(kFlags.begin(), kFlags.end(), last.text) == kFlags.end()) break;
      words.push_back(last);
      value = trimmed(value.part(0, space));
    }
    spec.initial = value;
  }
  for (std::size_t i = 0; i < words.size(); ++i) {
    Text word = words[i];
    const auto dots = word.text.find("..");
    double low = 0, high = 0;
    if (word.text == "writable") {
      spec.isWritable = true;
    } else if (word.text == "property") {
      spec.isProperty = true;
    } else if (dots != std::string::npos) {
      if (!number(word.text.substr(0, dots), low) || !number(word.text.substr(dots + 2), high))
        findings.error(word.place, fmt::format("'{}' is no range", word.text), "write two numbers, as 0..50");
      else if (low >= high)
        findings.error(word.place, fmt::format("the range {} is empty", word.text), "write the smaller number first");
      else
        spec.range = Spec::Range{low, high, word.place};
    } else if (i == 0) {
      spec.dimensions = takeDimensions(word);
      spec.type = word;
    } else if (!spec.unit && !spec.range && i == 1) {
      spec.unit = word;
    } else {
      const std::string near = ua::nearest(word.text, kFlags);
      findings.error(word.place, fmt::format("'{}' means nothing here", word.text),
                     near.empty() ? "after the type come a unit, a range, '= value', and the words writable, property"
                                  : fmt::format("did you mean '{}'?", near));
    }
  }
  return spec;
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
