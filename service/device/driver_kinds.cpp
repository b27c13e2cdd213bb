#include "service/device/driver_kinds.hpp"

#include "core/ua/text.hpp"
#include "service/device/dnp3_station.hpp"
#include "service/device/file_station.hpp"
#include "service/device/line_station.hpp"
#include "service/device/modbus_scan.hpp"
#include "service/device/mqtt_scan.hpp"
#include "service/device/simulation.hpp"

#include <algorithm>
#include <fstream>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;

const std::vector<DriverKind>& driverKinds() {
  static const std::vector<DriverKind> kinds{
      {"modbus-tcp",
       {"host", "port", "unit", "timeout", "gap"},
       modbus::readTcpDevice,
       modbus::scanTcp,
       modbus::waysToRead},
      {"modbus-rtu",
       {"serial", "unit", "timeout", "gap"},
       modbus::readSerialDevice,
       modbus::scanSerial,
       modbus::waysToRead},
      {"mqtt",
       {"broker", "user", "password", "password-file", "authority", "version", "alive", "quiet", "discover"},
       mqtt::readDevice,
       mqtt::scanBroker},
      {"line",
       {"host", "port", "serial", "ask", "ends", "answer", "questions", "checksum", "timeout"},
       line::readDevice},
      {"dnp3",
       {"host", "port", "serial", "master", "outstation", "timeout", "integrity", "unsolicited", "sets-clock",
        "link-confirm", "keep-alive", "discover"},
       dnp3::readDevice,
       dnp3::scanOutstation},
      {"simulation", {"seed"}, simulation::readDevice},
      {"files", {"timeout"}, files::readDevice},
  };
  return kinds;
}

const DriverKind* driverKind(std::string_view name) {
  const auto found = std::ranges::find(driverKinds(), name, &DriverKind::name);
  return found == driverKinds().end() ? nullptr : &*found;
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

std::string DevicePoint::typeText() const {
  return raw.length > 0 ? fmt::format("{}[{}]", nameOf(type()), raw.length) : std::string(nameOf(type()));
}

std::string secretOf(const DeviceText& text, std::string_view key, model::Findings& findings) {
  const model::Text* name = text.root.textOf(key);
  if (!name) return {};
  const auto refuse = [&](std::string message, std::string hint) {
    findings.error(name->place, std::move(message), std::move(hint));
    return std::string();
  };
  if (name->text.empty() || name->text.front() == '.' || name->text.find('/') != std::string::npos)
    return refuse(fmt::format("'{}' is no file in secrets/", name->text), "write its name alone, as in: broker.txt");
  constexpr std::uintmax_t kMost = 4'096;  // octets
  const auto path = text.folder / "secrets" / name->text;
  std::error_code failed;
  std::string secret;
  // What is no plain file could keep its reader waiting.
  if (std::filesystem::is_regular_file(path, failed) && std::filesystem::file_size(path, failed) <= kMost) {
    std::ifstream file(path);
    std::getline(file, secret);
  }
  if (secret.empty())
    return refuse(fmt::format("secrets/{} holds nothing that can be read", name->text),
                  fmt::format("put it there, for the service alone to read: umask 077; cat > secrets/{}", name->text));
  if (secret.back() == '\r') secret.pop_back();
  return secret;
}

std::optional<double> parseDuration(std::string_view text) {
  const auto end = text.find_first_not_of("0123456789.");
  if (end == std::string_view::npos) return std::nullopt;
  auto value = parse(text.substr(0, end), BuiltInType::Double);
  const std::string_view unit = text.substr(text[end] == ' ' ? end + 1 : end);
  const double factor = unit == "ms"    ? 1
                        : unit == "s"   ? 1000
                        : unit == "min" ? 60'000
                        : unit == "h"   ? 3'600'000
                        : unit == "d"   ? 86'400'000
                                        : 0;
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
