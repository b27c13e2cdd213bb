#pragma once

#include "service/device/device_file.hpp"

/// Looking a device through before anything is bound to it.
namespace zunth::device {

/// Something that a device shows, as a point of its file would say it.
struct FoundPoint {
  std::string name, words;
  ua::DataValue value;  // now
};
struct ScanWish {
  ua::Duration patience = std::chrono::seconds(5);   // of devices that speak by themselves
  int first = 0, last = 199;                         // of registers and bits
  std::function<void(const std::string&)> progress;  // where it is
};
/// Looks a device through; it may take a while. What it is reached by is in the text, as in a device's file without
/// points. BadNoCommunication and the like when it isn't reached; BadNotSupported for kinds that can't be looked
/// through.
ua::Result<std::vector<FoundPoint>> scan(const DriverKind& kind, const DeviceText& text, const ScanWish& wish,
                                         model::Findings& findings);

/// A point, tried before it is bound: its value as a node would show it, and how that comes about.
struct TriedPoint {
  std::string name, words;
  ua::DataValue value;
  Trace trace;
};
/// What a device says that it is, line by line; nothing of one that doesn't, or whose protocol has no words for it. It
/// may take the device's time-out.
Trace nameplateOf(const DeviceFile& file);

/// Connects to a device by itself, beside whoever else does, and reads each of its points once. The error says what
/// failed; a point that doesn't come in time is BadTimeout.
ua::Result<std::vector<TriedPoint>> tryOut(const DeviceFile& file, ua::Duration patience);
/// The same for some of its points, in this order.
ua::Result<std::vector<TriedPoint>> tryOut(const DeviceFile& file, const std::vector<PointIndex>& points,
                                           ua::Duration patience);

}  // namespace zunth::device
