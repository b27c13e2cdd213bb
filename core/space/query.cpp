#include "core/space/query.hpp"

#include "core/space/attributes.hpp"
#include "core/space/browse.hpp"
#include "core/space/path_walk.hpp"
#include "core/ua/footprint.hpp"
#include "core/ua/index_range.hpp"

#include <algorithm>

namespace zunth::space {

using namespace ua;

namespace {

Variant valueAt(const Space& space, NodeIndex start, const RelativePath& path, std::uint32_t attribute,
                const String& indexRange, const Rights& rights) {
  const auto found = follow(space, start, path, rights);
  if (found.empty()) return {};
  DataValue value = readAttribute(space, found.front(), static_cast<AttributeId>(attribute), rights);
  if (value.status.isBad()) return {};
  if (indexRange.empty()) return value.value;
  auto range = IndexRange::parse(indexRange.view());
  auto part = range ? range->of(value.value) : Result<Variant>(range.error());
  return part ? *part : Variant();
}

/// A node that a query's filter is asked about.
class NodeSubject final : public FilterSubject {
 public:
  NodeSubject(const Space& space, NodeIndex node, const Rights& rights)
      : space_(space), node_(node), type_(space.typeDefinition(node)), rights_(rights) {}
  Variant value(const SimpleAttributeOperand&) const override { return {}; }
  Variant value(const AttributeOperand& operand) const override {
    // The operand starts at a type, and speaks of its instances; or at an instance, and speaks of that.
    const NodeIndex start = space_.find(operand.nodeId);
    const auto startClass = space_.nodeClass(start);
    if (startClass != NodeClass::ObjectType && startClass != NodeClass::VariableType)
      return valueAt(space_, start, operand.browsePath, operand.attributeId, operand.indexRange, rights_);
    if (type_ == kNoNode || !space_.isSubtype(type_, start)) return {};
    return valueAt(space_, node_, operand.browsePath, operand.attributeId, operand.indexRange, rights_);
  }
  NodeIndex type() const override { return type_; }
  NodeIndex node() const override { return node_; }

 private:
  const Space& space_;
  NodeIndex node_, type_;
  const Rights& rights_;
};

StatusCode checkData(const QueryDataDescription& data) {
  if (data.attributeId < 1 || data.attributeId > static_cast<std::uint32_t>(AttributeId::AccessLevelEx))
    return status::BadAttributeIdInvalid;
  if (auto range = IndexRange::parse(data.indexRange.view()); !range) return range.code();
  for (const auto& element : data.relativePath.elements)
    if (element.targetName.name.empty()) return status::BadBrowseNameInvalid;
  return status::Good;
}

}  // namespace

std::vector<NodeIndex> follow(const Space& space, NodeIndex start, const RelativePath& path, const Rights& rights) {
  constexpr std::size_t kStepsARow = 20'000;  // of what may be asked of each of a million rows
  if (path.elements.empty()) return {start};
  std::vector<NodeIndex> out;
  for (const auto& target : translate(space, {space.nodeId(start), path}, rights, kStepsARow).targets)
    if (const NodeIndex node = space.find(target.targetId.nodeId); node != kNoNode) out.push_back(node);
  return out;
}

Result<Query> Query::from(const Space& space, const QueryFirstRequest& request, List<ParsingResult>& parsing,
                          ContentFilterResult& filterResult) {
  Query out;
  bool anyBad = false;
  for (const auto& asked : request.nodeTypes) {
    ParsingResult result;
    NodeTypes types{space.find(asked.typeDefinitionNode.nodeId), asked.includeSubTypes, asked.dataToReturn};
    const auto typeClass = types.type == kNoNode ? NodeClass::Unspecified : space.nodeClass(types.type);
    if (types.type == kNoNode)
      result.statusCode = status::BadNodeIdUnknown;
    else if (typeClass != NodeClass::ObjectType && typeClass != NodeClass::VariableType)
      result.statusCode = status::BadNotTypeDefinition;
    bool badData = false;
    for (const auto& data : asked.dataToReturn) {
      result.dataStatusCodes.push_back(checkData(data));
      badData |= result.dataStatusCodes.back().isBad();
    }
    anyBad |= result.statusCode.isBad() || badData;
    if (!badData) result.dataStatusCodes.clear();
    if (result.statusCode.isGood()) out.types_.push_back(std::move(types));
    parsing.push_back(std::move(result));
  }
  if (!anyBad) parsing.clear();
  auto filter = ContentFilter::from(space, request.filter, ContentFilter::Purpose::Query, filterResult);
  if (!filter) return filter.error();
  out.filter_ = std::move(*filter);
  if (!request.view.viewId.isNull()) out.view_ = space.find(request.view.viewId);
  return out;
}

void Query::fill(Page& page, const Space& space, NodeIndex from, std::uint32_t most, std::size_t& octets,
                 const Rights& rights, Slice& slice) const {
  page.next.reset();
  for (NodeIndex node = from; node < space.rows(); ++node) {
    if (slice.isOver()) {
      page.next = node;
      return;
    }
    if (!space.exists(node) || !space.sees(rights, node)) continue;
    const NodeIndex type = space.typeDefinition(node);
    if (type == kNoNode) continue;
    const auto wanted = std::ranges::find_if(types_, [&](const NodeTypes& types) {
      return type == types.type || (types.withSubtypes && space.isSubtype(type, types.type));
    });
    if (wanted == types_.end()) continue;
    if (view_ != kNoNode && !isInView(space, node, view_)) continue;
    if (!filter_.passes(space, NodeSubject(space, node, rights))) continue;
    if ((most && page.sets.size() == most) || octets == 0) {
      page.next = node;
      break;
    }
    QueryDataSet set{space.nodeId(node), space.nodeId(type), {}};
    for (const auto& data : wanted->data)
      set.values.push_back(valueAt(space, node, data.relativePath, data.attributeId, data.indexRange, rights));
    octets -= std::min(octets, sizeof set + footprint(set.values));
    page.sets.push_back(std::move(set));
  }
}

}  // namespace zunth::space
