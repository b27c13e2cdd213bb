#include "core/model/diagram.hpp"

#include "core/model/cards.hpp"
#include "core/model/outline.hpp"
#include "core/space/conditions.hpp"

#include <algorithm>
#include <set>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

CardRow rowOf(const Space& space, NodeIndex node) {
  const auto facts = factsOf(space, node);
  CardRow row{facts.name, facts.type, space.nodeClass(node) == NodeClass::Method};
  if (row.isMethod) return row;
  for (const auto* each : {&facts.unit, &facts.range})
    if (!each->empty()) row.facts += " " + *each;
  if (facts.access.find("writable") != std::string::npos) row.facts += " ✎";
  const std::string rule = modellingRule(space, node);
  if (rule.starts_with("Optional")) row.name += "?";
  return row;
}

/// Collects the cards of instances: objects; their variables and methods stand on them, but for what their types say.
class InstanceCards {
 public:
  InstanceCards(const Space& space, const DiagramOptions& options) : space_(space), options_(options) {}

  /// Whether there were more nodes than may be looked at.
  bool isTooMuch() const { return looked_ > options_.mostNodes; }
  Card collect(NodeIndex node) {
    Card card;
    card.node = node;
    card.title = std::string(space_.displayName(node).text.view());
    if (card.title.empty()) card.title = std::string(space_.name(node));
    const NodeIndex type = space_.typeDefinition(node);
    if (type != kNoNode && !space_.nodeId(type).is(id::BaseObjectType)) card.kind = std::string(space_.name(type));
    // Who has more than may be looked at isn't even listed.
    if (space_.references(node).size() > options_.mostNodes) looked_ = options_.mostNodes + 1;
    if (isTooMuch()) return card;
    underway_.insert(node);
    for (const NodeIndex child : membersOf(space_, node)) {
      if (underway_.contains(child) || (options_.shows && !options_.shows(child))) continue;
      if (++looked_ > options_.mostNodes) break;
      const bool isObject = space_.nodeClass(child) == NodeClass::Object;
      // An alarm is told in the card of what has it.
      if (isObject && !space::isCondition(space_, child))
        card.children.push_back(collect(child));
      else if (!isOfType(type, child))
        card.rows.push_back(rowOf(space_, child));
    }
    underway_.erase(node);
    limitRows(card);
    return card;
  }

 private:
  bool isOfType(NodeIndex type, NodeIndex child) const {
    for (int depth = 0; type != kNoNode && depth < 100; type = space_.supertype(type), ++depth)
      if (space_.child(type, space_.browseName(child)) != kNoNode) return true;
    return false;
  }
  const Space& space_;
  const DiagramOptions& options_;
  std::size_t looked_ = 0;
  std::set<NodeIndex> underway_;
};

/// Folds the largest subtrees away until the rest is small enough.
void fold(Card& root, std::size_t most, std::string_view what, std::vector<NodeIndex>& apart) {
  while (root.count() > most) {
    // The largest subtree that is a drawing of its own, as near to the root as there are several of them.
    Card* from = &root;
    while (from->children.size() == 1 && !from->children.front().children.empty()) from = &from->children.front();
    Card* largest = nullptr;
    for (Card& child : from->children)
      if (!child.children.empty() && (!largest || child.count() > largest->count())) largest = &child;
    if (!largest) {  // too many leaves beside one another
      if (from->children.size() <= 1) return;
      const std::size_t keep = most > 2 ? most - 2 : 1;
      if (from->children.size() <= keep) return;
      Card rest;
      rest.isType = root.isType;
      rest.title = fmt::format("{} more", from->children.size() - keep);
      from->children.resize(keep);
      from->children.push_back(std::move(rest));
      return;
    }
    largest->note = fmt::format("{} {} below", largest->count() - 1, what);
    apart.push_back(largest->node);
    largest->children.clear();
  }
}

void linkFolded(Card& card, const Space& space, const std::vector<NodeIndex>& apart, const std::string& base) {
  if (std::ranges::find(apart, card.node) != apart.end()) {
    card.link = drawingName(base, space.path(card.node));
    card.note += ", drawn apart";
  }
  for (Card& child : card.children) linkFolded(child, space, apart, base);
}

Drawing paint(std::vector<Card> roots, const std::string& title) {
  Drawing drawing;
  for (const Card& root : roots) drawing.cards += root.count();
  drawing.svg = paintCards(std::move(roots), title);
  return drawing;
}

Drawing drawBelow(const Space& space, NodeIndex root, const std::string& base, const DiagramOptions& options) {
  InstanceCards cards(space, options);
  Card card = cards.collect(root);
  if (cards.isTooMuch()) return {};
  std::vector<NodeIndex> apart;
  fold(card, options.mostCards, "objects", apart);
  if (!base.empty()) linkFolded(card, space, apart, base);
  // Objects itself is no part of a plant.
  std::vector<Card> roots;
  if (space.nodeId(root).is(id::ObjectsFolder) && card.rows.empty())
    roots = std::move(card.children);
  else
    roots.push_back(std::move(card));
  Drawing drawing = paint(std::move(roots), space.path(root));
  drawing.apart = std::move(apart);
  return drawing;
}

std::string dataTypeKind(const Space& space, NodeIndex type) {
  if (space.isSubtype(type, id::Enumeration)) return "enumeration";
  if (space.isSubtype(type, id::Union)) return "union";
  if (space.isSubtype(type, id::Structure)) return "structure";
  return "data type";
}

/// Collects the cards of types, each below what it extends.
class TypeCards {
 public:
  TypeCards(const Space& space, const DiagramOptions& options) : space_(space), options_(options) {}

  /// Whether there were more nodes than may be looked at.
  bool isTooMuch() const { return looked_ > options_.mostNodes; }

  /// Those of the models: a tree for each that extends none of them.
  std::vector<Card> ofModels() {
    std::vector<Card> roots;
    for (const auto base : {id::BaseObjectType, id::BaseVariableType, id::BaseDataType, id::References}) {
      const auto first = static_cast<std::ptrdiff_t>(roots.size());
      addOwnBelow(space_.at(base), roots);
      std::sort(roots.begin() + first, roots.end(), [](const Card& a, const Card& b) { return a.node < b.node; });
    }
    return roots;
  }
  Card cardOf(NodeIndex type) {
    Card card;
    card.node = type;
    card.isType = true;
    card.title = std::string(space_.name(type));
    const NodeIndex super = space_.supertype(type);
    if (space_.nodeClass(type) == NodeClass::DataType)
      card.kind = dataTypeKind(space_, type);
    else if (super != kNoNode && !underway_.contains(super) && !space_.nodeId(super).is(id::BaseObjectType))
      card.kind = "a " + std::string(space_.name(super));
    if (space_.isAbstract(type)) card.kind += card.kind.empty() ? "abstract" : ", abstract";
    for (const NodeIndex member : membersOf(space_, type))
      if (isShown(member) && hasRoom()) card.rows.push_back(memberRow(member));
    addDefinition(card, type);
    limitRows(card);
    underway_.insert(type);
    for (const NodeIndex sub : subtypesOf(type))
      if (hasRoom()) card.children.push_back(cardOf(sub));
    underway_.erase(type);
    return card;
  }

 private:
  bool isShown(NodeIndex node) const { return !options_.shows || options_.shows(node); }
  bool hasRoom() { return ++looked_ <= options_.mostNodes; }
  bool isOwn(NodeIndex type) const { return space_.nodeId(type).namespaceIndex() >= 2; }

  std::vector<NodeIndex> subtypesOf(NodeIndex type) const {
    std::vector<NodeIndex> out;
    for (const auto& reference : space_.references(type))
      if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasSubtype) &&
          !underway_.contains(reference.target()) && isShown(reference.target()))
        out.push_back(reference.target());
    return out;
  }
  void addOwnBelow(NodeIndex type, std::vector<Card>& roots) {
    if (type == kNoNode) return;
    underway_.insert(type);
    for (const NodeIndex sub : subtypesOf(type)) {
      if (!isOwn(sub)) {
        addOwnBelow(sub, roots);
        continue;
      }
      underway_.erase(type);  // it is no card that `sub` would hang from
      if (hasRoom()) roots.push_back(cardOf(sub));
      underway_.insert(type);
    }
    underway_.erase(type);
  }
  CardRow memberRow(NodeIndex member) const {
    CardRow row = rowOf(space_, member);
    if (space_.nodeClass(member) == NodeClass::Object && row.facts.empty()) row.facts = "object";
    return row;
  }
  void addDefinition(Card& card, NodeIndex type) const {
    const auto* rare = space_.rare(type);
    if (!rare || rare->typeDefinition.isNull()) return;
    if (auto members = rare->typeDefinition.as<EnumDefinition>();
        members && rare->typeDefinition.is<EnumDefinition>()) {
      for (const auto& field : members->fields) card.rows.push_back({field.name.str(), std::to_string(field.value)});
    } else if (auto structure = rare->typeDefinition.as<StructureDefinition>(); structure) {
      for (const auto& field : structure->fields) {
        const NodeIndex fieldType = space_.find(field.dataType);
        card.rows.push_back({field.name.str() + (field.isOptional ? "?" : ""),
                             (fieldType == kNoNode ? field.dataType.text() : std::string(space_.name(fieldType))) +
                                 (field.valueRank >= 1 ? "[]" : "")});
      }
    }
  }

  const Space& space_;
  const DiagramOptions& options_;
  std::size_t looked_ = 0;
  std::set<NodeIndex> underway_;
};

}  // namespace

Drawing drawInstances(const Space& space, NodeIndex root, const DiagramOptions& options) {
  return drawBelow(space, root, {}, options);
}

Drawing drawTypes(const Space& space, const DiagramOptions& options) {
  TypeCards types(space, options);
  auto roots = types.ofModels();
  if (types.isTooMuch()) return {};
  // Side by side in few columns would be wide; a long list is cut where it stops being legible.
  std::size_t cards = 0, keep = 0;
  while (keep < roots.size() && cards + roots[keep].count() <= options.mostCards) cards += roots[keep++].count();
  if (keep < roots.size()) {
    const std::size_t rest = roots.size() - keep;
    roots.resize(keep);
    Card more;
    more.isType = true;
    more.title = fmt::format("{} more types", rest);
    roots.push_back(std::move(more));
  }
  return paint(std::move(roots), "Types");
}

Drawing drawType(const Space& space, NodeIndex type, const DiagramOptions& options) {
  TypeCards types(space, options);
  Card card = types.cardOf(type);
  if (types.isTooMuch()) return {};
  std::vector<NodeIndex> apart;
  fold(card, options.mostCards, "types", apart);
  Drawing drawing = paint({std::move(card)}, std::string(space.name(type)));
  drawing.apart = std::move(apart);
  return drawing;
}

std::string drawingName(const std::string& base, const std::string& path) {
  std::string part = path;
  std::ranges::replace_if(
      part, [](unsigned char c) { return c < 128 && !std::isalnum(c) && c != '.' && c != '_'; }, '-');
  const auto dot = base.rfind('.');
  return base.substr(0, dot) + "-" + part + (dot == std::string::npos ? "" : base.substr(dot));
}

std::map<std::string, std::string> drawAll(const Space& space, NodeIndex root, const std::string& base,
                                           const DiagramOptions& options) {
  std::map<std::string, std::string> files;
  if (space::isType(space.nodeClass(root))) return {{base, drawType(space, root, options).svg}};
  std::vector<std::pair<std::string, NodeIndex>> wanted{{base, root}};
  while (!wanted.empty()) {
    const auto [name, node] = wanted.back();
    wanted.pop_back();
    if (files.contains(name)) continue;
    Drawing drawing = drawBelow(space, node, base, options);
    files[name] = std::move(drawing.svg);
    for (const NodeIndex apart : drawing.apart) wanted.emplace_back(drawingName(base, space.path(apart)), apart);
  }
  Drawing types = drawTypes(space, options);
  if (types.cards) files[drawingName(base, "types")] = std::move(types.svg);
  return files;
}

}  // namespace zunth::model
