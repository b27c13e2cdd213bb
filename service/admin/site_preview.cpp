#include "service/admin/site_preview.hpp"

#include <algorithm>
#include <future>

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using device::PointIndex;

namespace {

/// A point that is to be asked for, and where it would be shown.
struct Wanted {
  std::size_t device;
  PointIndex point;
  const device::VariableBinding* binding;  // null where nothing shows it
};

std::vector<Wanted> wantedOfDevice(const Site& site, std::size_t device) {
  std::vector<std::vector<const device::VariableBinding*>> shownBy(site.devices[device].points.size());
  for (const auto& binding : site.bindings.variables)
    if (binding.device == device) shownBy[binding.point].push_back(&binding);
  std::vector<Wanted> out;
  for (PointIndex point = 0; point < shownBy.size(); ++point) {
    if (shownBy[point].empty()) out.push_back({device, point, nullptr});
    for (const auto* binding : shownBy[point]) out.push_back({device, point, binding});
  }
  return out;
}

/// What a device says to the points that are wanted of it; why it says nothing.
Result<std::vector<device::TriedPoint>> ask(const device::DeviceFile& file, const std::vector<PointIndex>& points,
                                            Duration patience, const std::set<std::string>& busy) {
  // What answers on such a line would go to whoever reads first.
  const bool isExclusive = file.driver == "dnp3" || file.driver == "line";
  if (isExclusive && busy.contains(file.line))
    return Error{status::BadNotSupported,
                 fmt::format("the service speaks over {} already, where one is listened to", file.line),
                 {}};
  return device::tryOut(file, points, patience);
}

}  // namespace

std::set<std::string> linesIn(const Site& site) {
  std::set<std::string> out;
  for (const auto& device : site.devices) out.insert(device.line);
  return out;
}

Result<Preview> preview(const Site& site, const std::string& file, Duration patience,
                        const std::set<std::string>& busy) {
  for (const auto& finding : site.findings.list())
    if (finding.severity == model::Finding::Severity::Error)
      return Error{status::BadConfigurationError,
                   fmt::format("{}:{}: {}", finding.place.file, finding.place.line, finding.message), finding.hint};
  std::vector<Wanted> wanted;
  device::Bindings own;
  const auto device = std::ranges::find_if(
      site.devices, [&](const auto& each) { return file == fmt::format("devices/{}.yaml", each.name); });
  const auto source = site.sources.find(file);
  if (device != site.devices.end()) {
    wanted = wantedOfDevice(site, static_cast<std::size_t>(device - site.devices.begin()));
  } else if (file.starts_with("bindings/") && source != site.sources.end()) {
    model::Findings known;
    device::readBindings(file, source->second, *site.space, site.devices, own, known);
    for (const auto& binding : own.variables) wanted.push_back({binding.device, binding.point, &binding});
  } else {
    return Error{status::BadNotSupported, fmt::format("{} has no values to look at", file),
                 "choose a file in devices/ or bindings/"};
  }

  Preview out;
  std::map<std::size_t, std::vector<PointIndex>> asked;
  std::vector<Wanted> kept;
  for (const auto& each : wanted) {
    const bool hasRoom =
        kept.size() < kMostPreviewed && (asked.contains(each.device) || asked.size() < kMostDevicesPreviewed);
    if (!hasRoom) continue;
    auto& points = asked[each.device];
    if (std::ranges::find(points, each.point) == points.end()) points.push_back(each.point);
    kept.push_back(each);
  }
  out.left = wanted.size() - kept.size();

  // At once: one that is dead keeps the others waiting for no longer than itself.
  using Answer = Result<std::vector<device::TriedPoint>>;
  std::map<std::size_t, std::future<Answer>> answers;
  for (const auto& [number, points] : asked)
    answers.emplace(
        number, std::async(std::launch::async, [&site, &points = points, number = number, patience, &busy]() -> Answer {
          return ask(site.devices[number], points, patience, busy);
        }));
  std::map<std::size_t, Answer> told;
  for (auto& [number, answer] : answers) told.emplace(number, answer.get());

  for (const auto& each : kept) {
    const auto& from = site.devices[each.device];
    PreviewLine line;
    line.point = fmt::format("{}/{}", from.name, from.points[each.point].name());
    line.words = from.points[each.point].raw.where;
    if (each.binding) {
      line.node = site.space->path(each.binding->variable);
      if (each.binding->part)
        line.node += each.binding->part->text;
      else
        line.variable = each.binding->variable;
    }
    const auto& answer = told.at(each.device);
    if (answer) {
      const auto& points = asked.at(each.device);
      const auto at = static_cast<std::size_t>(std::ranges::find(points, each.point) - points.begin());
      line.brought = (*answer)[at].value;
      line.way = (*answer)[at].trace;
    } else {
      line.brought.status = answer.code();
      line.why = answer.error().cause;
    }
    line.shown =
        line.variable == space::kNoNode ? line.brought : device::shownAs(*site.space, line.variable, line.brought);
    out.lines.push_back(std::move(line));
  }
  return out;
}

}  // namespace zunth::admin
