#include "core/model/links.hpp"

#include "core/model/words.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;

void Links::remember(NodeIndex node, const Entry& entry) {
  if (const Entry* refers = entry.find("refers")) links_.push_back({node, refers, draft_.source});
}

void Links::addAll() {
  for (const Link& link : links_) add(link);
}

void Links::add(const Link& link) {
  if (!space_.exists(link.node)) return;
  draft_.source = link.source;
  if (!link.refers->isMapping)
    return error(link.refers->key.place, "references have a type and a target", "as in: refers: {feeds: Hall1}");
  for (const Entry& line : link.refers->entries) {
    const auto named = draft_.findReferenceType(line.key);
    if (named.type == kNoNode) continue;
    if (space_.nodeClass(named.type) != NodeClass::ReferenceType) {
      error(line.key.place, fmt::format("'{}' is no type of references", line.key.text));
      continue;
    }
    for (const Text& path : link.refers->textsOf(line.key.text))
      for (const std::string& each : expandName(path, draft_.findings)) {
        const NodeIndex target = findNode({each, path.place}, link.node);
        if (target == kNoNode) continue;
        named.isForward ? space_.refer(link.node, named.type, target) : space_.refer(target, named.type, link.node);
      }
  }
}

void Links::addView(const Entry& entry) {
  NewNode node;
  const Location here{draft_.source->ns, "views/" + entry.key.text};
  node.nodeId = draft_.idOf(here, entry);
  node.nodeClass = NodeClass::View;
  node.browseName = {here.ns, String(entry.key.text)};
  node.containsNoLoops = true;
  const NodeIndex view = draft_.add(std::move(node), entry.key.place);
  if (view == kNoNode) return;
  draft_.place(space_.at(id::ViewsFolder), view, id::Organizes);
  draft_.describe(view, entry);
  auto shown = entry.items;
  if (entry.value) shown.push_back(*entry.value);
  for (const Text& path : entry.textsOf("shows")) shown.push_back(path);
  if (entry.isMapping) checkKeys(entry, {"about", "called", "shows", "node-id"}, draft_.findings);
  if (shown.empty())
    draft_.findings.warn(entry.key.place, fmt::format("the view '{}' shows nothing", entry.key.text),
                         "as in: Operators: [Hatchery/Intake]");
  for (const Text& path : shown)
    for (const std::string& each : expandName(path, draft_.findings))
      if (const NodeIndex target = findNode({each, path.place}, kNoNode); target != kNoNode)
        space_.refer(view, id::Organizes, target);
}

NodeIndex Links::findNode(const Text& text, NodeIndex from) {
  if (const auto id = NodeId::parse(text.text); id && text.text.find('=') != std::string::npos) {
    const NodeIndex found = space_.find(*id);
    if (found == kNoNode) error(text.place, fmt::format("there is no node {}", text.text));
    return found;
  }
  NodeIndex at = space_.at(id::ObjectsFolder);
  auto segments = splitPath(text);
  if (segments.size() > 1 && segments[0].text == "types" && draft_.child(at, "types") == kNoNode) {
    at = draft_.findType(segments[1]);
    if (at == kNoNode) return at;
    segments.erase(segments.begin(), segments.begin() + 2);
  }
  for (const Text& segment : segments) {
    const bool isFirst = segment.place.column == text.place.column;
    if (isFirst && (segment.text == "." || segment.text == "..") && from != kNoNode) at = from;
    if (segment.text == ".") continue;
    if (segment.text == "..") {
      at = space_.parent(at);
      if (at == kNoNode) break;
      continue;
    }
    const NodeIndex next = draft_.child(at, segment.text);
    if (next == kNoNode) {
      std::vector<std::string> names;
      for (const auto& reference : space_.references(at))
        if (reference.isForward()) names.push_back(std::string(space_.name(reference.target())));
      const std::string near = nearest(segment.text, names);
      error(
          segment.place,
          fmt::format("{} has no '{}'", at == space_.at(id::ObjectsFolder) ? "Objects" : space_.path(at), segment.text),
          near.empty() ? "write the path from Objects, as Hatchery/Intake" : fmt::format("did you mean '{}'?", near));
      return kNoNode;
    }
    at = next;
  }
  return at;
}

}  // namespace zunth::model
