#include "service/device/path_pattern.hpp"

#include "core/ua/text.hpp"

#include <algorithm>

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

/// One name of a path, with a placeholder in it or not: "DF1", "{DF}", "Tank {t}".
class Segment {
 public:
  explicit Segment(const std::string& text) : text_(text), open_(text.find('{')), close_(text.find('}', open_)) {}
  bool isPlain() const { return open_ == std::string::npos || close_ == std::string::npos || close_ == open_ + 1; }
  /// Whether a name fits, and to what was captured before; what stands for the placeholder is captured, too.
  bool fits(const std::string& name, Captures& captures) const {
    if (isPlain()) return name == text_;
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

}  // namespace

PathFinder::Children& PathFinder::childrenOf(NodeIndex node) {
  const auto [found, isNew] = seen_.try_emplace(node);
  if (!isNew) return found->second;
  const NodeIndex hierarchical = space_.at(id::HierarchicalReferences);
  for (const auto& reference : space_.references(node))
    if (reference.isForward() && space_.isSubtype(reference.type(), hierarchical) &&
        !space_.isSubtype(reference.type(), id::HasEventSource))
      found->second.inOrder.push_back(reference.target());
  return found->second;
}

/// All nodes that a path with {NAME}s stands for. When there are none, `stuckAt` is the first segment that led nowhere
/// and `there` the names at that place.
std::vector<Match> PathFinder::follow(const std::vector<std::string>& segments, std::size_t& stuckAt,
                                      std::vector<std::string>& there) {
  constexpr int kLooks = 2;  // from the third on, names are looked up
  std::vector<Match> at{{space_.at(id::ObjectsFolder), {}}};
  for (std::size_t i = 0; i < segments.size(); ++i) {
    const Segment segment(segments[i]);
    std::vector<Match> next;
    for (const Match& match : at) {
      Children& children = childrenOf(match.node);
      if (segment.isPlain() && ++children.looks > kLooks) {
        auto& byName = children.byName;
        if (byName.empty()) {
          for (const NodeIndex child : children.inOrder) byName.emplace_back(space_.name(child), child);
          std::ranges::stable_sort(byName, {}, &std::pair<std::string_view, NodeIndex>::first);
        }
        const auto same = std::ranges::equal_range(byName, std::string_view(segments[i]), {},
                                                   &std::pair<std::string_view, NodeIndex>::first);
        for (const auto& [name, child] : same) next.push_back({child, match.captures});
        continue;
      }
      for (const NodeIndex child : children.inOrder) {
        Captures captures = match.captures;
        if (segment.fits(std::string(space_.name(child)), captures)) next.push_back({child, std::move(captures)});
      }
    }
    there.clear();
    if (next.empty())
      for (const Match& match : at)
        for (const NodeIndex child : childrenOf(match.node).inOrder) there.emplace_back(space_.name(child));
    at = std::move(next);
    stuckAt = i;
    if (at.empty()) return at;
  }
  return at;
}

std::vector<Match> PathFinder::matchesOf(const model::Text& path, NodeClass wanted, model::Findings& findings) {
  const auto segments = segmentsOf(path.text);
  std::size_t stuckAt = 0;
  std::vector<std::string> there;
  auto matches = follow(segments, stuckAt, there);
  // A placeholder may pass by nodes of another kind on its way; what is named must be there at least once.
  if (matches.empty()) {
    const auto near = nearest(segments[stuckAt], there);
    findings.error(path.place, fmt::format("the model has no '{}' at {}", segments[stuckAt], path.text),
                   near.empty() ? "" : fmt::format("did you mean '{}'?", near));
  }
  if (segments.back().find('{') != std::string::npos)
    std::erase_if(matches, [&](const Match& match) { return space_.nodeClass(match.node) != wanted; });
  return matches;
}

std::vector<Match> matchesOf(const Space& space, const model::Text& path, NodeClass wanted, model::Findings& findings) {
  return PathFinder(space).matchesOf(path, wanted, findings);
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
