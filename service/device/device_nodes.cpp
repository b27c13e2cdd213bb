#include "service/device/device_nodes.hpp"

#include "core/alarm/own_alarm.hpp"
#include "core/space/permissions.hpp"
#include "service/device/bound_devices.hpp"

#include <algorithm>
#include <ranges>

namespace zunth::device {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr std::uint16_t kOwnNamespace = 1;

/// What is shown of each device, and how it is found in its state.
struct Row {
  const char* name;
  StandardId dataType;
  const char* about;
  Variant (*of)(const DeviceState& device);
};
const std::vector<Row>& rowsOfDevice() {
  static const std::vector<Row> rows{
      {"Connected", id::Boolean, "the device answers",
       [](const DeviceState& d) { return Variant(d.health.isConnected); }},
      {"Since", id::UtcTime, "when that began", [](const DeviceState& d) { return Variant(d.health.since); }},
      {"LastError", id::String, "what went wrong last; empty while it answers",
       [](const DeviceState& d) { return Variant(String(d.health.lastError.cause)); }},
      {"Driver", id::String, "what speaks to it", [](const DeviceState& d) { return Variant(String(d.driver)); }},
      {"Address", id::String, "where it is", [](const DeviceState& d) { return Variant(String(d.address)); }},
      {"RoundTrip", id::Duration, "how long the last poll took, in ms",
       [](const DeviceState& d) { return Variant(d.health.figures.roundTrip); }},
      {"Polls", id::UInt64, "polls that were answered",
       [](const DeviceState& d) { return Variant(d.health.figures.polls); }},
      {"Failures", id::UInt64, "connections that were lost or not made",
       [](const DeviceState& d) { return Variant(d.health.figures.failures); }},
      {"LastContact", id::UtcTime, "when it last brought something",
       [](const DeviceState& d) { return Variant(d.health.lastContact); }},
      {"PointsGood", id::UInt32, "points whose last value is to be trusted",
       [](const DeviceState& d) { return Variant(d.health.good); }},
      {"PointsBad", id::UInt32, "points whose last value is not",
       [](const DeviceState& d) { return Variant(d.health.bad); }},
      {"Writes", id::UInt64, "values that were written to it",
       [](const DeviceState& d) { return Variant(d.health.writes); }},
  };
  return rows;
}

constexpr std::uint8_t kAdded = 1, kDeleted = 2, kReferenceAdded = 4;  // of a change: Part 5, 12.17

std::string idOf(const std::string& device) { return "devices/" + device; }

}  // namespace

NodeIndex DeviceNodes::add(NodeIndex parent, std::string id, const char* name, space::NewNode made, StandardId type) {
  made.nodeId = NodeId(kOwnNamespace, String(id));
  if (const NodeIndex there = space_.find(made.nodeId); there != kNoNode) return there;
  made.browseName = {kOwnNamespace, String(name)};
  const auto added = space_.add(std::move(made));
  if (!added) return kNoNode;
  space_.refer(parent,
               parent == space_.at(ua::id::ObjectsFolder) || type.value == ua::id::BaseObjectType.value
                   ? ua::id::Organizes
                   : ua::id::HasComponent,
               *added);
  space_.refer(*added, ua::id::HasTypeDefinition, space_.at(type));
  space_.setPermissions(*added, space::usualPermissions());
  return *added;
}

NodeIndex DeviceNodes::at(const std::string& id) const { return space_.find(NodeId(kOwnNamespace, String(id))); }

NodeIndex DeviceNodes::nodeOf(const std::string& device) const { return at(idOf(device)); }

void DeviceNodes::remove(const std::string& id) {
  if (const NodeIndex there = at(id); there != kNoNode) space_.remove(there);
}

NodeIndex DeviceNodes::folder() {
  space::NewNode made;
  made.description = LocalizedText("how the devices of this site are doing", "en");
  return add(space_.at(id::ObjectsFolder), "devices", "Devices", std::move(made), id::FolderType);
}

void DeviceNodes::addDevice(const DeviceState& device) {
  const NodeIndex object = add(folder(), idOf(device.name), device.name.c_str(), {}, id::BaseObjectType);
  if (object == kNoNode) return;
  shown_.insert(device.name);
  for (const Row& row : rowsOfDevice()) {
    space::NewNode made;
    made.nodeClass = NodeClass::Variable;
    made.description = LocalizedText(row.about, "en");
    made.traits.dataType = space_.at(row.dataType);
    made.traits.accessLevel = AccessLevelType::CurrentRead;
    add(object, idOf(device.name) + "/" + row.name, row.name, std::move(made), id::BaseDataVariableType);
  }
  alarm::OwnAlarm gone;
  gone.id = idOf(device.name) + "/Gone";
  gone.name = {kOwnNamespace, "Gone"};
  gone.type = id::InstrumentDiagnosticAlarmType;
  gone.severity = 600;
  gone.input = at(idOf(device.name) + "/Connected");
  gone.normal = Variant(true);
  // Devices that are only being started, or come back at once, are no reason to call anybody.
  gone.onDelay = 10'000;
  gone.message = LocalizedText(String("the device '" + device.name + "' doesn't answer"), "en");
  gone.about = LocalizedText("comes when the device has not answered for ten seconds", "en");
  if (gone.input != kNoNode) alarm::addOwnAlarm(space_, object, gone);
}

std::vector<ModelChangeStructureDataType> DeviceNodes::keep(const std::vector<DeviceState>& devices) {
  std::vector<ModelChangeStructureDataType> changes;
  const auto tell = [&](const std::string& device, std::uint8_t verb) {
    changes.push_back({NodeId(kOwnNamespace, String(idOf(device))), NodeId(id::BaseObjectType), verb});
  };
  auto before = std::exchange(shown_, {});
  for (const auto& device : devices) {
    if (before.erase(device.name) == 0) tell(device.name, kAdded);
    addDevice(device);
    show(device);
  }
  for (const auto& name : before) {
    tell(name, kDeleted);
    (void)keepPoints(name, {}, changes);
    alarm::removeOwnAlarm(space_, at(idOf(name) + "/Gone"));
    for (const Row& row : rowsOfDevice()) remove(idOf(name) + "/" + row.name);
    remove(idOf(name));
  }
  if (devices.empty()) remove("devices");
  return changes;
}

/// Folders and variables on the way to it, as far as they aren't there. kNoNode where a folder has its name, or it lies
/// too deep.
NodeIndex DeviceNodes::addPoint(const std::string& device, const DevicePoint& point) {
  constexpr std::ptrdiff_t kDeepest = 16;
  const std::string& path = point.name();
  if (std::ranges::count(path, '/') >= kDeepest) return kNoNode;
  const std::string root = idOf(device) + "/Points/";
  auto& nodes = pointNodes_[device];
  NodeIndex parent = at(idOf(device) + "/Points");
  for (std::size_t begin = 0; parent != kNoNode;) {
    const auto slash = path.find('/', begin);
    const std::string id = root + path.substr(0, slash), name = path.substr(begin, slash - begin);
    space::NewNode made;
    if (slash == std::string::npos) {
      const BuiltInType type = point.type();
      made.nodeClass = NodeClass::Variable;
      made.description = LocalizedText(String(point.raw.where), {});
      made.traits.dataType = space_.find(NodeId(static_cast<std::uint32_t>(type)));
      made.traits.valueRank = type == BuiltInType::Variant ? -2 : -1;
      made.traits.accessLevel = AccessLevelType::CurrentRead;
      if (point.isWritable()) made.traits.accessLevel |= AccessLevelType::CurrentWrite;
    }
    const bool isVariable = made.nodeClass == NodeClass::Variable;
    const NodeIndex node =
        add(parent, id, name.c_str(), std::move(made), isVariable ? ua::id::BaseDataVariableType : ua::id::FolderType);
    if (node != kNoNode) nodes.insert(id);
    if (slash == std::string::npos)
      return node != kNoNode && space_.nodeClass(node) == NodeClass::Variable ? node : kNoNode;
    parent = node;
    begin = slash + 1;
  }
  return kNoNode;
}

std::vector<NodeIndex> DeviceNodes::addPoints(const std::string& device, std::span<const DevicePoint> points,
                                              std::vector<ModelChangeStructureDataType>& changes) {
  std::vector<NodeIndex> out(points.size(), kNoNode);
  const NodeIndex object = nodeOf(device);
  if (object == kNoNode || points.empty()) return out;
  const std::string id = idOf(device) + "/Points";
  const bool isNew = at(id) == kNoNode;
  space::NewNode made;
  made.description = LocalizedText("what the device shows and its file doesn't name", "en");
  add(object, id, "Points", std::move(made), ua::id::FolderType);
  pointNodes_[device].insert(id);
  changes.push_back({NodeId(kOwnNamespace, String(id)), NodeId(ua::id::FolderType), isNew ? kAdded : kReferenceAdded});
  std::ranges::transform(points, out.begin(), [&](const DevicePoint& point) { return addPoint(device, point); });
  return out;
}

std::vector<NodeIndex> DeviceNodes::keepPoints(const std::string& device, std::span<const DevicePoint> points,
                                               std::vector<ModelChangeStructureDataType>& changes) {
  // Of those before, none that isn't made anew stays.
  const auto before = std::exchange(pointNodes_[device], {});
  std::vector<ModelChangeStructureDataType> added;
  auto out = addPoints(device, points, added);
  const auto& now = pointNodes_[device];
  const auto isGone = [&](const std::string& id) { return !now.contains(id); };
  const bool isSame = before == now;
  for (const auto& id : std::views::reverse(before) | std::views::filter(isGone)) remove(id);
  if (!isSame) changes.insert(changes.end(), added.begin(), added.end());
  if (now.empty() && !before.empty())
    changes.push_back({NodeId(kOwnNamespace, String(idOf(device) + "/Points")), NodeId(ua::id::FolderType), kDeleted});
  if (now.empty()) pointNodes_.erase(device);
  return out;
}

void DeviceNodes::show(const DeviceState& device) {
  if (!shown_.contains(device.name)) return;
  const DateTime now = wallClock();
  for (const Row& row : rowsOfDevice()) {
    const NodeIndex node = at(idOf(device.name) + "/" + row.name);
    if (node == kNoNode) continue;
    Variant value = row.of(device);
    const DataValue last = space_.value(node);
    if (last.status.isGood() && last.value == value) continue;
    space_.setValue(node, DataValue(std::move(value), now));
  }
}

}  // namespace zunth::device
