#include "service/admin/site_changes.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::admin {

using model::Change;

namespace {

using Texts = std::map<std::string, std::string>;

/// What is told of keys that come, go and change.
template <class Tell>
void compare(const Texts& before, const Texts& after, const Tell& tell) {
  for (const auto& [key, was] : before)
    if (const auto is = after.find(key); is == after.end())
      tell(Change::Kind::Removed, key, was, std::string());
    else if (is->second != was)
      tell(Change::Kind::Changed, key, was, is->second);
  for (const auto& [key, is] : after)
    if (!before.contains(key)) tell(Change::Kind::Added, key, std::string(), is);
}

Texts bindingsOf(const Site& site) {
  Texts out;
  for (const auto& binding : site.bindings.variables) {
    const auto& device = site.devices[binding.device];
    out[site.space->path(binding.variable) + (binding.part ? binding.part->text : "")] =
        device.name + "/" + device.points[binding.point].name();
  }
  for (const auto& binding : site.bindings.computed) out[site.space->path(binding.variable)] = "= " + binding.text;
  for (const auto& binding : site.bindings.methods)
    out[site.space->path(binding.method) + "()"] = site.devices[binding.device].name + "/" + binding.action;
  return out;
}

/// What a Modbus client sees of the site: each node's place, by the file that says so.
Texts registersOf(const Site& site) {
  Texts out;
  for (const auto& file : site.registers) {
    out["registers/" + file.name] = fmt::format("{} unit {} as {}{}{}", file.address(), file.unit, file.role.text,
                                                file.clients.empty() ? "" : " for ", fmt::join(file.clients, ", "));
    for (const auto& one : file.registers) out[one.path + " in registers/" + file.name] = one.words;
  }
  return out;
}

Texts devicesOf(const Site& site) {
  Texts out;
  for (const auto& device : site.devices) out[device.name] = device.identity;
  return out;
}

bool needsRestart(std::string_view key) { return key == "uri" || key == "diagnostics" || key == "loops"; }

}  // namespace

std::vector<SiteChange> siteChanges(const Site& before, const Site& after) {
  std::vector<SiteChange> out;
  using Effect = Change::Effect;
  compare(devicesOf(before), devicesOf(after), [&](auto kind, const auto& name, const auto&, const auto&) {
    const bool isOther = kind == Change::Kind::Changed;
    out.push_back({{kind, isOther ? Effect::Seen : Effect::None, name, "device", "", isOther ? "connects again" : ""}});
  });
  for (const auto& was : before.devices) {
    const auto is = std::ranges::find(after.devices, was.name, &device::DeviceFile::name);
    if (is != after.devices.end() && is->every != was.every)
      out.push_back({{Change::Kind::Changed, Effect::Seen, was.name, "every", fmt::format("{} ms", was.every),
                      fmt::format("{} ms", is->every)}});
  }
  compare(bindingsOf(before), bindingsOf(after), [&](auto kind, const auto& path, const auto& was, const auto& is) {
    out.push_back({{kind, Effect::Seen, path, "binding", was, is}});
  });
  compare(registersOf(before), registersOf(after), [&](auto kind, const auto& name, const auto& was, const auto& is) {
    out.push_back({{kind, Effect::Seen, name, "registers", was, is}});
  });
  compare(before.settingTexts, after.settingTexts, [&](auto kind, const auto& key, const auto& was, const auto& is) {
    out.push_back({{kind, Effect::Seen, "site.yaml", key, was, is}, needsRestart(key)});
  });
  return out;
}

}  // namespace zunth::admin
