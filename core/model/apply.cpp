#include "core/model/apply.hpp"

#include "core/model/node_attributes.hpp"
#include "core/space/conditions.hpp"

#include <algorithm>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Reference;
using space::Space;

namespace {

bool hasValue(const Space& space, NodeIndex node) {
  const auto nodeClass = space.nodeClass(node);
  return nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType;
}

class Application {
 public:
  Application(Space& running, const Space& wanted, const IsOwned& isOwned)
      : running_(withNamespaces(running, wanted)), wanted_(wanted), isOwned_(isOwned), twins_(wanted, running) {}

  Applied run() {
    removeOthers();
    states_.resize(running_.rows());
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node) && twins_(node) == kNoNode) add(node);
    states_.resize(running_.rows());
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node) && twins_(node) != kNoNode) change(node);
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (isOfModel(wanted_, node) && twins_(node) != kNoNode) refer(node);
    // The children of the standard's own folders, too, have the model's order.
    for (NodeIndex node = 0; node < wanted_.rows(); ++node)
      if (wanted_.exists(node) && twins_(node) != kNoNode) running_.arrange(twins_(node), wantedReferences(node));
    for (std::uint16_t i = 2; i < wanted_.namespaces().size(); ++i) {
      const auto ns = twins_.renumbered()(i);
      running_.setModelInfo(ns, wanted_.modelInfo(i));
      running_.setNamespacePermissions(ns, twins_.renumbered(wanted_.namespacePermissions(i)));
    }
    tellAll();
    return std::move(applied_);
  }

 private:
  enum State : std::uint8_t { Same = 0, Added = 1, Changed = 2 };

  static Space& withNamespaces(Space& running, const Space& wanted) {
    for (const auto& uri : wanted.namespaces())
      if (&uri - wanted.namespaces().data() >= 2) running.addNamespace(uri);
    return running;
  }

  void tell(NodeIndex node, std::uint8_t verb) {
    const auto type = running_.typeDefinition(node);
    applied_.changes.push_back({running_.nodeId(node), type == kNoNode ? NodeId() : running_.nodeId(type), verb});
  }
  void tellAll() {
    for (NodeIndex node = 0; node < states_.size(); ++node) {
      if (states_[node] & Added) {
        ++applied_.added;
        note(Change::Kind::Added, Change::Effect::Seen, node, wordFor(running_.nodeClass(node)));
        tell(node, ModelChangeStructureVerbMask::NodeAdded);
      } else if (states_[node] & Changed) {
        ++applied_.changed;
        tell(node, ModelChangeStructureVerbMask::ReferenceAdded);
      }
    }
  }
  void note(Change::Kind kind, Change::Effect effect, NodeIndex node, std::string what, std::string before = {},
            std::string after = {}) {
    if (applied_.lines.size() < Applied::kMostLines)
      applied_.lines.push_back(
          {kind, effect, pathOf(running_, node), std::move(what), std::move(before), std::move(after)});
  }

  /// A node stays whatever becomes of it, but for its class: that no change of attributes gives it.
  void removeOthers() {
    std::vector<bool> stays(running_.rows());
    for (NodeIndex node = 0; node < wanted_.rows(); ++node) {
      const NodeIndex old = isOfModel(wanted_, node) ? twins_(node) : kNoNode;
      if (old == kNoNode) continue;
      if (wanted_.nodeClass(node) == running_.nodeClass(old))
        stays[old] = true;
      else
        twins_.set(node, kNoNode);
    }
    std::vector<NodeIndex> gone;
    for (NodeIndex node = 0; node < running_.rows(); ++node)
      if (isOfModel(running_, node) && !stays[node]) gone.push_back(node);
    applied_.removed = gone.size();
    for (const NodeIndex node : gone) {
      tell(node, ModelChangeStructureVerbMask::NodeDeleted);
      note(Change::Kind::Removed, Change::Effect::Breaks, node, wordFor(running_.nodeClass(node)));
    }
    // What stands below another goes first: alarms say goodbye by way of those above them.
    for (auto node = gone.rbegin(); node != gone.rend(); ++node) running_.remove(*node);
  }

  void add(NodeIndex wanted) {
    space::NewNode node;
    node.nodeId = twins_.renumbered()(wanted_.nodeId(wanted));
    node.nodeClass = wanted_.nodeClass(wanted);
    node.browseName = twins_.renumbered()(wanted_.browseName(wanted));
    const bool isVariable = hasValue(wanted_, wanted);
    if (isVariable) node.value = twins_.renumbered()(wanted_.value(wanted).value);
    auto added = running_.add(std::move(node));
    if (!added) return;
    if (isVariable) running_.setValue(*added, twins_.renumbered()(wanted_.value(wanted)));
    twins_.set(wanted, *added);
    if (*added >= states_.size()) states_.resize(running_.rows());
    states_[*added] |= Added;
  }

  void change(NodeIndex wanted) {
    const NodeIndex node = twins_(wanted);
    static const space::RareAttributes nothing;
    const auto *is = running_.rare(node), *should = wanted_.rare(wanted);
    const auto nodeClass = wanted_.nodeClass(wanted);
    const bool isNew = states_[node] & Added;
    for (const auto* each : attributesOf(nodeClass)) {
      const auto& attribute = *each;
      if (!attribute.take) continue;
      const Pair pair{running_,
                      node,
                      wanted_,
                      wanted,
                      twins_,
                      is ? *is : nothing,
                      should ? *should : nothing,
                      isOwned_ && isOwned_(node)};
      if (attribute.isSame(pair)) continue;
      const auto effect = attribute.effect(pair);
      std::string before = isNew ? "" : attribute.text(running_, node);
      attribute.take(pair, running_);
      is = running_.rare(node);
      states_[node] |= Changed;
      if (!isNew && std::string_view(attribute.name) == "value") applied_.properties.push_back(node);
      if (!isNew)
        note(Change::Kind::Changed, effect, node, attribute.name, std::move(before), attribute.text(running_, node));
    }
    if (should || is) running_.rareOf(node).nodeSetExtras = should ? should->nodeSetExtras : String();
    // A value of another type is none any more.
    if (hasValue(wanted_, wanted))
      if (const auto held = running_.value(node).value;
          !held.isNull() && !running_.accepts(running_.traits(node), held))
        running_.setValue(node, twins_.renumbered()(wanted_.value(wanted)));
  }

  std::vector<Reference> wantedReferences(NodeIndex wanted) const {
    std::vector<Reference> out;
    for (const auto& reference : wanted_.references(wanted)) {
      const NodeIndex type = twins_(reference.type()), target = twins_(reference.target());
      if (type != kNoNode && target != kNoNode) out.emplace_back(type, reference.isForward(), target);
    }
    return out;
  }

  /// References to what is of neither model, as a session's nodes are, stay.
  void refer(NodeIndex wanted) {
    const NodeIndex node = twins_(wanted);
    const auto less = [](const Reference& a, const Reference& b) {
      return std::tuple(a.type(), a.isForward(), a.target()) < std::tuple(b.type(), b.isForward(), b.target());
    };
    const std::vector<Reference> should = wantedReferences(wanted);
    const auto now = running_.references(node);
    const std::vector<Reference> is(now.begin(), now.end());
    if (is == should) return;
    std::vector<Reference> sortedShould = should, sortedIs = is;
    std::ranges::sort(sortedShould, less);
    std::ranges::sort(sortedIs, less);
    const auto touch = [&](const Reference& reference, bool isThere) {
      const NodeIndex source = reference.isForward() ? node : reference.target();
      const NodeIndex target = reference.isForward() ? reference.target() : node;
      const NodeIndex type = reference.type();
      isThere ? running_.refer(source, type, target) : void(running_.unrefer(source, type, target));
      if ((states_[node] | states_[reference.target()]) & Added) {
        states_[node] |= Changed;
        return;  // told with the node
      }
      states_[node] |= Changed;
      const std::string path = pathOf(running_, target);
      note(Change::Kind::Changed, isThere ? Change::Effect::Seen : Change::Effect::Breaks, source,
           std::string(running_.name(type)), isThere ? "" : path, isThere ? path : "");
    };
    for (const auto& reference : is)
      if (!std::ranges::binary_search(sortedShould, reference, less) &&
          running_.nodeId(reference.target()).namespaceIndex() != 1)
        touch(reference, false);
    for (const auto& reference : should)
      if (!std::ranges::binary_search(sortedIs, reference, less)) touch(reference, true);
  }

  Space& running_;
  const Space& wanted_;
  const IsOwned& isOwned_;
  Twins twins_;                       // from what is wanted to what runs
  std::vector<std::uint8_t> states_;  // bits of State, by running node
  Applied applied_;
};

}  // namespace

Applied apply(Space& running, const Space& wanted, const IsOwned& isOwned) {
  return Application(running, wanted, isOwned).run();
}

std::vector<String> emptied(const Space& running, const Space& wanted) {
  const auto counts = [](const Space& space) {
    std::vector<std::size_t> out(space.namespaces().size());
    for (NodeIndex node = 0; node < space.rows(); ++node)
      if (isOfModel(space, node)) ++out[space.nodeId(node).namespaceIndex()];
    return out;
  };
  const auto before = counts(running), after = counts(wanted);
  std::vector<String> out;
  for (std::size_t i = 2; i < before.size(); ++i) {
    if (before[i] == 0) continue;
    const auto there = wanted.namespaceIndex(running.namespaces()[i].view());
    if (!there || after[*there] == 0) out.push_back(running.namespaces()[i]);
  }
  return out;
}

}  // namespace zunth::model
