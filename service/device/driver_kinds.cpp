#include "service/device/driver_kinds.hpp"

#include "core/ua/text.hpp"
#include "service/device/modbus_station.hpp"
#include "service/device/polled.hpp"

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;

namespace {

DriverSetup readModbusTcp(const Entry& root, const std::vector<DriverKind::PointText>& texts, Findings& findings) {
  modbus::Settings settings;
  if (const Text* host = root.textOf("host")) settings.host = host->text;
  settings.port = static_cast<std::uint16_t>(numberOf(root, "port", settings.port, 1, 65535, findings));
  settings.unit = static_cast<std::uint8_t>(numberOf(root, "unit", settings.unit, 0, 255, findings));
  settings.gap = static_cast<std::uint16_t>(numberOf(root, "gap", settings.gap, 0, 100, findings));
  settings.timeout = durationOf(root, "timeout", settings.timeout, findings);
  DriverSetup setup;
  setup.line = fmt::format("{}:{}", settings.host, settings.port);
  setup.address = fmt::format("{} unit {}", setup.line, settings.unit);
  std::vector<modbus::ModbusPoint> points;
  for (const auto& [name, words] : texts) {
    Conversion conversion;
    auto point = modbus::parsePoint(name, words, conversion, findings);
    if (!point) continue;
    setup.points.push_back({point->point, std::move(conversion)});
    points.push_back(std::move(*point));
  }
  setup.make = [settings, points = std::move(points)](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<modbus::ModbusStation>(settings, points));
  };
  return setup;
}

}  // namespace

const std::vector<DriverKind>& driverKinds() {
  static const std::vector<DriverKind> kinds{
      {"modbus-tcp", {"host", "port", "unit", "timeout", "gap"}, readModbusTcp},
  };
  return kinds;
}

double numberOf(const Entry& root, std::string_view key, double otherwise, double low, double high,
                Findings& findings) {
  const Text* text = root.textOf(key);
  if (!text) return otherwise;
  auto value = parse(text->text, BuiltInType::Double);
  double number = 0;
  if (value && (*value).toDouble(number) && number >= low && number <= high) return number;
  findings.error(text->place, fmt::format("'{}' is no number for '{}'", text->text, key),
                 fmt::format("write one from {} to {}", low, high));
  return otherwise;
}

std::optional<double> parseDuration(std::string_view text) {
  const auto end = text.find_first_not_of("0123456789.");
  if (end == std::string_view::npos) return std::nullopt;
  auto value = parse(text.substr(0, end), BuiltInType::Double);
  const std::string_view unit = text.substr(text[end] == ' ' ? end + 1 : end);
  const double factor = unit == "ms" ? 1 : unit == "s" ? 1000 : unit == "min" ? 60'000 : unit == "h" ? 3'600'000 : 0;
  if (!value || factor == 0) return std::nullopt;
  return *value->get<double>() * factor;
}

double durationOf(const Entry& root, std::string_view key, double otherwise, Findings& findings) {
  const Text* text = root.textOf(key);
  if (!text) return otherwise;
  if (auto ms = parseDuration(text->text); ms && *ms >= 1) return *ms;
  findings.error(text->place, fmt::format("'{}' is no time", text->text),
                 "write a number and a unit, as: 250 ms, 2 s, 1 min");
  return otherwise;
}

}  // namespace zunth::device
