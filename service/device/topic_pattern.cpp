#include "service/device/topic_pattern.hpp"

#include "service/device/path_pattern.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device::mqtt {

using model::Findings;
using model::Text;

namespace {

constexpr const char* kPatternHelp = "as in: \"{tank}/oxygen\": hall/{tank}/state $.oxygen";

std::vector<std::string> levelsOf(const std::string& topic) {
  std::vector<std::string> out(1);
  for (const char c : topic)
    if (c == '/')
      out.emplace_back();
    else
      out.back() += c;
  return out;
}

/// The placeholders of a text, in their order.
std::vector<std::string> placeholdersIn(const std::string& text) {
  std::vector<std::string> out;
  for (auto open = text.find('{'); open != std::string::npos; open = text.find('{', open + 1))
    if (const auto close = text.find('}', open); close != std::string::npos)
      out.push_back(text.substr(open + 1, close - open - 1));
  return out;
}

/// Whether a stranger's text may become part of a name, and of a point's words.
bool mayStand(std::string_view text) {
  constexpr std::size_t kMost = 64;
  return !text.empty() && text.size() <= kMost && std::ranges::all_of(text, [](char c) {
    const auto octet = static_cast<unsigned char>(c);
    return octet > 0x20 && octet != 0x7F && std::string_view("{}\"'$+#").find(c) == std::string_view::npos;
  });
}

}  // namespace

std::optional<TopicPattern> TopicPattern::read(const model::Entry& entry, Findings& findings) {
  const auto fail = [&](const Text& at, std::string message) {
    findings.error(at.place, std::move(message), kPatternHelp);
    return std::nullopt;
  };
  TopicPattern out;
  out.name_ = entry.key;
  if (!entry.value || entry.value->text.empty())
    return fail(entry.key, fmt::format("'{}' has no topic", entry.key.text));
  out.words_ = *entry.value;
  const Text topic = wordsOf(out.words_).front();
  const auto known = placeholdersIn(topic.text);
  if (known.empty()) return fail(topic, fmt::format("'{}' has no placeholder: it is a single point", topic.text));
  for (const std::string& level : levelsOf(topic.text)) {
    const auto open = level.find('{'), close = level.find('}');
    if (level.find_first_of("+#") != std::string::npos)
      return fail(topic, fmt::format("'{}' stands for what no name can tell", level));
    const bool isPlain = open == std::string::npos && close == std::string::npos;
    if (!isPlain &&
        (close == std::string::npos || open > close || level.find_first_of("{}", close + 1) != std::string::npos))
      return fail(topic, fmt::format("'{}' is more than one placeholder", level));
    out.levels_.push_back(
        isPlain ? Level{level, {}, {}}
                : Level{level.substr(0, open), level.substr(open + 1, close - open - 1), level.substr(close + 1)});
    out.filter_ += fmt::format("{}{}", out.levels_.size() > 1 ? "/" : "", isPlain ? level : "+");
  }
  const auto named = placeholdersIn(entry.key.text);
  for (const auto& each : known)
    if (std::ranges::find(named, each) == named.end())
      return fail(entry.key, fmt::format("the name lacks {{{}}}: several topics would be one point", each));
  for (const Text* text : {&out.name_, &out.words_})
    for (const auto& each : placeholdersIn(text->text))
      if (std::ranges::find(known, each) == known.end())
        return fail(*text, fmt::format("{{{}}} is nowhere in the topic", each));
  return out;
}

std::optional<DeviceText::PointText> TopicPattern::pointOf(const std::string& topic) const {
  const auto levels = levelsOf(topic);
  if (levels.size() != levels_.size()) return std::nullopt;
  Captures captures;
  for (std::size_t i = 0; i < levels.size(); ++i) {
    const auto& [before, placeholder, behind] = levels_[i];
    if (placeholder.empty()) {
      if (levels[i] != before) return std::nullopt;
      continue;
    }
    if (levels[i].size() < before.size() + behind.size() || !levels[i].starts_with(before) ||
        !levels[i].ends_with(behind))
      return std::nullopt;
    std::string part = levels[i].substr(before.size(), levels[i].size() - before.size() - behind.size());
    if (!mayStand(part)) return std::nullopt;
    const auto [there, isNew] = captures.emplace(placeholder, part);
    if (!isNew && there->second != part) return std::nullopt;
  }
  return DeviceText::PointText{{filledIn(name_.text, captures), name_.place},
                               {filledIn(words_.text, captures), words_.place}};
}

}  // namespace zunth::device::mqtt
