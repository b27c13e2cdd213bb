#include "service/device/path_pattern.hpp"

#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using space::NodeIndex;
using space::Space;

namespace {

std::vector<std::string> segmentsOf(std::string_view path) {
  std::vector<std::string> out;
  std::size_t from = 0;
  while (from <= path.size()) {
    const auto slash = std::min(path.find('/', from), path.size());
    out.emplace_back(path.substr(from, slash - from));
    from = slash + 1;
  }
  return out;
}

std::vector<NodeIndex> childrenOf(const Space& space, NodeIndex node) {
  std::vector<NodeIndex> out;
  const NodeIndex hierarchical = space.at(id::HierarchicalReferences);
  for (const auto& reference : space.references(node))
    if (reference.isForward() && space.isSubtype(reference.type(), hierarchical) &&
        !space.isSubtype(reference.type(), id::HasEventSource))
      out.push_back(reference.target());
  return out;
}

/// One name of a path, with a placeholder in it or not: "DF1", "{DF}", "Tank {t}".
class Segment {
 public:
  explicit Segment(const std::string& text) : text_(text), open_(text.find('{')), close_(text.find('}', open_)) {}
  /// Whether a name fits, and to what was captured before; what stands for the placeholder is captured, too.
  bool fits(const std::string& name, Captures& captures) const {
    if (open_ == std::string::npos || close_ == std::string::npos || close_ == open_ + 1) return name == text_;
    const std::string before = text_.substr(0, open_), after = text_.substr(close_ + 1);
    if (name.size() <= before.size() + after.size() || !name.starts_with(before) || !name.ends_with(after))
      return false;
    const std::string found = name.substr(before.size(), name.size() - before.size() - after.size());
    const auto [known, isNew] = captures.try_emplace(text_.substr(open_ + 1, close_ - open_ - 1), found);
    return isNew || known->second == found;
  }

 private:
  const std::string& text_;
  std::size_t open_, close_;
};

/// All nodes that a path with {NAME}s stands for. When there are none, `stuckAt` is the first segment that led nowhere
/// and `there` the names at that place.
std::vector<Match> follow(const Space& space, const std::vector<std::string>& segments, std::size_t& stuckAt,
                          std::vector<std::string>& there) {
  std::vector<Match> at{{space.at(id::ObjectsFolder), {}}};
  for (std::size_t i = 0; i < segments.size(); ++i) {
    const Segment segment(segments[i]);
    std::vector<Match> next;
    for (const Match& match : at)
      for (NodeIndex child : childrenOf(space, match.node)) {
        Captures captures = match.captures;
        if (segment.fits(std::string(space.name(child)), captures)) next.push_back({child, std::move(captures)});
      }
    there.clear();
    if (next.empty())
      for (const Match& match : at)
        for (NodeIndex child : childrenOf(space, match.node)) there.emplace_back(space.name(child));
    at = std::move(next);
    stuckAt = i;
    if (at.empty()) return at;
  }
  return at;
}

}  // namespace

std::vector<Match> matchesOf(const Space& space, const model::Text& path, NodeClass wanted, model::Findings& findings) {
  const auto segments = segmentsOf(path.text);
  std::size_t stuckAt = 0;
  std::vector<std::string> there;
  auto matches = follow(space, segments, stuckAt, there);
  // A placeholder may pass by nodes of another kind on its way; what is named must be there at least once.
  if (matches.empty()) {
    const auto near = nearest(segments[stuckAt], there);
    findings.error(path.place, fmt::format("the model has no '{}' at {}", segments[stuckAt], path.text),
                   near.empty() ? "" : fmt::format("did you mean '{}'?", near));
  }
  if (segments.back().find('{') != std::string::npos)
    std::erase_if(matches, [&](const Match& match) { return space.nodeClass(match.node) != wanted; });
  return matches;
}

std::string filledIn(std::string text, const Captures& captures) {
  for (const auto& [name, value] : captures) {
    const std::string placeholder = "{" + name + "}";
    for (auto at = text.find(placeholder); at != std::string::npos; at = text.find(placeholder, at + value.size()))
      text.replace(at, placeholder.size(), value);
  }
  return text;
}

}  // namespace zunth::device
