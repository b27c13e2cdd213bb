#include "core/space/browse.hpp"

#include "core/space/node_set.hpp"
#include "core/ua/steps.hpp"

namespace zunth::space {

using namespace ua;

namespace {

ReferenceDescription describe(const Space& space, const Reference& reference, std::uint32_t mask,
                              const Rights& rights) {
  const NodeIndex target = reference.target();
  auto wants = [mask](BrowseResultMask bit) { return (mask & static_cast<std::uint32_t>(bit)) != 0; };
  ReferenceDescription out;
  out.nodeId = space.nodeId(target);
  if (wants(BrowseResultMask::ReferenceTypeId)) out.referenceTypeId = space.nodeId(reference.type());
  if (wants(BrowseResultMask::IsForward)) out.isForward = reference.isForward();
  if (wants(BrowseResultMask::NodeClass)) out.nodeClass = space.nodeClass(target);
  if (wants(BrowseResultMask::BrowseName)) out.browseName = space.browseName(target);
  if (wants(BrowseResultMask::DisplayName)) out.displayName = space.displayName(target, rights.locales());
  if (wants(BrowseResultMask::TypeDefinition))
    if (const NodeIndex type = space.typeDefinition(target); type != kNoNode) out.typeDefinition = space.nodeId(type);
  return out;
}

/// Octets of its encoding, about.
std::size_t sizeOf(const ReferenceDescription& description) {
  constexpr std::size_t kIdsAndMasks = 40;
  return kIdsAndMasks + description.browseName.name.size() + description.displayName.text.size() +
         description.displayName.locale.size();
}

constexpr std::size_t kStepsInView = 20;

bool isReferenceType(const Space& space, NodeIndex node) {
  return node != kNoNode && space.nodeClass(node) == NodeClass::ReferenceType;
}

}  // namespace

BrowsePage browse(const Space& space, const BrowseDescription& what, const BrowseBounds& bounds, std::uint32_t from,
                  NodeIndex view, const Rights& rights) {
  BrowsePage page;
  Steps steps(bounds.steps);
  std::size_t octets = 0;
  const NodeIndex node = space.find(what.nodeId);
  if (node == kNoNode || !space.sees(rights, node)) return {status::BadNodeIdUnknown, {}, {}};
  if (what.browseDirection != BrowseDirection::Forward && what.browseDirection != BrowseDirection::Inverse &&
      what.browseDirection != BrowseDirection::Both)
    return {status::BadBrowseDirectionInvalid, {}, {}};
  const bool anyType = what.referenceTypeId.isNull();
  const NodeIndex wanted = anyType ? kNoNode : space.find(what.referenceTypeId);
  if (!anyType && !isReferenceType(space, wanted)) return {status::BadReferenceTypeIdInvalid, {}, {}};
  if (view != kNoNode && !isInView(space, node, view)) return {status::BadNodeNotInView, {}, {}};

  const auto references = space.references(node);
  for (std::size_t i = from; i < references.size(); ++i) {
    const Reference& reference = references[i];
    // In a view, each target's own way up is looked at.
    if (!steps.take(view == kNoNode ? 1 : kStepsInView)) {
      page.next = static_cast<std::uint32_t>(i);
      break;
    }
    if (what.browseDirection == BrowseDirection::Forward && !reference.isForward()) continue;
    if (what.browseDirection == BrowseDirection::Inverse && reference.isForward()) continue;
    if (!anyType && reference.type() != wanted && !(what.includeSubtypes && space.isSubtype(reference.type(), wanted)))
      continue;
    const auto nodeClass = static_cast<std::uint32_t>(space.nodeClass(reference.target()));
    if (what.nodeClassMask && !(what.nodeClassMask & nodeClass)) continue;
    if (!space.sees(rights, reference.target())) continue;
    // A view leaves out places, not what things are.
    if (view != kNoNode && space.isSubtype(reference.type(), id::HierarchicalReferences) &&
        !isInView(space, reference.target(), view))
      continue;
    if ((bounds.references && page.references.size() == bounds.references) || octets >= bounds.octets) {
      page.next = static_cast<std::uint32_t>(i);
      break;
    }
    page.references.push_back(describe(space, reference, what.resultMask, rights));
    octets += sizeOf(page.references.back());
  }
  return page;
}

bool isInView(const Space& space, NodeIndex node, NodeIndex view) {
  NodeSet reached;
  reached.add(node);
  for (std::size_t i = 0; i < reached.size(); ++i) {
    if (reached[i] == view) return true;
    for (const Reference& reference : space.references(reached[i]))
      if (!reference.isForward() && space.isSubtype(reference.type(), id::HierarchicalReferences))
        reached.add(reference.target());
  }
  return false;
}

}  // namespace zunth::space
