#pragma once

#include "service/device/composition.hpp"
#include "service/device/computed.hpp"
#include "service/device/device_file.hpp"

/// Which node is which point (docs/devices.md).
namespace zunth::device {

struct VariableBinding {
  space::NodeIndex variable;
  std::size_t device;  // index into the list that was bound
  PointIndex point;
  std::optional<Part> part{};  // of the variable, which the point brings; else the whole
};
struct MethodBinding {
  space::NodeIndex method;
  std::size_t device;
  std::string action;
};
struct Bindings {
  std::vector<VariableBinding> variables;
  std::vector<MethodBinding> methods;
  std::vector<ComputedBinding> computed;
};

/// Reads a file of the folder bindings/ against the space and the devices: "PATH: DEVICE/POINT" or
/// "PATH(): DEVICE/ACTION" or "PATH: = EXPRESSION", where {NAME} in a path stands for any one name and is filled in on
/// the right. "PATH[2]" and "PATH.grams" are parts of a variable's value.
void readBindings(const std::string& file, const std::string& text, const space::Space& space,
                  const std::vector<DeviceFile>& devices, Bindings& bindings, model::Findings& findings);

/// The same from entries, as the column `point` of a table gives them.
void readBindings(const std::vector<model::Entry>& lines, const space::Space& space,
                  const std::vector<DeviceFile>& devices, Bindings& bindings, model::Findings& findings);

/// A device's value as the variable shows it: converted to its data type; BadOutOfRange or BadTypeMismatch as status
/// when that can't be.
ua::DataValue shownAs(const space::Space& space, space::NodeIndex variable, ua::DataValue fromDevice);

}  // namespace zunth::device
