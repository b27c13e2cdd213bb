#include "core/model/apply.hpp"

#include "core/space/conditions.hpp"

#include <algorithm>
#include <set>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

bool isOfModel(const Space& space, NodeIndex node) {
  return space.exists(node) && space.nodeId(node).namespaceIndex() >= 2;
}

class Application {
 public:
  Application(Space& running, const Space& wanted) : running_(running), wanted_(wanted) {
    for (const auto& uri : wanted.namespaces())
      indexes_.push_back(indexes_.size() < 2 ? static_cast<std::uint16_t>(indexes_.size()) : running.addNamespace(uri));
  }

  Applied run() {
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node)) ids_.insert(idOf(node).text());
    removeOthers();
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node) && here(node) == kNoNode) add(node);
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node)) change(node);
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node)) refer(node);
    for (const NodeIndex node : added_) tell(node, ModelChangeStructureVerbMask::NodeAdded);
    for (const NodeIndex node : changed_)
      if (!added_.contains(node)) tell(node, ModelChangeStructureVerbMask::ReferenceAdded);
    for (std::size_t i = 2; i < indexes_.size(); ++i)
      running_.setModelInfo(indexes_[i], wanted_.modelInfo(static_cast<std::uint16_t>(i)));
    applied_.added = added_.size();
    for (const NodeIndex node : changed_) applied_.changed += !added_.contains(node);
    return std::move(applied_);
  }

 private:
  NodeId idOf(NodeIndex wanted) const {
    const NodeId& id = wanted_.nodeId(wanted);
    return id.inNamespace(indexes_[id.namespaceIndex()]);
  }
  /// The node of the running space that stands for one of the other; kNoNode when there is none.
  NodeIndex here(NodeIndex wanted) const { return wanted == kNoNode ? kNoNode : running_.find(idOf(wanted)); }
  QualifiedName nameOf(NodeIndex wanted) const {
    QualifiedName name = wanted_.browseName(wanted);
    name.namespaceIndex = indexes_[std::min<std::size_t>(name.namespaceIndex, indexes_.size() - 1)];
    return name;
  }

  void tell(NodeIndex node, std::uint8_t verb) {
    const auto type = running_.typeDefinition(node);
    applied_.changes.push_back({running_.nodeId(node), type == kNoNode ? NodeId() : running_.nodeId(type), verb});
  }

  /// What is in its place can't become what is wanted by a change of attributes.
  bool isAnother(NodeIndex wanted, NodeIndex node) const {
    return wanted_.nodeClass(wanted) != running_.nodeClass(node) || !(nameOf(wanted) == running_.browseName(node)) ||
           !(wanted_.displayName(wanted) == running_.displayName(node)) ||
           wanted_.isAbstract(wanted) != running_.isAbstract(node) ||
           wanted_.isExecutable(wanted) != running_.isExecutable(node) ||
           here(wanted_.typeDefinition(wanted)) != running_.typeDefinition(node);
  }

  void removeOthers() {
    std::vector<NodeIndex> gone;
    for (NodeIndex node = 0; node < running_.rows(); ++node)
      if (isOfModel(running_, node) && !ids_.contains(running_.nodeId(node).text())) gone.push_back(node);
    applied_.removed = gone.size();
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node))
        if (const NodeIndex old = here(node); old != kNoNode && isAnother(node, old)) gone.push_back(old);
    for (const NodeIndex node : gone) tell(node, ModelChangeStructureVerbMask::NodeDeleted);
    for (const NodeIndex node : gone) running_.remove(node);
  }

  void add(NodeIndex wanted) {
    space::NewNode node;
    node.nodeId = idOf(wanted);
    node.nodeClass = wanted_.nodeClass(wanted);
    node.browseName = nameOf(wanted);
    node.displayName = wanted_.displayName(wanted);
    node.isAbstract = wanted_.isAbstract(wanted);
    node.isSymmetric = wanted_.isSymmetric(wanted);
    node.eventNotifier = wanted_.eventNotifier(wanted);
    node.executable = wanted_.isExecutable(wanted);
    node.containsNoLoops = wanted_.containsNoLoops(wanted);
    auto added = running_.add(std::move(node));
    if (!added) return;
    added_.insert(*added);
    if (const auto* rare = wanted_.rare(wanted); rare && !rare->displayNames.empty())
      running_.setDisplayNames(*added, rare->displayNames);
    if (hasValue(wanted)) running_.setValue(*added, wanted_.value(wanted));
  }
  bool hasValue(NodeIndex wanted) const {
    return wanted_.nodeClass(wanted) == NodeClass::Variable || wanted_.nodeClass(wanted) == NodeClass::VariableType;
  }

  template <class T>
  void set(T& held, const T& value, NodeIndex node) {
    if (held == value) return;
    held = value;
    changed_.insert(node);
  }

  void change(NodeIndex wanted) {
    const NodeIndex node = here(wanted);
    if (node == kNoNode) return;
    if (const auto* rare = wanted_.rare(wanted); rare || running_.rare(node)) {
      const space::RareAttributes none;
      const auto& from = rare ? *rare : none;
      auto& to = running_.rareOf(node);
      set(to.description, from.description, node);
      set(to.arrayDimensions, from.arrayDimensions, node);
      set(to.inverseName, from.inverseName, node);
      set(to.typeDefinition, from.typeDefinition, node);
      set(to.descriptions, from.descriptions, node);
      if (to.displayNames != from.displayNames && !from.displayNames.empty()) {
        running_.setDisplayNames(node, from.displayNames);
        changed_.insert(node);
      }
      to.nodeSetExtras = from.nodeSetExtras;
    }
    // Who listens to an object is not lost when it becomes one to listen to; one that was stays one.
    if (wanted_.eventNotifier(wanted) && !running_.eventNotifier(node)) {
      running_.setEventNotifier(node);
      changed_.insert(node);
    }
    const auto& permissions = wanted_.permissionSets()[wanted_.permissionSet(wanted)];
    if (!(running_.permissionSets()[running_.permissionSet(node)] == permissions)) {
      running_.setPermissions(node, permissions);
      changed_.insert(node);
    }
    if (!hasValue(wanted)) return;
    auto& traits = running_.traits(node);
    const auto& from = wanted_.traits(wanted);
    set(traits.dataType, here(from.dataType), node);
    set(traits.valueRank, from.valueRank, node);
    set(traits.accessLevel, from.accessLevel, node);
    set(traits.historizing, from.historizing, node);
    set(traits.minimumSamplingInterval, from.minimumSamplingInterval, node);
    // A value of another type is none any more.
    if (const auto held = running_.value(node).value; !held.isNull() && !running_.accepts(traits, held))
      running_.setValue(node, wanted_.value(wanted));
    const NodeIndex type = wanted_.typeDefinition(wanted);
    if (type == kNoNode || !wanted_.nodeId(type).is(id::PropertyType)) return;
    if (const auto value = wanted_.value(wanted);
        !(value.value == running_.value(node).value) && !space::isConditionState(wanted_, wanted)) {
      running_.setValue(node, value);
      changed_.insert(node);
    }
  }

  /// References to what is of neither model, as a session's nodes are, stay.
  void refer(NodeIndex wanted) {
    const NodeIndex node = here(wanted);
    if (node == kNoNode) return;
    std::set<std::tuple<NodeIndex, bool, NodeIndex>> should;
    for (const auto& reference : wanted_.references(wanted)) {
      const NodeIndex type = here(reference.type()), target = here(reference.target());
      if (type != kNoNode && target != kNoNode) should.emplace(type, reference.isForward(), target);
    }
    const auto now = running_.references(node);
    std::set<std::tuple<NodeIndex, bool, NodeIndex>> is;
    for (const auto& reference : now) is.emplace(reference.type(), reference.isForward(), reference.target());
    for (const auto& [type, isForward, target] : is)
      if (!should.contains({type, isForward, target}) && running_.nodeId(target).namespaceIndex() != 1) {
        isForward ? running_.unrefer(node, type, target) : running_.unrefer(target, type, node);
        changed_.insert(node);
      }
    for (const auto& [type, isForward, target] : should)
      if (!is.contains({type, isForward, target})) {
        isForward ? running_.refer(node, type, target) : running_.refer(target, type, node);
        changed_.insert(node);
      }
  }

  Space& running_;
  const Space& wanted_;
  std::vector<std::uint16_t> indexes_;  // in the running space, by those in the other
  std::set<std::string> ids_;           // of what is wanted
  std::set<NodeIndex> added_, changed_;
  Applied applied_;
};

}  // namespace

Applied apply(Space& running, const Space& wanted) { return Application(running, wanted).run(); }

}  // namespace zunth::model
