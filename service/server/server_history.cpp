#include "core/aggregate/function.hpp"
#include "core/history/variables.hpp"
#include "core/space/instances.hpp"
#include "service/server/server_object.hpp"

#include <fmt/format.h>

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

/// The object that says how a kind of variables is kept; many variables share it (Part 11, 5.2.2).
NodeIndex ServerObject::historyConfiguration(bool isStepped, const aggregate::Configuration& how) {
  std::string name = isStepped ? "history/stepped" : "history/sloped";
  if (!(how == aggregate::Configuration()))
    name += fmt::format("-{}-{}-{}{}", how.treatUncertainAsBad ? "strict" : "lenient", how.percentDataGood,
                        how.percentDataBad, how.useSlopedExtrapolation ? "-extrapolated" : "");
  if (const NodeIndex there = space_.find(NodeId(1, String(name))); there != kNoNode) return there;
  const NodeIndex type = space_.at(id::HistoricalDataConfigurationType);
  space::NewNode made;
  made.nodeId = NodeId(1, String(name));
  made.browseName = {0, String("HA Configuration")};
  const auto added = space_.add(std::move(made));
  if (!added) return kNoNode;
  const auto below = [this](NodeIndex parent, space::NewNode copy) {
    copy.nodeId =
        NodeId(1, String(std::string(space_.nodeId(parent).octets().view()) + "/" + copy.browseName.name.str()));
    const auto child = space_.add(std::move(copy));
    return child ? *child : kNoNode;
  };
  space_.refer(*added, id::HasTypeDefinition, type);
  space::instantiate(space_, *added, type, below);
  for (const char* start : {"StartOfArchive", "StartOfOnlineArchive"}) {
    const NodeIndex declared = space_.child(type, {0, String(start)});
    if (declared == kNoNode) continue;
    space::copyDeclaration(space_, *added, declared, below);
    if (const NodeIndex child = space_.child(*added, {0, String(start)}); child != kNoNode)
      space_.setSource(child, [begin = historyBegins_] { return DataValue(Variant(begin())); });
  }
  const auto set = [&](NodeIndex of, const char* property, Variant value) {
    if (const NodeIndex node = space_.child(of, {0, String(property)}); node != kNoNode)
      space_.setValue(node, DataValue(std::move(value), core_.startTime));
  };
  set(*added, "Stepped", isStepped);
  if (const NodeIndex node = space_.child(*added, {0, String("AggregateConfiguration")}); node != kNoNode) {
    set(node, "TreatUncertainAsBad", how.treatUncertainAsBad);
    set(node, "PercentDataBad", how.percentDataBad);
    set(node, "PercentDataGood", how.percentDataGood);
    set(node, "UseSlopedExtrapolation", how.useSlopedExtrapolation);
  }
  return *added;
}

void ServerObject::showHistories(std::function<aggregate::Configuration(NodeIndex)> usual) {
  usualAggregation_ = std::move(usual);
  showHistories();
}

void ServerObject::showHistories() {
  if (!historyBegins_) return;
  const NodeIndex hasConfiguration = space_.at(id::HasHistoricalConfiguration);
  const auto before = std::exchange(annotated_, {});
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!history::isHistorized(space_, node)) continue;
    const NodeIndex wanted = historyConfiguration(
        history::isStepped(space_, node), usualAggregation_ ? usualAggregation_(node) : aggregate::Configuration());
    NodeIndex other = kNoNode;
    for (const auto& reference : space_.references(node))
      if (reference.isForward() && reference.type() == hasConfiguration && reference.target() != wanted)
        other = reference.target();
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
