#pragma once

#include "core/space/space.hpp"
#include "core/ua/generated/structures.hpp"

#include <map>
#include <set>
#include <span>
#include <string>

namespace zunth::device {

struct DevicePoint;
struct DeviceState;

/// How the devices are doing, as nodes: an object each below Objects/Devices, in the server's own namespace, so that
/// clients and alarms see a device that has gone as they see everything else.
class DeviceNodes {
 public:
  explicit DeviceNodes(space::Space& space) : space_(space) {}
  /// These devices and no others; what changed of the model by it.
  std::vector<ua::ModelChangeStructureDataType> keep(const std::vector<DeviceState>& devices);
  void show(const DeviceState& device);
  /// The points that a device has discovered, from `first` on, as a tree below its object: "analog/3" is
  /// Devices/NAME/Points/analog/3. These and no others; the variable of each, kNoNode where there can't be one.
  std::vector<space::NodeIndex> keepPoints(const std::string& device, std::span<const DevicePoint> points,
                                           std::vector<ua::ModelChangeStructureDataType>& changes);
  /// More of them.
  std::vector<space::NodeIndex> addPoints(const std::string& device, std::span<const DevicePoint> points,
                                          std::vector<ua::ModelChangeStructureDataType>& changes);
  /// The object of a device; kNoNode when a client has deleted it.
  space::NodeIndex nodeOf(const std::string& device) const;

 private:
  space::NodeIndex at(const std::string& id) const;
  void remove(const std::string& id);
  space::NodeIndex folder();
  space::NodeIndex add(space::NodeIndex parent, std::string id, const char* name, space::NewNode made,
                       ua::StandardId type);
  void addDevice(const DeviceState& device);
  space::NodeIndex addPoint(const std::string& device, const DevicePoint& point);

  space::Space& space_;
  std::set<std::string> shown_;  // names; their nodes are found by id each time, as clients may delete them
  std::map<std::string, std::set<std::string>> pointNodes_;  // of each device, folders, too: by id, so parents first
};

}  // namespace zunth::device
