#include "core/aggregate/function.hpp"
#include "core/history/variables.hpp"
#include "core/space/instances.hpp"
#include "service/server/server_object.hpp"

namespace zunth::server {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

/// What is served of history, by the names of HistoryServerCapabilities (Part 11, 5.4.2).
constexpr std::string_view kServed[] = {
    "AccessHistoryDataCapability", "AccessHistoryEventsCapability", "InsertDataCapability",
    "ReplaceDataCapability",       "UpdateDataCapability",          "DeleteRawCapability",
    "DeleteAtTimeCapability",      "ServerTimestampSupported",      "InsertEventCapability",
    "ReplaceEventCapability",      "UpdateEventCapability",         "DeleteEventCapability",
    "InsertAnnotationCapability"};
constexpr std::uint32_t kMostReturned = 50'000, kMostEventsReturned = 5'000;

/// The object that says how a kind of variables is kept; many variables share it (Part 11, 5.2.2).
NodeIndex configurationOf(space::Space& space, bool isStepped, DateTime time, const std::function<DateTime()>& begin) {
  const NodeId nodeId(1, String(isStepped ? "history/stepped" : "history/sloped"));
  if (const NodeIndex there = space.find(nodeId); there != kNoNode) return there;
  const NodeIndex type = space.at(id::HistoricalDataConfigurationType);
  space::NewNode made;
  made.nodeId = nodeId;
  made.browseName = {0, String("HA Configuration")};
  const auto added = space.add(std::move(made));
  if (!added) return kNoNode;
  space.refer(*added, id::HasTypeDefinition, type);
  space::instantiate(space, *added, type, [&](NodeIndex parent, space::NewNode copy) {
    copy.nodeId =
        NodeId(1, String(std::string(space.nodeId(parent).octets().view()) + "/" + copy.browseName.name.str()));
    const auto child = space.add(std::move(copy));
    return child ? *child : kNoNode;
  });
  const auto set = [&](NodeIndex of, const char* name, Variant value) {
    if (const NodeIndex node = space.child(of, {0, String(name)}); node != kNoNode)
      space.setValue(node, DataValue(std::move(value), time));
  };
  for (const char* name : {"StartOfArchive", "StartOfOnlineArchive"}) {
    const NodeIndex declared = space.child(type, {0, String(name)});
    if (declared == kNoNode) continue;
    space::copyDeclaration(space, *added, declared, [&](NodeIndex parent, space::NewNode copy) {
      copy.nodeId = NodeId(1, String(std::string(space.nodeId(parent).octets().view()) + "/" + name));
      const auto child = space.add(std::move(copy));
      if (child) space.setSource(*child, [begin] { return DataValue(Variant(begin())); });
      return child ? *child : kNoNode;
    });
  }
  const aggregate::Configuration usual;
  set(*added, "Stepped", isStepped);
  if (const NodeIndex how = space.child(*added, {0, String("AggregateConfiguration")}); how != kNoNode) {
    set(how, "TreatUncertainAsBad", usual.treatUncertainAsBad);
    set(how, "PercentDataBad", usual.percentDataBad);
    set(how, "PercentDataGood", usual.percentDataGood);
    set(how, "UseSlopedExtrapolation", usual.useSlopedExtrapolation);
  }
  return *added;
}

}  // namespace

void ServerObject::fillHistory(std::function<DateTime()> beginsAt) {
  historyBegins_ = std::move(beginsAt);
  const auto capabilities = space_.at(id::HistoryServerCapabilities);
  const auto set = [&](std::string_view name, Variant value) {
    if (const NodeIndex node = space_.child(capabilities, {0, String(name)}); node != kNoNode)
      space_.setValue(node, DataValue(std::move(value), core_.startTime));
  };
  for (const auto name : kServed) set(name, true);
  set("MaxReturnDataValues", kMostReturned);
  set("MaxReturnEventValues", kMostEventsReturned);
  const auto all = space_.at(id::Server);
  space_.setEventNotifier(all, static_cast<std::uint8_t>(space_.eventNotifier(all) | EventNotifierType::HistoryRead |
                                                         EventNotifierType::HistoryWrite));
  if (const auto most = space_.at(id::Server_ServerCapabilities_MaxHistoryContinuationPoints); most != kNoNode)
    space_.setValue(most,
                    DataValue(Variant(static_cast<std::uint16_t>(settings_.limits.maxContinuationPointsPerSession)),
                              core_.startTime));
  const NodeIndex folders[] = {space_.child(capabilities, {0, String("AggregateFunctions")}),
                               space_.at(id::Server_ServerCapabilities_AggregateFunctions)};
  for (const auto& function : aggregate::functions()) {
    NodeIndex node = space_.at(function.id);
    if (node == kNoNode) {
      space::NewNode made;
      made.nodeId = NodeId(function.id);
      made.browseName = {0, String(function.name)};
      const auto added = space_.add(std::move(made));
      if (!added) continue;
      node = *added;
      space_.refer(node, id::HasTypeDefinition, space_.at(id::AggregateFunctionType));
    }
    for (const auto folder : folders)
      if (folder != kNoNode) space_.refer(folder, id::Organizes, node);
  }
  showHistories();
}

void ServerObject::showHistories() {
  if (!historyBegins_) return;
  const NodeIndex hasConfiguration = space_.at(id::HasHistoricalConfiguration);
  const auto before = std::exchange(annotated_, {});
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!history::isHistorized(space_, node)) continue;
    const bool isStepped = history::isStepped(space_, node);
    const NodeIndex wanted = configurationOf(space_, isStepped, core_.startTime, historyBegins_);
    const NodeIndex other = space_.find(NodeId(1, String(isStepped ? "history/sloped" : "history/stepped")));
    if (other != kNoNode) space_.unrefer(node, hasConfiguration, other);
    if (wanted != kNoNode) space_.refer(node, hasConfiguration, wanted);
    showAnnotations(node);
  }
  for (const auto& id : before)
    if (const NodeIndex old = annotated_.contains(id) ? kNoNode : space_.find(NodeId(1, String(id))); old != kNoNode)
      space_.remove(old);
}

/// The property through which remarks about a variable's moments are made and read, by who may read and change its
/// history (Part 11, 5.2.5). Named after the variable, as what is kept under its name outlasts the space.
void ServerObject::showAnnotations(NodeIndex variable) {
  std::string id = history::annotationsOf(history::storedName(space_, space_.nodeId(variable)));
  NodeIndex node = space_.find(NodeId(1, String(id)));
  if (node == kNoNode) {
    space::NewNode made;
    made.nodeId = NodeId(1, String(id));
    made.nodeClass = NodeClass::Variable;
    made.browseName = {0, String("Annotations")};
    made.traits.dataType = space_.at(ua::id::Annotation);
    made.traits.accessLevel = AccessLevelType::HistoryRead | AccessLevelType::HistoryWrite;
    const auto added = space_.add(std::move(made));
    if (!added) return;
    node = *added;
    space_.refer(node, ua::id::HasTypeDefinition, space_.at(ua::id::PropertyType));
    space_.refer(variable, ua::id::HasProperty, node);
  }
  space_.setPermissions(node, space_.permissionSets()[space_.permissionSet(variable)]);
  annotated_.insert(std::move(id));
}

}  // namespace zunth::server
