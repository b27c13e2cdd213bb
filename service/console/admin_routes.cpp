#include "core/ua/foreign.hpp"
#include "service/admin/state_file.hpp"
#include "service/console/console.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
namespace fs = std::filesystem;

namespace {

/// Passes on to the control door what the visit says, under the door's own names.
Awaitable<Answer> passOn(Console& console, Visit visit, Json asked) {
  auto told = co_await console.perform(*visit.login, std::move(asked));
  co_return told ? Answer::of(*told) : Answer::of(told.error());
}

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
          {{"id", space.nodeId(binding.variable).text()}, {"path", space.path(binding.variable)}});
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
Awaitable<Answer> tellCertificates(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "certificates"}});
}
Awaitable<Answer> trust(Console& console, Visit visit) {
  Json asked{{"verb", "trust"}, {"fingerprint", visit.body.at("fingerprint").get<std::string>()}};
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> distrust(Console& console, Visit visit) {
  Json asked{{"verb", "distrust"}, {"fingerprint", visit.body.at("fingerprint").get<std::string>()}};
  return passOn(console, std::move(visit), std::move(asked));
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
  if (visit.body.contains("minutes")) asked["minutes"] = visit.body["minutes"];
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> tellChanges(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "apply"}, {"show", true}});
}
Awaitable<Answer> apply(Console& console, Visit visit) {
  Json asked{{"verb", "apply"}, {"yes", visit.body.value("yes", false)}};
  return passOn(console, std::move(visit), std::move(asked));
}

// What people make at the console for themselves and others: lists of values and pages for operators, as files of the
// site, one each, so that they go under version control with the rest.

constexpr std::size_t kMostSheet = 512 << 10, kMostSheets = 500, kMostTold = 16 << 20;

/// The folder of a kind of sheet; nothing for no such kind.
std::optional<fs::path> folderOf(Console& console, const std::string& kind) {
  if (kind != "lists" && kind != "pages") return std::nullopt;
  return console.site().folder() / "console" / kind;
}

/// A name that is a file's name on every system, and nothing else.
bool isSheetName(const std::string& name) {
  return !name.empty() && name.size() <= 80 && name.front() != '.' && name.front() != ' ' &&
         std::ranges::none_of(name, [](unsigned char c) {
           return c < 0x20 || std::string_view("/\\:*?\"<>|").find(static_cast<char>(c)) != std::string_view::npos;
         });
}

const Error kNoKind{status::BadInvalidArgument, "'kind' is lists or pages", {}};
const Error kNoName{status::BadInvalidArgument, "that is no name for a file",
                    "letters, digits, spaces and dashes, 80 at most"};

Json sheetsIn(const fs::path& folder) {
  Json sheets = Json::array();
  std::error_code failed;
  std::vector<fs::path> files;
  for (fs::directory_iterator at(folder, failed), end; !failed && at != end && files.size() < kMostSheets;
       at.increment(failed))
    if (at->path().extension() == ".json") files.push_back(at->path());
  std::ranges::sort(files);
  std::uintmax_t octets = 0;
  for (const auto& file : files) {
    const auto size = fs::file_size(file, failed);
    if (failed || size > kMostSheet || (octets += size) > kMostTold) continue;
    std::ifstream stream(file, std::ios::binary);
    std::ostringstream text;
    text << stream.rdbuf();
    Json content = Json::parse(text.str(), nullptr, false);
    if (content.is_object()) sheets.push_back({{"name", file.stem().string()}, {"content", std::move(content)}});
  }
  return sheets;
}

Awaitable<Answer> tellSheets(Console& console, Visit visit) {
  const auto folder = folderOf(console, visit.request.value("kind"));
  if (!folder) co_return Answer::of(kNoKind);
  Json sheets = Json::array();
  std::function<void()> work = [&] { sheets = sheetsIn(*folder); };
  co_await console.away(work);
  co_return Answer::of(Json{{"sheets", std::move(sheets)}});
}

Awaitable<Answer> saveSheet(Console& console, Visit visit) {
  const auto folder = folderOf(console, visit.body.at("kind").get<std::string>());
  const std::string name = visit.body.at("name").get<std::string>();
  if (!folder) co_return Answer::of(kNoKind);
  if (!isSheetName(name)) co_return Answer::of(kNoName);
  if (!visit.body.at("content").is_object())
    co_return Answer::of(Error{status::BadInvalidArgument, "'content' is an object", {}});
  const std::string text = visit.body["content"].dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
  if (text.size() > kMostSheet)
    co_return Answer::of(Error{status::BadRequestTooLarge, "a page holds 512 KiB at most", {}});
  Result<void> written;
  std::function<void()> work = [&] {
    std::error_code failed;
    fs::create_directories(*folder, failed);
    written = admin::replaceFile(*folder / (name + ".json"), text, 0644);
  };
  co_await console.away(work);
  if (!written) co_return Answer::of(written.error());
  console.site().record({DateTime::from(std::chrono::system_clock::now()),
                         "page saved",
                         visit.login->desk->who(),
                         visit.request.address,
                         {},
                         status::Good,
                         shown(name)});
  co_return Answer::of(Json::object());
}

Awaitable<Answer> deleteSheet(Console& console, Visit visit) {
  const auto folder = folderOf(console, visit.body.at("kind").get<std::string>());
  const std::string name = visit.body.at("name").get<std::string>();
  if (!folder) co_return Answer::of(kNoKind);
  if (!isSheetName(name)) co_return Answer::of(kNoName);
  std::error_code failed;
  if (!fs::remove(*folder / (name + ".json"), failed))
    co_return Answer::of(Error{status::BadNotFound, "there is none of this name", {}});
  console.site().record({DateTime::from(std::chrono::system_clock::now()),
                         "page deleted",
                         visit.login->desk->who(),
                         visit.request.address,
                         {},
                         status::Good,
                         shown(name)});
  co_return Answer::of(Json::object());
}

}  // namespace

std::vector<Route> adminRoutes() {
  const Parameter fingerprint{"fingerprint", "of the certificate, whole", true};
  const Parameter kind{"kind", "lists or pages", true}, name{"name", "what it is called", true};
  return {
      {"GET", "/api/devices", "Devices and how they are", Needs::Login, tellDevices, {}, "zunth device"},
      {"GET",
       "/api/device/points",
       "What a device offers, and which nodes show it",
       Needs::Login,
       tellPoints,
       {{"device", "its name", true}},
       "zunth explain NODE"},
      {"GET",
       "/api/wire",
       "What goes over a device's line",
       Needs::Engineer,
       tellWire,
       {{"device", "its name", true}, {"after", "the number of the last line that is known"}},
       "zunth device log NAME"},
      {"GET",
       "/api/certificates",
       "Whose certificates are trusted, and who was refused",
       Needs::SecurityAdmin,
       tellCertificates,
       {},
       "zunth trust"},
      {"POST",
       "/api/certificates/trust",
       "Trust one that was refused",
       Needs::SecurityAdmin,
       trust,
       {fingerprint},
       "zunth trust allow WHO"},
      {"POST",
       "/api/certificates/remove",
       "Trust one no longer, or forget that it was refused",
       Needs::SecurityAdmin,
       distrust,
       {fingerprint},
       "zunth trust remove WHO"},
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
       {{"level", "debug, info, warn or error", true}, {"minutes", "for how long; 15 without it"}},
       "zunth log --level debug"},
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
      {"GET", "/api/sheets", "Saved lists or pages", Needs::Login, tellSheets, {kind}},
      {"POST",
       "/api/sheets",
       "Save a list or a page",
       Needs::Engineer,
       saveSheet,
       {kind, name, {"content", "an object", true}}},
      {"POST", "/api/sheets/delete", "Delete a list or a page", Needs::Engineer, deleteSheet, {kind, name}},
  };
}

}  // namespace zunth::console
