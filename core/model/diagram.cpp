#include "core/model/diagram.hpp"

#include "core/model/markup.hpp"
#include "core/model/outline.hpp"
#include "core/space/conditions.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr double kTitleHeight = 22, kRowHeight = 17, kPadding = 8, kGapX = 46, kGapY = 12, kMargin = 24;
constexpr double kTitleLetter = 7.4, kRowLetter = 6.3;  // widths in the fonts below, on the safe side
constexpr std::size_t kMostRows = 14;

/// Letters as they are seen: octets that continue one are none.
double letters(std::string_view text) {
  return static_cast<double>(std::ranges::count_if(text, [](unsigned char c) { return (c & 0xC0) != 0x80; }));
}

struct Row {
  std::string name, facts;
  bool isMethod = false;
};

struct Card {
  NodeIndex node = kNoNode;
  std::string title, kind, note;  // the kind is a type's name; the note stands below all
  std::string link;
  std::vector<Row> rows;
  bool isType = false;
  std::vector<Card> children;
  // Placed by the layout.
  double x = 0, y = 0, width = 0, height = 0;

  std::size_t count() const {
    std::size_t all = 1;
    for (const Card& child : children) all += child.count();
    return all;
  }
};

Row rowOf(const Space& space, NodeIndex node) {
  const auto facts = factsOf(space, node);
  Row row{facts.name, facts.type, space.nodeClass(node) == NodeClass::Method};
  if (row.isMethod) return row;
  for (const auto* each : {&facts.unit, &facts.range})
    if (!each->empty()) row.facts += " " + *each;
  if (facts.access.find("writable") != std::string::npos) row.facts += " ✎";
  const std::string rule = modellingRule(space, node);
  if (rule.starts_with("Optional")) row.name += "?";
  return row;
}

void limitRows(Card& card) {
  if (card.rows.size() <= kMostRows) return;
  card.note = fmt::format("… and {} more", card.rows.size() - kMostRows + 1);
  card.rows.resize(kMostRows - 1);
}

/// Puts the cards of one tree in columns by depth; a parent stands in the middle of its children.
class TreeLayout {
 public:
  explicit TreeLayout(Card& root) : root_(root) {
    measure(root, 0);
    height = arrange(root, 0, 0);
    for (const double column : columns_) width += column + kGapX;
    width -= kGapX;
  }
  void moveTo(double x, double y) { move(root_, x, y); }
  double width = 0, height = 0;

 private:
  void measure(Card& card, std::size_t depth) {
    card.width = std::max(letters(card.title) * kTitleLetter, letters(card.kind) * kRowLetter) + kPadding * 3;
    for (const Row& row : card.rows)
      card.width = std::max(card.width, (letters(row.name) + letters(row.facts) + 3) * kRowLetter + kPadding * 3);
    card.width = std::max(card.width, letters(card.note) * kRowLetter + kPadding * 3);
    card.height = kTitleHeight + (card.kind.empty() ? 0 : kRowHeight) +
                  static_cast<double>(card.rows.size()) * kRowHeight + (card.note.empty() ? 0 : kRowHeight) + kPadding;
    if (columns_.size() <= depth) columns_.resize(depth + 1);
    columns_[depth] = std::max(columns_[depth], card.width);
    for (Card& child : card.children) measure(child, depth + 1);
  }
  /// Returns where the next may begin.
  double arrange(Card& card, std::size_t depth, double top) {
    card.x = 0;
    for (std::size_t i = 0; i < depth; ++i) card.x += columns_[i] + kGapX;
    double bottom = top;
    for (Card& child : card.children) bottom = arrange(child, depth + 1, bottom) + kGapY;
    if (!card.children.empty()) bottom -= kGapY;
    const double below = card.children.empty() ? card.height : bottom - top;
    card.y = top + std::max(0.0, (below - card.height) / 2);
    // A card that is taller than all that is below it.
    if (card.height > below)
      for (Card& child : card.children) move(child, 0, (card.height - below) / 2);
    return top + std::max(card.height, below);
  }
  static void move(Card& card, double x, double y) {
    card.x += x;
    card.y += y;
    for (Card& child : card.children) move(child, x, y);
  }

  Card& root_;
  std::vector<double> columns_;
};

/// Puts trees one below the other, and beside one another where that would be too tall.
struct Layout {
  explicit Layout(std::vector<Card>& roots) {
    std::vector<TreeLayout> trees;
    double area = 0, tallest = 0;
    for (Card& root : roots) {
      const auto& tree = trees.emplace_back(root);
      area += (tree.width + kGapX) * (tree.height + kGapY * 1.5);
      tallest = std::max(tallest, tree.height);
    }
    const double most = std::max(tallest, std::sqrt(area / 1.5));
    double x = kMargin, y = kMargin, columnWidth = 0;
    for (TreeLayout& tree : trees) {
      if (y > kMargin && y - kMargin + tree.height > most) {
        x += columnWidth + kGapX / 2;
        y = kMargin;
        columnWidth = 0;
      }
      tree.moveTo(x, y);
      y += tree.height + kGapY * 1.5;
      columnWidth = std::max(columnWidth, tree.width);
      width = std::max(width, x + columnWidth + kMargin);
      height = std::max(height, y - kGapY * 1.5 + kMargin);
    }
  }
  double width = kMargin * 2, height = kMargin * 2;
};

/// Writes the placed cards.
class Painter {
 public:
  std::string paint(const std::vector<Card>& roots, double width, double height, const std::string& title) {
    out_ = fmt::format(
        R"(<svg xmlns="http://www.w3.org/2000/svg" width="{0:.0f}" height="{1:.0f}" viewBox="0 0 {0:.0f} {1:.0f}" font-family="'DejaVu Sans', Verdana, sans-serif">
<title>{2}</title>
<style>
.paper {{ fill: #fbfaf5 }} .card {{ fill: #ffffff; stroke: #a9b8bc; stroke-width: 1 }}
.object {{ fill: #1f7a78 }} .type {{ fill: #7a4b6d }} .wire {{ fill: none; stroke: #8fa3a8; stroke-width: 1.3 }}
.title {{ font-size: 12.5px; font-weight: bold; fill: #16252c }} .kind {{ font-size: 10.5px; fill: #7a4b6d }}
.name {{ font-size: 10.5px; fill: #16252c }} .facts {{ font-size: 10.5px; fill: #5b6e75 }}
.note {{ font-size: 10.5px; fill: #8a5a12; font-style: italic }}
</style>
<defs><marker id="up" viewBox="0 0 10 10" refX="1" refY="5" markerWidth="9" markerHeight="9" orient="auto"><path d="M9 1 L1 5 L9 9 Z" fill="#fbfaf5" stroke="#7a4b6d"/></marker></defs>
<rect class="paper" width="100%" height="100%"/>
)",
        width, height, escaped(title));
    for (const Card& root : roots) wires(root);
    for (const Card& root : roots) card(root);
    return std::move(out_) + "</svg>\n";
  }

 private:
  void wires(const Card& from) {
    for (const Card& to : from.children) {
      const double x1 = from.x + from.width, y1 = from.y + from.height / 2, x2 = to.x, y2 = to.y + to.height / 2;
      const double middle = x2 - kGapX / 2;
      out_ += fmt::format(R"(<path class="wire"{} d="M{:.1f} {:.1f} H{:.1f} V{:.1f} H{:.1f}"/>)",
                          from.isType ? R"x( marker-start="url(#up)")x" : "", x1, y1, middle, y2, x2) +
              "\n";
      wires(to);
    }
  }
  void text(const char* style, double x, double y, const std::string& words, bool atEnd = false) {
    out_ += fmt::format(R"(<text class="{}" x="{:.1f}" y="{:.1f}"{}>{}</text>)", style, x, y,
                        atEnd ? R"( text-anchor="end")" : "", escaped(words)) +
            "\n";
  }
  void card(const Card& card) {
    const bool isLink = !card.link.empty();
    if (isLink) out_ += fmt::format("<a href=\"{}\">\n", escaped(card.link));
    out_ += fmt::format(R"(<rect class="card" x="{:.1f}" y="{:.1f}" width="{:.1f}" height="{:.1f}" rx="3"/>)", card.x,
                        card.y, card.width, card.height) +
            "\n";
    out_ += fmt::format(R"(<rect class="{}" x="{:.1f}" y="{:.1f}" width="4" height="{:.1f}" rx="2"/>)",
                        card.isType ? "type" : "object", card.x, card.y, card.height) +
            "\n";
    const double left = card.x + kPadding * 1.5, right = card.x + card.width - kPadding;
    double y = card.y + 16;
    text("title", left, y, card.title);
    if (!card.kind.empty()) text("kind", left, y += kRowHeight, card.kind);
    y += 2;
    for (const Row& row : card.rows) {
      y += kRowHeight;
      if (row.isMethod) {
        out_ += fmt::format(R"(<text class="name" x="{:.1f}" y="{:.1f}">{}<tspan class="facts">{}</tspan></text>)",
                            left, y, escaped(row.name), escaped(row.facts)) +
                "\n";
        continue;
      }
      text("name", left, y, row.name);
      text("facts", right, y, row.facts, true);
    }
    if (!card.note.empty()) text("note", left, y + kRowHeight, card.note);
    if (isLink) out_ += "</a>\n";
    for (const Card& child : card.children) this->card(child);
  }

  std::string out_;
};

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
void fold(Card& root, std::size_t most, std::vector<NodeIndex>& apart) {
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
      rest.title = fmt::format("{} more", from->children.size() - keep);
      from->children.resize(keep);
      from->children.push_back(std::move(rest));
      return;
    }
    largest->note = fmt::format("{} objects below", largest->count() - 1);
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
  const Layout layout(roots);
  Drawing drawing;
  for (const Card& root : roots) drawing.cards += root.count();
  drawing.svg = Painter().paint(roots, layout.width, layout.height, title);
  return drawing;
}

Drawing drawBelow(const Space& space, NodeIndex root, const std::string& base, const DiagramOptions& options) {
  InstanceCards cards(space, options);
  Card card = cards.collect(root);
  if (cards.isTooMuch()) return {};
  std::vector<NodeIndex> apart;
  fold(card, options.mostCards, apart);
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

/// Collects the cards of types, each below what it extends when that is of the models, too.
class TypeCards {
 public:
  TypeCards(const Space& space) : space_(space) {}

  std::vector<Card> collect() {
    std::vector<Card> roots;
    for (const auto nodeClass :
         {NodeClass::ObjectType, NodeClass::VariableType, NodeClass::DataType, NodeClass::ReferenceType})
      for (const NodeIndex type : typesOf(space_, nodeClass)) {
        const NodeIndex super = space_.supertype(type);
        if (super == kNoNode || space_.nodeId(super).namespaceIndex() < 2) roots.push_back(cardOf(type));
      }
    return roots;
  }

 private:
  Card cardOf(NodeIndex type) {
    Card card;
    card.node = type;
    card.isType = true;
    card.title = std::string(space_.name(type));
    const NodeIndex super = space_.supertype(type);
    const bool isOwn = super != kNoNode && space_.nodeId(super).namespaceIndex() >= 2;
    if (space_.nodeClass(type) == NodeClass::DataType)
      card.kind = dataTypeKind(space_, type);
    else if (super != kNoNode && !isOwn && !space_.nodeId(super).is(id::BaseObjectType))
      card.kind = "a " + std::string(space_.name(super));
    if (space_.isAbstract(type)) card.kind += card.kind.empty() ? "abstract" : ", abstract";
    for (const NodeIndex member : membersOf(space_, type)) card.rows.push_back(memberRow(member));
    addDefinition(card, type);
    limitRows(card);
    for (const auto& reference : space_.references(type))
      if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasSubtype) &&
          space_.nodeId(reference.target()).namespaceIndex() >= 2)
        card.children.push_back(cardOf(reference.target()));
    return card;
  }
  Row memberRow(NodeIndex member) const {
    Row row = rowOf(space_, member);
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
};

}  // namespace

Drawing drawInstances(const Space& space, NodeIndex root, const DiagramOptions& options) {
  return drawBelow(space, root, {}, options);
}

Drawing drawTypes(const Space& space, const DiagramOptions& options) {
  auto roots = TypeCards(space).collect();
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
