#include "core/ua/foreign.hpp"
#include "service/console/console.hpp"

#include <algorithm>

namespace zunth::console {

using namespace ua;

namespace {

Awaitable<Answer> tellDevices(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "devices"}});
}
/// What a device offers, and which nodes show it.
Awaitable<Answer> tellPoints(Console& console, Visit visit) {
  const auto& site = console.site().site();
  const auto& space = console.space();
  const std::string name = visit.request.value("device");
  const auto device = std::ranges::find(site.devices, name, &device::DeviceFile::name);
  if (device == site.devices.end())
    co_return Answer::of(Error{status::BadNotFound, "there is no device " + shown(name), "/api/devices"});
  const auto index = static_cast<std::size_t>(device - site.devices.begin());
  std::vector<Json> nodes(device->points.size(), Json::array());
  for (const auto& binding : site.bindings.variables)
    if (binding.device == index && binding.point < nodes.size() && space.exists(binding.variable) &&
        space.sees(visit.rights(), binding.variable))
      nodes[binding.point].push_back(
          {{"id", space.nodeId(binding.variable).text()},
           {"path", space.path(binding.variable) + (binding.part ? binding.part->text : "")}});
  Json points = Json::array();
  for (std::size_t i = 0; i < nodes.size(); ++i)
    points.push_back({{"point", device->points[i].name()},
                      {"where", device->points[i].raw.where},
                      {"isWritable", device->points[i].isWritable()},
                      {"nodes", std::move(nodes[i])}});
  co_return Answer::of(Json{{"points", std::move(points)}});
}
Awaitable<Answer> tellWire(Console& console, Visit visit) {
  Json asked{{"verb", "wire"},
             {"device", visit.request.value("device")},
             {"after", visit.request.number("after", 0, SIZE_MAX / 2)}};
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> endClient(Console& console, Visit visit) {
  Json asked{{"verb", "end client"}, {"id", visit.body.at("id")}};
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellInterfaces(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "interfaces"}});
}
Awaitable<Answer> changeInterface(Console& console, Visit visit) {
  const std::string change = visit.body.at("change").get<std::string>();
  if (change != "inhibit" && change != "admit")
    co_return Answer::of(Error{status::BadInvalidArgument, "an interface is inhibited or admitted", {}});
  Json asked{{"verb", change}, {"name", visit.body.at("name")}};
  co_return co_await passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellUsers(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "users"}});
}
Awaitable<Answer> changeUser(Console& console, Visit visit) {
  Json asked{{"verb", "user"}};
  for (const char* key : {"change", "name", "password", "roles"})
    if (visit.body.contains(key)) asked[key] = visit.body[key];
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellAudit(Console& console, Visit visit) {
  Json asked{{"verb", "audit"},
             {"like", visit.request.value("like")},
             {"who", visit.request.value("who")},
             {"what", visit.request.value("what")},
             {"failed", visit.request.value("failed") == "true"},
             {"most", visit.request.number("most", 200, 10'000)}};
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellLog(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "log"}, {"most", 500}});
}
Awaitable<Answer> setLogLevel(Console& console, Visit visit) {
  Json asked{{"verb", "log level"}, {"level", visit.body.at("level")}};
  for (const char* key : {"minutes", "part"})
    if (visit.body.contains(key)) asked[key] = visit.body[key];
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellChanges(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "apply"}, {"show", true}});
}
Awaitable<Answer> apply(Console& console, Visit visit) {
  Json asked{{"verb", "apply"}, {"yes", visit.body.value("yes", false)}};
  return passOn(console, std::move(visit), std::move(asked));
}

}  // namespace

std::vector<Route> adminRoutes() {
  const Parameter name{"name", "what the user is called", true};
  return {
      {"GET", "/api/devices", "Devices and how they are", Needs::Login, tellDevices, {}, "zunth device"},
      {"GET",
       "/api/device/points",
       "What a device offers, and which nodes show it",
       Needs::Login,
       tellPoints,
       {{"device", "its name", true}},
       "zunth device points NAME"},
      {"GET",
       "/api/wire",
       "What goes over a device's line",
       Needs::Engineer,
       tellWire,
       {{"device", "its name", true}, {"after", "the number of the last line that is known"}},
       "zunth device log NAME"},
      {"POST",
       "/api/clients/end",
       "End the session of a client; it may come again",
       Needs::SecurityAdmin,
       endClient,
       {{"id", "the session's id, as /api/status tells it", true}},
       "zunth clients --end ID"},
      {"GET",
       "/api/interfaces",
       "By which ways the site is reached",
       Needs::Login,
       tellInterfaces,
       {},
       "zunth interfaces"},
      {"POST",
       "/api/interfaces",
       "Shut a way in, or open it again",
       Needs::SecurityAdmin,
       changeInterface,
       {{"change", "inhibit or admit", true}, {"name", "as /api/interfaces tells it", true}},
       "zunth interfaces --inhibit NAME"},
      {"GET", "/api/users", "Who may log in", Needs::SecurityAdmin, tellUsers, {}, "zunth user"},
      {"POST",
       "/api/users",
       "Add, change or remove a user",
       Needs::SecurityAdmin,
       changeUser,
       {{"change", "add, password, role, disable, enable or remove", true},
        name,
        {"password", "a password"},
        {"roles", "a list of roles"}},
       "zunth user add NAME"},
      {"GET",
       "/api/audit",
       "Who did what, the newest first",
       Needs::SecurityAdmin,
       tellAudit,
       {{"like", "only with these words in it"},
        {"who", "only what this user did"},
        {"what", "only this"},
        {"failed", "true for what was refused or went wrong"},
        {"most", "how many at most"}},
       "zunth audit"},
      {"GET", "/api/log", "The newest lines of the service's log", Needs::Engineer, tellLog, {}, "zunth log"},
      {"POST",
       "/api/log/level",
       "Have the service tell more or less, for a while",
       Needs::Engineer,
       setLogLevel,
       {{"level", "debug, info, warn or error", true},
        {"minutes", "for how long; 15 without it"},
        {"part", "site, clients, devices, history or console; all of them without it"}},
       "zunth log --level debug --part devices"},
      {"GET",
       "/api/changes",
       "What the site's folder says otherwise than what runs",
       Needs::Engineer,
       tellChanges,
       {},
       "zunth diff"},
      {"POST",
       "/api/apply",
       "Bring what runs to what the folder says",
       Needs::Engineer,
       apply,
       {{"yes", "true where a namespace may lose all its nodes"}},
       "zunth apply"},
  };
}

}  // namespace zunth::console
