#pragma once

#include "core/space/space.hpp"
#include "core/ua/generated/structures.hpp"

#include <set>
#include <string>

namespace zunth::device {

struct DeviceState;

/// How the devices are doing, as nodes: an object each below Objects/Devices, in the server's own namespace, so that
/// clients and alarms see a device that has gone as they see everything else.
class DeviceNodes {
 public:
  explicit DeviceNodes(space::Space& space) : space_(space) {}
  /// These devices and no others; what changed of the model by it.
  std::vector<ua::ModelChangeStructureDataType> keep(const std::vector<DeviceState>& devices);
  void show(const DeviceState& device);
  /// The object of a device; kNoNode when a client has deleted it.
  space::NodeIndex nodeOf(const std::string& device) const;

 private:
  space::NodeIndex at(const std::string& id) const;
  void remove(const std::string& id);
  space::NodeIndex folder();
  space::NodeIndex add(space::NodeIndex parent, std::string id, const char* name, space::NewNode made,
                       ua::StandardId type);
  void addDevice(const DeviceState& device);

  space::Space& space_;
  std::set<std::string> shown_;  // names; their nodes are found by id each time, as clients may delete them
};

}  // namespace zunth::device
