#pragma once

#include "service/device/modbus_station.hpp"
#include "service/device/scan.hpp"

namespace zunth::device::modbus {

ua::Result<std::vector<FoundPoint>> scanTcp(const DeviceText& text, const ScanWish& wish, model::Findings& findings);
ua::Result<std::vector<FoundPoint>> scanSerial(const DeviceText& text, const ScanWish& wish, model::Findings& findings);

/// What registers that are there may mean, in their order: text, numbers of two registers that look like ones, and
/// plain numbers; those that hold nothing but zero are left out. By address; pure.
std::vector<FoundPoint> propose(Table table, const std::map<std::uint16_t, std::uint16_t>& registers);
/// All ways of reading a place that names no type: "input 0" as Int16, UInt16, ... in every order. Nothing for one that
/// does.
std::vector<std::string> waysToRead(const std::string& words);

}  // namespace zunth::device::modbus
