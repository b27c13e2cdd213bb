#include "core/model/difference.hpp"

#include "core/space/attributes.hpp"
#include "core/space/conditions.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

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

bool isOfModel(const Space& space, NodeIndex node) {
  return space.exists(node) && space.nodeId(node).namespaceIndex() >= 2;
}

/// The path of a node, or its id without the namespace's index, which differs from one space to another.
std::string pathOf(const Space& space, NodeIndex node) {
  std::string path = space.path(node);
  return path.starts_with("ns=") ? space.nodeId(node).inNamespace(0).text() : path;
}

std::string accessWords(std::uint8_t level) {
  std::string out = level & AccessLevelType::CurrentRead ? "readable" : "";
  if (level & AccessLevelType::CurrentWrite) out += out.empty() ? "writable" : ", writable";
  return out.empty() ? "none" : out;
}

class Comparison {
 public:
  Comparison(const Space& before, const Space& after, const CompareOptions& options)
      : before_(before),
        after_(after),
        options_(options),
        twins_(before.rows(), kNoNode),
        sources_(after.rows(), kNoNode) {
    findTwins();
  }

  std::vector<Change> run() {
    for (NodeIndex node = 0; node < before_.rows(); ++node) {
      if (!isOfModel(before_, node)) continue;
      if (twins_[node] == kNoNode)
        add(Change::Kind::Removed, Change::Effect::Breaks, pathOf(before_, node), wordFor(before_.nodeClass(node)), {},
            {});
      else
        compareNodes(node, twins_[node]);
    }
    for (NodeIndex node = 0; node < after_.rows(); ++node)
      if (isOfModel(after_, node) && sources_[node] == kNoNode)
        add(Change::Kind::Added, Change::Effect::Seen, pathOf(after_, node), wordFor(after_.nodeClass(node)), {}, {});
    std::ranges::stable_sort(changes_, {}, &Change::path);
    return std::move(changes_);
  }

 private:
  /// Which node on the other side is the same: by id, namespaces by URI.
  void findTwins() {
    std::vector<std::optional<std::uint16_t>> namespaces;
    for (std::size_t i = 0; i < before_.namespaces().size(); ++i)
      namespaces.push_back(i < 2 ? std::optional(static_cast<std::uint16_t>(i))
                                 : after_.namespaceIndex(before_.namespaces()[i].view()));
    for (NodeIndex node = 0; node < before_.rows(); ++node) {
      if (!before_.exists(node)) continue;
      const NodeId& id = before_.nodeId(node);
      const auto ns = namespaces[id.namespaceIndex()];
      if (!ns) continue;
      twins_[node] = after_.find(*ns == id.namespaceIndex() ? id : id.inNamespace(*ns));
      if (twins_[node] != kNoNode) sources_[twins_[node]] = node;
    }
  }

  void add(Change::Kind kind, Change::Effect effect, std::string path, std::string what, std::string before,
           std::string after) {
    changes_.push_back({kind, effect, std::move(path), std::move(what), std::move(before), std::move(after)});
  }
  void differ(Change::Effect effect, NodeIndex node, std::string what, std::string before, std::string after) {
    if (before != after)
      add(Change::Kind::Changed, effect, pathOf(after_, node), std::move(what), std::move(before), std::move(after));
  }

  static std::string nameOf(const Space& space, NodeIndex node) {
    return node == kNoNode ? "" : std::string(space.name(node));
  }
  NodeIndex twin(NodeIndex node) const { return node == kNoNode ? kNoNode : twins_[node]; }

  // Texts are made only of what differs: most nodes of large models don't.
  void compareNodes(NodeIndex before, NodeIndex after) {
    using Effect = Change::Effect;
    const auto nodeClass = after_.nodeClass(after);
    if (before_.nodeClass(before) != nodeClass)
      return differ(Effect::Breaks, after, "node class", wordFor(before_.nodeClass(before)), wordFor(nodeClass));
    if (before_.name(before) != after_.name(after))
      add(Change::Kind::Renamed, Effect::Breaks, pathOf(after_, after), "browse name", nameOf(before_, before),
          nameOf(after_, after));
    if (const auto was = before_.displayName(before), is = after_.displayName(after); !(was.text == is.text))
      differ(Effect::Seen, after, "display name", was.text.str(), is.text.str());
    const NodeIndex oldType = before_.typeDefinition(before), newType = after_.typeDefinition(after);
    if (twin(oldType) != newType)
      differ(Effect::Breaks, after, "type", nameOf(before_, oldType), nameOf(after_, newType));
    if (options_.permissions && !haveSamePermissions(before, after))
      differ(Effect::Seen, after, "access", permissions(before_, before), permissions(after_, after));
    if (nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType) compareVariables(before, after);
    const auto *was = before_.rare(before), *is = after_.rare(after);
    if (was || is) compareRare(was ? *was : space::RareAttributes(), is ? *is : space::RareAttributes(), after);
    compareReferences(before, after);
  }

  void compareRare(const space::RareAttributes& was, const space::RareAttributes& is, NodeIndex after) {
    using Effect = Change::Effect;
    differ(Effect::None, after, "description", std::string(was.description.text.view()),
           std::string(is.description.text.view()));
    if (was.displayNames != is.displayNames || was.descriptions != is.descriptions)
      differ(Effect::Seen, after, "translations", translations(was), translations(is));
    if (!(was.typeDefinition == is.typeDefinition))
      differ(Effect::Breaks, after, "definition", format(Variant(was.typeDefinition)),
             format(Variant(is.typeDefinition)));
  }
  static std::string translations(const space::RareAttributes& rare) {
    std::string out;
    for (const auto* texts : {&rare.displayNames, &rare.descriptions})
      for (const auto& text : *texts)
        out += fmt::format("{}{}: {}", out.empty() ? "" : ", ", text.locale.view(), text.text.view());
    return out;
  }

  void compareVariables(NodeIndex before, NodeIndex after) {
    using Effect = Change::Effect;
    const auto &was = before_.traits(before), &is = after_.traits(after);
    if (twin(was.dataType) != is.dataType)
      differ(Effect::Breaks, after, "data type", nameOf(before_, was.dataType), nameOf(after_, is.dataType));
    if (was.valueRank != is.valueRank)
      differ(Effect::Breaks, after, "value rank", std::to_string(was.valueRank), std::to_string(is.valueRank));
    if (was.accessLevel != is.accessLevel) {
      const bool loses = (was.accessLevel & ~is.accessLevel) != 0;
      differ(loses ? Effect::Breaks : Effect::Seen, after, "access level", accessWords(was.accessLevel),
             accessWords(is.accessLevel));
    }
    // A property's value is what it says; another variable's is only where it starts.
    const NodeIndex type = after_.typeDefinition(after);
    const bool isProperty = type != kNoNode && after_.nodeId(type).is(id::PropertyType);
    if (!isProperty && !options_.initialValues) return;
    const DataValue oldValue = before_.value(before), newValue = after_.value(after);
    if (!(oldValue.value == newValue.value) && !space::isConditionState(after_, after))
      differ(isProperty ? Effect::Seen : Effect::None, after, isProperty ? "value" : "initial value",
             format(oldValue.value), format(newValue.value));
  }

  bool haveSamePermissions(NodeIndex before, NodeIndex after) {
    const auto pair = std::pair(before_.permissionSet(before), after_.permissionSet(after));
    const auto [known, isNew] = samePermissions_.try_emplace(pair);
    if (isNew) known->second = before_.permissionSets()[pair.first] == after_.permissionSets()[pair.second];
    return known->second;
  }

  static std::string permissions(const Space& space, NodeIndex node) {
    std::string out;
    const auto& set = space.permissionSets()[space.permissionSet(node)];
    for (const auto& role : set.roles) {
      const auto roleNode = space.find(role.roleId);
      out += fmt::format("{}{}={:X}", out.empty() ? "" : " ",
                         roleNode == kNoNode ? role.roleId.text() : nameOf(space, roleNode), role.permissions);
    }
    if (set.restrictions) out += fmt::format(" restricted={:X}", set.restrictions);
    return out;
  }

  /// References between nodes that are on both sides, told at their sources.
  void compareReferences(NodeIndex before, NodeIndex after) {
    old_.clear();
    new_.clear();
    for (const auto& reference : before_.references(before))
      if (reference.isForward() && twins_[reference.target()] != kNoNode && twins_[reference.type()] != kNoNode)
        old_.emplace_back(twins_[reference.type()], twins_[reference.target()]);
    for (const auto& reference : after_.references(after))
      if (reference.isForward() && sources_[reference.target()] != kNoNode && sources_[reference.type()] != kNoNode)
        new_.emplace_back(reference.type(), reference.target());
    if (old_ == new_) return;
    std::ranges::sort(old_);
    std::ranges::sort(new_);
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
  const Space& before_;
  const Space& after_;
  const CompareOptions& options_;
  std::vector<NodeIndex> twins_, sources_;  // the same node on the other side, by node of the earlier and of the later
  std::map<std::pair<space::PermissionSetIndex, space::PermissionSetIndex>, bool> samePermissions_;
  Ends old_, new_;
  std::vector<Change> changes_;
};

}  // namespace

std::vector<Change> compare(const Space& before, const Space& after, const CompareOptions& options) {
  return Comparison(before, after, options).run();
}

}  // namespace zunth::model
