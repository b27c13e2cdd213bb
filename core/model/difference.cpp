#include "core/model/difference.hpp"

#include "core/model/node_attributes.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

class Comparison {
 public:
  Comparison(const Space& before, const Space& after, const CompareOptions& options)
      : before_(before), after_(after), options_(options), twins_(after, before), later_(before.rows(), kNoNode) {
    for (NodeIndex node = 0; node < after.rows(); ++node)
      if (twins_(node) != kNoNode) later_[twins_(node)] = node;
  }

  std::vector<Change> run() {
    for (NodeIndex node = 0; node < before_.rows(); ++node) {
      if (!isOfModel(before_, node)) continue;
      if (later_[node] == kNoNode)
        add(Change::Kind::Removed, Change::Effect::Breaks, pathOf(before_, node), wordFor(before_.nodeClass(node)), {},
            {});
      else
        compareNodes(node, later_[node]);
    }
    for (NodeIndex node = 0; node < after_.rows(); ++node)
      if (isOfModel(after_, node) && twins_(node) == kNoNode)
        add(Change::Kind::Added, Change::Effect::Seen, pathOf(after_, node), wordFor(after_.nodeClass(node)), {}, {});
    compareModels();
    std::ranges::stable_sort(changes_, {}, &Change::path);
    return std::move(changes_);
  }

 private:
  void add(Change::Kind kind, Change::Effect effect, std::string path, std::string what, std::string before,
           std::string after) {
    changes_.push_back({kind, effect, std::move(path), std::move(what), std::move(before), std::move(after)});
  }
  void differ(Change::Effect effect, NodeIndex node, std::string what, std::string before, std::string after) {
    add(Change::Kind::Changed, effect, pathOf(after_, node), std::move(what), std::move(before), std::move(after));
  }
  static std::string nameOf(const Space& space, NodeIndex node) {
    return node == kNoNode ? "" : std::string(space.name(node));
  }

  // Texts are made only of what differs: most nodes of large models don't.
  void compareNodes(NodeIndex before, NodeIndex after) {
    const auto nodeClass = after_.nodeClass(after);
    if (before_.nodeClass(before) != nodeClass)
      return differ(Change::Effect::Breaks, after, "node class", wordFor(before_.nodeClass(before)),
                    wordFor(nodeClass));
    static const space::RareAttributes nothing;
    const auto *rareBefore = before_.rare(before), *rareAfter = after_.rare(after);
    const Pair pair{before_,
                    before,
                    after_,
                    after,
                    twins_,
                    rareBefore ? *rareBefore : nothing,
                    rareAfter ? *rareAfter : nothing,
                    options_.isOwned && options_.isOwned(before)};
    for (const auto* each : attributesOf(nodeClass)) {
      const auto& attribute = *each;
      using Kind = NodeAttribute::Kind;
      if ((attribute.kind == Kind::Permissions && !options_.permissions) ||
          (attribute.kind == Kind::InitialValue && !options_.initialValues) || attribute.isSame(pair))
        continue;
      std::string was = attribute.text(before_, before), is = attribute.text(after_, after);
      // The same number in another type is no news beside the type's.
      if (attribute.kind == Kind::InitialValue && was == is) continue;
      const bool isName = std::string_view(attribute.name) == "browse name";
      add(isName ? Change::Kind::Renamed : Change::Kind::Changed, attribute.effect(pair), pathOf(after_, after),
          attribute.name, std::move(was), std::move(is));
    }
    const NodeIndex oldType = before_.typeDefinition(before), newType = after_.typeDefinition(after);
    if (oldType != twins_(newType))
      differ(Change::Effect::Breaks, after, "type", nameOf(before_, oldType), nameOf(after_, newType));
    compareReferences(before, after);
  }

  /// References between nodes that are on both sides, told at their sources.
  void compareReferences(NodeIndex before, NodeIndex after) {
    old_.clear();
    new_.clear();
    for (const auto& reference : before_.references(before))
      if (reference.isForward() && later_[reference.target()] != kNoNode && later_[reference.type()] != kNoNode)
        old_.emplace_back(later_[reference.type()], later_[reference.target()]);
    for (const auto& reference : after_.references(after))
      if (reference.isForward() && twins_(reference.target()) != kNoNode && twins_(reference.type()) != kNoNode)
        new_.emplace_back(reference.type(), reference.target());
    if (old_ == new_) return;
    const Ends ordered = new_, wasOrdered = old_;
    std::ranges::sort(old_);
    std::ranges::sort(new_);
    if (old_ == new_) {
      if (options_.order) compareOrder(wasOrdered, ordered, after);
      return;
    }
    const auto tell = [&](const Ends& from, const Ends& other, bool isGone) {
      for (const auto& [type, target] : from) {
        if (std::ranges::binary_search(other, std::pair(type, target)) || after_.nodeId(type).is(id::HasTypeDefinition))
          continue;
        const std::string path = pathOf(after_, target);
        differ(isGone ? Change::Effect::Breaks : Change::Effect::Seen, after, nameOf(after_, type), isGone ? path : "",
               isGone ? "" : path);
      }
    };
    tell(old_, new_, true);
    tell(new_, old_, false);
  }

  using Ends = std::vector<std::pair<NodeIndex, NodeIndex>>;  // types and targets of references, by the later space

  void compareOrder(const Ends& was, const Ends& is, NodeIndex after) {
    const auto children = [&](const Ends& ends) {
      std::string out;
      for (const auto& [type, target] : ends)
        if (after_.isSubtype(type, id::HierarchicalReferences) && !after_.nodeId(type).is(id::HasSubtype) &&
            isOfModel(after_, target))
          out += (out.empty() ? "" : ", ") + nameOf(after_, target);
      return out;
    };
    if (std::string before = children(was), now = children(is); before != now)
      differ(Change::Effect::None, after, "order", std::move(before), std::move(now));
  }

  /// What the models say of themselves, by namespaces that both have.
  void compareModels() {
    const auto words = [](const space::ModelInfo& info) {
      return fmt::format("{}{}{}", info.version.view(), info.version.empty() || info.published.isNull() ? "" : ", ",
                         info.published.isNull() ? "" : info.published.text());
    };
    for (std::size_t i = 2; i < after_.namespaces().size(); ++i) {
      const auto ns = before_.namespaceIndex(after_.namespaces()[i].view());
      if (!ns) continue;
      const auto was = words(before_.modelInfo(*ns)), is = words(after_.modelInfo(static_cast<std::uint16_t>(i)));
      if (was != is)
        add(Change::Kind::Changed, Change::Effect::Seen, after_.namespaces()[i].str(), "model version", was, is);
    }
  }

  const Space& before_;
  const Space& after_;
  const CompareOptions& options_;
  Twins twins_;                   // from the later space to the earlier
  std::vector<NodeIndex> later_;  // the same node in the later space, by node of the earlier
  Ends old_, new_;
  std::vector<Change> changes_;
};

}  // namespace

std::string pathOf(const Space& space, NodeIndex node) {
  std::string path = space.path(node);
  return path.starts_with("ns=") ? space.nodeId(node).inNamespace(0).text() : path;
}

const char* wordFor(NodeClass nodeClass) {
  switch (nodeClass) {
    case NodeClass::Object: return "object";
    case NodeClass::Variable: return "variable";
    case NodeClass::Method: return "method";
    case NodeClass::View: return "view";
    case NodeClass::DataType: return "data type";
    case NodeClass::ReferenceType: return "reference type";
    default: return "type";
  }
}

std::vector<Change> compare(const Space& before, const Space& after, const CompareOptions& options) {
  return Comparison(before, after, options).run();
}

}  // namespace zunth::model
