#pragma once

#include "service/admin/site.hpp"
#include "service/device/scan.hpp"

#include <set>

namespace zunth::admin {

/// A point as it is now, and the node that would show it.
struct PreviewLine {
  std::string point;  // "filter-DF1/pressure"
  std::string words;  // as the device's file has them
  std::string node;   // its path, with the part that the point brings; empty where none shows it
  space::NodeIndex variable = space::kNoNode;  // in the site that was looked at
  ua::DataValue brought;                       // by the device, as its file makes it
  ua::DataValue shown;                         // by the variable; as brought where there is none, or a part of one
  device::Trace way;                           // from the octets to what is brought
  std::string why;                             // the device can't be asked
};
struct Preview {
  std::vector<PreviewLine> lines;  // in the order of the file
  std::size_t left = 0;            // that are beyond what is looked at at once
};
inline constexpr std::size_t kMostPreviewed = 200, kMostDevicesPreviewed = 8;

/// What a site's nodes would show if its file "devices/NAME.yaml" or "bindings/NAME.yaml" counted: the devices are
/// asked, beside whoever else asks them, each for as long as `patience`; not those that listen to one only, where
/// `busy` has the line that they are on. BadNotSupported for other files; BadConfigurationError for a site that isn't
/// sound, with the first thing that is wrong.
ua::Result<Preview> preview(const Site& site, const std::string& file, ua::Duration patience,
                            const std::set<std::string>& busy = {});
/// The lines that a running site's devices speak over.
std::set<std::string> linesIn(const Site& site);

}  // namespace zunth::admin
