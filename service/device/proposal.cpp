#include "service/device/proposal.hpp"

#include "core/ua/text.hpp"
#include "service/device/device_file.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

namespace {

/// A line of a device's file, whatever the texts are.
std::string yamlLine(const std::string& key, const std::string& value) {
  const auto quoted = [](const std::string& text) {
    std::string out;
    for (const char c : text) out += c == '\'' ? "''" : std::string(1, c);
    return "'" + out + "'";
  };
  const bool isPlain = std::ranges::all_of(
      key, [](char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_'; });
  return fmt::format("{}: {}\n", isPlain && !key.empty() ? key : quoted(key), quoted(value));
}

bool isOneLine(const std::string& text) {
  return std::ranges::none_of(text, [](char c) { return static_cast<unsigned char>(c) < 0x20; });
}

/// What is looked at where nothing is named: whether it answers at all.
std::vector<std::string> firstPoints(std::string_view kind) {
  if (kind == "mqtt") return {"$SYS/broker/version"};
  if (kind == "files") return {"file /proc/loadavg word 1"};
  if (kind == "simulation") return {"sine 0..1 every 10 s"};
  if (kind.starts_with("modbus")) return {"input 0", "holding 0", "discrete 0", "coil 0"};
  return {};
}

Result<const DriverKind*> kindOf(const Sought& sought) {
  if (const auto* kind = driverKind(sought.kind)) return kind;
  std::string names;
  for (const auto& kind : driverKinds()) names += (names.empty() ? "" : ", ") + std::string(kind.name);
  return Error{status::BadSyntaxError, fmt::format("there is no kind of device '{}'", sought.kind), "one of " + names};
}

Result<void> checkLines(const Sought& sought, const std::vector<std::string>& points) {
  bool areLines = std::ranges::all_of(points, isOneLine);
  for (const auto& [key, value] : sought.settings) areLines = areLines && isOneLine(key) && isOneLine(value);
  if (areLines) return {};
  return Error{status::BadSyntaxError, "what is said of a device is one line each", {}};
}

/// What people measure: among it is most likely the right way.
bool isUsual(const TriedPoint& point) {
  double number = 0;
  const bool isNumber = point.value.status.isGood() && point.value.value.toDouble(number);
  return isNumber && (number == 0 || (std::abs(number) >= 1e-3 && std::abs(number) < 1e6));
}

}  // namespace

std::string settingsText(const Sought& sought) {
  std::string out = fmt::format("driver: {}\n", sought.kind);
  for (const auto& [key, value] : sought.settings) out += yamlLine(key, value);
  return out;
}

Result<Attempt> tryOut(const Sought& sought, const std::vector<std::string>& asked, const std::filesystem::path& site,
                       Duration patience, model::Findings& findings) {
  const auto kind = kindOf(sought);
  if (!kind) return kind.error();
  if (auto fine = checkLines(sought, asked); !fine) return fine.error();
  std::vector<std::string> points = asked.empty() ? firstPoints((*kind)->name) : asked;
  Attempt out;
  if (points.size() == 1 && (*kind)->waysToRead)
    if (auto ways = (*kind)->waysToRead(points[0]); !ways.empty()) {
      points = std::move(ways);
      out.areWays = true;
    }
  std::string text = settingsText(sought) + "points:\n";
  for (std::size_t i = 0; i < points.size(); ++i) text += "  " + yamlLine(fmt::format("p{}", i + 1), points[i]);
  const auto file = readDeviceFile("tried", "what was said", text, findings, site);
  if (findings.hasErrors())
    return Error{status::BadSyntaxError, findings.list().front().message, findings.list().front().hint};
  auto tried = tryOut(file, patience);
  if (!tried) return tried.error();
  out.address = file.address;
  out.nameplate = nameplateOf(file);
  out.points = std::move(*tried);
  if (out.areWays) {
    for (auto& point : out.points) point.name = point.words.substr(asked[0].size() + 1);
    std::ranges::stable_partition(out.points, isUsual);
  }
  return out;
}

Result<std::vector<FoundPoint>> scan(const Sought& sought, const std::filesystem::path& site, const ScanWish& wish,
                                     model::Findings& findings) {
  const auto kind = kindOf(sought);
  if (!kind) return kind.error();
  if (auto fine = checkLines(sought, {}); !fine) return fine.error();
  const auto root = model::readYaml("what was said", settingsText(sought), findings);
  std::vector<std::string> keys{"driver"};
  keys.insert(keys.end(), (*kind)->keys.begin(), (*kind)->keys.end());
  checkKeys(root, keys, findings);
  const auto mistake = [&]() -> std::optional<Error> {
    if (!findings.hasErrors()) return std::nullopt;
    return Error{status::BadSyntaxError, findings.list().front().message, findings.list().front().hint};
  };
  if (auto wrong = mistake()) return *wrong;
  auto found = scan(**kind, {root, {}, "scanned", site}, wish, findings);
  if (auto wrong = mistake()) return *wrong;
  return found;
}

bool isDeviceName(const std::string& name) {
  return !name.empty() && name.size() <= 64 && std::ranges::all_of(name, [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_';
  });
}

std::vector<ProposedFile> propose(const Sought& sought, const std::vector<Discovered>& kept, const std::string& name,
                                  const std::string& siteUri) {
  std::string points, variables;
  for (const auto& each : kept) {
    points += "  " + yamlLine(each.name, each.words);
    // What comes as text may have digits behind the point the next time.
    const bool isOpen = sought.kind == "mqtt" && isNumeric(each.type);
    variables += fmt::format("    {}: {}\n", each.name, ua::nameOf(isOpen ? BuiltInType::Double : each.type));
  }
  return {{"devices/" + name + ".yaml", "# Found by looking it through: give the points their names.\n" +
                                            settingsText(sought) + "points:\n" + points},
          {"model/" + name + ".yaml", fmt::format("namespace: {}:{}\nobjects:\n  {}:\n{}",
                                                  siteUri.empty() ? "urn" : siteUri, name, name, variables)},
          {"bindings/" + name + ".yaml", fmt::format("bindings:\n  {0}/{{point}}: {0}/{{point}}\n", name)}};
}

}  // namespace zunth::device
