#pragma once

#include "service/admin/control.hpp"
#include "service/device/bound_devices.hpp"
#include "service/server/server.hpp"

namespace zunth::admin {

/// What is asked of a site's devices by the control door: how they are, how a value comes about, what goes over a line;
/// and what clients hear of them. On the services' executor; server and devices outlive it.
class DeviceDesk {
 public:
  DeviceDesk(server::Server& server, device::BoundDevices& devices) : server_(server), devices_(devices) {}
  /// Answers its verbs from now on.
  void open(Control& control);
  /// Raises the event of a device that came or went.
  void cameOrWent(space::NodeIndex node, const device::DeviceState& device);
  /// What explain tells beside the way from the device: where else a node is shown.
  using Shows = std::function<device::Trace(const ua::NodeId& node)>;
  void alsoShown(Shows shows) { shows_ = std::move(shows); }

 private:
  void explain(const Json& asked, const Control::Answer& answer);
  device::Trace watchedBy(space::NodeIndex variable) const;
  Json tellDevices() const;
  Json tellWire(const Json& asked) const;

  server::Server& server_;
  device::BoundDevices& devices_;
  Shows shows_;
};

}  // namespace zunth::admin
