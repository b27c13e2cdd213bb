#pragma once

#include "service/device/mqtt_device.hpp"
#include "service/device/scan.hpp"

namespace zunth::device::mqtt {

/// Listens to a broker for a while.
ua::Result<std::vector<FoundPoint>> scanBroker(const DeviceText& text, const ScanWish& wish, model::Findings& findings);
/// The points in one message: the payload, or each value in its JSON, with the time that it carries.
std::vector<FoundPoint> propose(const std::string& topic, std::string_view payload);

}  // namespace zunth::device::mqtt
