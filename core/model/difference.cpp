#include "core/model/difference.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <set>
#include <tuple>

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

/// Tells the ids of one space in the terms of another.
class Comparison {
 public:
  Comparison(const Space& before, const Space& after) : before_(before), after_(after) {}

  std::vector<Change> run() {
    for (NodeIndex node = 0; node < before_.rows(); ++node) {
      if (!isOfModel(before_, node)) continue;
      const auto other = counterpart(before_, node, after_);
      if (other == kNoNode)
        add(Change::Kind::Removed, Change::Effect::Breaks, pathOf(before_, node), wordFor(before_.nodeClass(node)), {},
            {});
      else
        compareNodes(node, other);
    }
    for (NodeIndex node = 0; node < after_.rows(); ++node)
      if (isOfModel(after_, node) && counterpart(after_, node, before_) == kNoNode)
        add(Change::Kind::Added, Change::Effect::Seen, pathOf(after_, node), wordFor(after_.nodeClass(node)), {}, {});
    std::ranges::stable_sort(changes_, {}, &Change::path);
    return std::move(changes_);
  }

 private:
  static NodeIndex counterpart(const Space& from, NodeIndex node, const Space& to) {
    const NodeId& id = from.nodeId(node);
    if (id.namespaceIndex() < 2) return to.find(id);
    const auto index = to.namespaceIndex(from.namespaces()[id.namespaceIndex()].view());
    return index ? to.find(id.inNamespace(*index)) : kNoNode;
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
    return node == kNoNode ? "" : std::string(space.browseName(node).name.view());
  }

  void compareNodes(NodeIndex before, NodeIndex after) {
    using Effect = Change::Effect;
    const auto nodeClass = after_.nodeClass(after);
    if (before_.nodeClass(before) != nodeClass)
      return differ(Effect::Breaks, after, "node class", wordFor(before_.nodeClass(before)), wordFor(nodeClass));
    differ(Effect::Breaks, after, "browse name", nameOf(before_, before), nameOf(after_, after));
    differ(Effect::Seen, after, "display name", std::string(before_.displayName(before).text.view()),
           std::string(after_.displayName(after).text.view()));
    differ(Effect::None, after, "description", description(before_, before), description(after_, after));
    differ(Effect::Breaks, after, "type", nameOf(before_, before_.typeDefinition(before)),
           nameOf(after_, after_.typeDefinition(after)));
    differ(Effect::Seen, after, "access", permissions(before_, before), permissions(after_, after));
    if (nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType) compareVariables(before, after);
    const auto *was = before_.rare(before), *is = after_.rare(after);
    const ExtensionObject none;
    const auto& oldDefinition = was ? was->typeDefinition : none;
    const auto& newDefinition = is ? is->typeDefinition : none;
    if (!(oldDefinition == newDefinition))
      differ(Effect::Breaks, after, "definition", format(Variant(oldDefinition)), format(Variant(newDefinition)));
    compareReferences(before, after);
  }

  void compareVariables(NodeIndex before, NodeIndex after) {
    using Effect = Change::Effect;
    const auto &was = before_.traits(before), &is = after_.traits(after);
    differ(Effect::Breaks, after, "data type", nameOf(before_, was.dataType), nameOf(after_, is.dataType));
    differ(Effect::Breaks, after, "value rank", std::to_string(was.valueRank), std::to_string(is.valueRank));
    const bool loses = (was.accessLevel & ~is.accessLevel) != 0;
    differ(loses ? Effect::Breaks : Effect::Seen, after, "access level", accessWords(was.accessLevel),
           accessWords(is.accessLevel));
    // A property's value is what it says; another variable's is only where it starts.
    const bool isProperty = nameOf(after_, after_.typeDefinition(after)) == "PropertyType";
    differ(isProperty ? Effect::Seen : Effect::None, after, isProperty ? "value" : "initial value",
           format(before_.value(before).value), format(after_.value(after).value));
  }

  static std::string description(const Space& space, NodeIndex node) {
    const auto* rare = space.rare(node);
    return rare ? std::string(rare->description.text.view()) : std::string();
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
    using Told = std::tuple<std::string, std::string>;
    const auto told = [](const Space& space, NodeIndex node, const Space& other) {
      std::set<Told> out;
      for (const auto& reference : space.references(node))
        if (reference.isForward() && !space.nodeId(reference.type()).is(id::HasTypeDefinition) &&
            counterpart(space, reference.target(), other) != kNoNode)
          out.emplace(nameOf(space, reference.type()), pathOf(space, reference.target()));
      return out;
    };
    const auto was = told(before_, before, after_), is = told(after_, after, before_);
    for (const auto& [type, target] : was)
      if (!is.contains({type, target})) differ(Change::Effect::Breaks, after, type, target, "");
    for (const auto& [type, target] : is)
      if (!was.contains({type, target})) differ(Change::Effect::Seen, after, type, "", target);
  }

  const Space& before_;
  const Space& after_;
  std::vector<Change> changes_;
};

}  // namespace

std::vector<Change> compare(const Space& before, const Space& after) { return Comparison(before, after).run(); }

}  // namespace zunth::model
