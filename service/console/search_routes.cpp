#include "core/ua/foreign.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/admin/drafts.hpp"
#include "service/console/console.hpp"
#include "service/device/proposal.hpp"

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
using device::Sought;

// Devices that have no file yet: tried, looked through, and made into drafts of files.
namespace {

constexpr std::size_t kMostSettings = 20, kLongestText = 300, kMostTried = 50, kMostKept = 1'000;
constexpr int kMostPlaces = 1'000;  // of registers and bits of each kind
constexpr auto kTryPatience = std::chrono::seconds(5);
constexpr auto kScanPatience = std::chrono::seconds(30);  // in all

Error notSaid(std::string cause) { return {status::BadSyntaxError, std::move(cause), "see /api/document"}; }

Result<Sought> soughtIn(const Json& body) {
  Sought out{body.at("driver").get<std::string>(), {}};
  // What this machine's files and programs are is bound on the machine itself.
  if (out.kind == "files")
    return Error{status::BadUserAccessDenied, "files and programs of this machine are looked at on the machine itself",
                 "zunth device try files"};
  const auto settings = body.find("settings");
  if (settings == body.end()) return out;
  if (!settings->is_object() || settings->size() > kMostSettings) return notSaid("'settings' is no short object");
  for (const auto& [key, value] : settings->items()) {
    if (!value.is_string() || key.size() > kLongestText || value.get_ref<const std::string&>().size() > kLongestText)
      return notSaid("a setting is a short text");
    if (const auto& text = value.get_ref<const std::string&>(); !text.empty()) out.settings.emplace_back(key, text);
  }
  return out;
}

std::string whereOf(const Sought& sought) {
  std::string out = sought.kind;
  for (const auto& [key, value] : sought.settings)
    if (key != "password") out += fmt::format(" {}={}", shown(key), shown(value));
  return out;
}

std::string valueText(const DataValue& value) { return shown(format(value.value), kLongestText); }

Awaitable<Answer> tellKinds(Console&, Visit) {
  Json list = Json::array();
  for (const auto& kind : device::driverKinds()) {
    if (kind.name == "files") continue;
    Json keys = Json::array();
    for (const auto key : kind.keys) keys.push_back(key);
    list.push_back({{"name", kind.name}, {"keys", std::move(keys)}, {"isScanned", kind.scan != nullptr}});
  }
  co_return Answer::of(Json{{"kinds", std::move(list)}});
}

Awaitable<Answer> tryDevice(Console& console, Visit visit) {
  const auto sought = soughtIn(visit.body);
  if (!sought) co_return Answer::of(sought.error());
  std::vector<std::string> points;
  if (visit.body.contains("points")) points = visit.body["points"].get<std::vector<std::string>>();
  if (points.size() > kMostTried) co_return Answer::of(notSaid(fmt::format("{} points at once are tried", kMostTried)));
  Result<device::Attempt> tried = device::Attempt();
  std::function<void()> work = [&, folder = console.site().folder()] {
    model::Findings findings;
    tried = device::tryOut(*sought, points, folder, kTryPatience, findings);
  };
  if (auto fine = co_await console.lookAway(work); !fine) co_return Answer::of(fine.error());
  note(console, visit, "device tried", tried.code(), whereOf(*sought));
  if (!tried) co_return Answer::of(tried.error());
  Json list = Json::array();
  for (const auto& point : tried->points) {
    Json way = Json::array();
    for (const auto& stage : point.trace) way.push_back({{"stage", stage.what}, {"shows", shown(stage.shows, 1'000)}});
    list.push_back({{"name", point.name},
                    {"words", point.words},
                    {"value", valueText(point.value)},
                    {"status", point.value.status.name()},
                    {"way", std::move(way)}});
  }
  Json nameplate = Json::array();
  for (const auto& line : tried->nameplate) nameplate.push_back({{"what", line.what}, {"says", line.shows}});
  co_return Answer::of(Json{{"address", tried->address},
                            {"nameplate", std::move(nameplate)},
                            {"areWays", tried->areWays},
                            {"points", std::move(list)}});
}

Awaitable<Answer> scanDevice(Console& console, Visit visit) {
  const auto sought = soughtIn(visit.body);
  if (!sought) co_return Answer::of(sought.error());
  device::ScanWish wish;
  wish.first = visit.body.value("first", 0);
  wish.last = visit.body.value("last", 199);
  if (wish.first < 0 || wish.last < wish.first || wish.last - wish.first >= kMostPlaces || wish.last > 65'535)
    co_return Answer::of(notSaid(fmt::format("{} places at once are looked at", kMostPlaces)));
  // Who is slow at each place would keep others waiting.
  struct TooLong {};
  const auto end = std::chrono::steady_clock::now() + kScanPatience;
  wish.progress = [end](const std::string&) {
    if (std::chrono::steady_clock::now() > end) throw TooLong();
  };
  Result<std::vector<device::FoundPoint>> found = std::vector<device::FoundPoint>();
  std::function<void()> work = [&, folder = console.site().folder()] {
    model::Findings findings;
    try {
      found = device::scan(*sought, folder, wish, findings);
    } catch (const TooLong&) {
      found = Error{status::BadTimeout, "it took too long to look through all of it", "look at fewer places at once"};
    }
  };
  if (auto fine = co_await console.lookAway(work); !fine) co_return Answer::of(fine.error());
  note(console, visit, "device looked through", found.code(), whereOf(*sought));
  if (!found) co_return Answer::of(found.error());
  Json list = Json::array();
  for (const auto& point : *found)
    list.push_back({{"name", point.name},
                    {"words", point.words},
                    {"value", valueText(point.value)},
                    {"type", nameOf(point.value.value.type())},
                    {"status", point.value.status.name()}});
  co_return Answer::of(Json{{"found", std::move(list)}});
}

/// What was kept of a look becomes drafts of three files: they count when they are applied.
Awaitable<Answer> proposeDevice(Console& console, Visit visit) {
  const auto sought = soughtIn(visit.body);
  if (!sought) co_return Answer::of(sought.error());
  const std::string name = visit.body.at("name").get<std::string>();
  if (!device::isDeviceName(name))
    co_return Answer::of(Error{status::BadSyntaxError, fmt::format("'{}' is no name for a device", shown(name)),
                               "letters, digits and -"});
  if (visit.login->desk->user().empty())
    co_return Answer::of(Error{status::BadUserAccessDenied, "files are edited under a name", "log in"});
  std::vector<device::Discovered> kept;
  for (const auto& each : visit.body.at("points")) {
    device::Discovered point{each.at("name").get<std::string>(), each.at("words").get<std::string>(),
                             BuiltInType::Null};
    const std::string type = each.value("type", "Double");
    for (int i = static_cast<int>(BuiltInType::Boolean); i <= static_cast<int>(BuiltInType::ByteString); ++i)
      if (nameOf(static_cast<BuiltInType>(i)) == type) point.type = static_cast<BuiltInType>(i);
    const bool isLine = !point.words.empty() && point.words.size() <= kLongestText &&
                        point.words.find_first_of("\r\n") == std::string::npos;
    if (!isLine || !device::isDeviceName(point.name) || point.type == BuiltInType::Null)
      co_return Answer::of(notSaid(fmt::format("'{}' is no point that was found", shown(point.name))));
    kept.push_back(std::move(point));
  }
  if (kept.empty() || kept.size() > kMostKept)
    co_return Answer::of(notSaid(fmt::format("1 to {} points are kept at once", kMostKept)));
  const auto files = device::propose(*sought, kept, name, console.server().settings().applicationUri);
  Result<void> written;
  std::function<void()> write = [&, folder = console.site().folder(), by = visit.login->desk->who()] {
    admin::Drafts drafts(folder);
    for (const auto& file : files) {
      const auto there = drafts.read(file.name);
      if (there && (!there->saved.empty() || there->draft)) {
        written = Error{status::BadEntryExists, file.name + " is there already", "choose another name"};
        return;
      }
    }
    for (const auto& file : files)
      if (auto saved = drafts.write(file.name, file.text, {}, by); !saved) {
        written = saved.error();
        return;
      }
  };
  co_await console.away(write);
  if (!written) co_return Answer::of(written.error());
  Json names = Json::array();
  for (const auto& file : files) names.push_back(file.name);
  co_return Answer::of(Json{{"files", std::move(names)}});
}

}  // namespace

std::vector<Route> searchRoutes() {
  const Parameter driver{"driver", "a kind, as /api/device/kinds tells it", true},
      settings{"settings", "how it is reached: an object of the keys of its file"};
  return {
      {"GET",
       "/api/device/kinds",
       "Kinds of devices, and the keys of their files",
       Needs::Login,
       tellKinds,
       {},
       "zunth schema device"},
      {"POST",
       "/api/device/try",
       "Try a device that has no file yet",
       Needs::Engineer,
       tryDevice,
       {driver, settings, {"points", "the words of points; without them, whether it answers"}},
       "zunth device try KIND"},
      {"POST",
       "/api/device/scan",
       "Look a device through",
       Needs::Engineer,
       scanDevice,
       {driver, settings, {"first", "of registers and bits"}, {"last", "of them"}},
       "zunth device scan KIND"},
      {"POST",
       "/api/device/propose",
       "Make drafts of a device's files from points that were found",
       Needs::Engineer,
       proposeDevice,
       {driver, settings, {"name", "of the device", true}, {"points", "name, words and type of each", true}},
       "zunth device scan KIND --into NAME"},
  };
}

}  // namespace zunth::console
