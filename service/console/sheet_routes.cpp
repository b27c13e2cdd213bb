#include "core/space/permissions.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/admin/state_file.hpp"
#include "service/console/console.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

namespace zunth::console {

using namespace ua;
namespace fs = std::filesystem;

namespace {

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

/// Whether somebody has one of the roles that a page names; everybody has, where it names none. What may be read and
/// written is decided by the nodes themselves: this is about what is in whose way.
bool isFor(Console& console, const Visit& visit, const Json& content, const char* key) {
  const auto named = content.find(key);
  if (named == content.end() || !named->is_array() || named->empty()) return true;
  return std::ranges::any_of(*named, [&](const Json& name) {
    if (!name.is_string()) return false;
    const std::string text = name.get<std::string>();
    if (const auto role = space::roleNamed(text)) return visit.rights().hasRole(NodeId(*role));
    const auto& own = console.site().site().ownRoles;
    const auto role = own.find(text);
    return role != own.end() && visit.rights().hasRole(role->second);
  });
}

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
  // Who makes pages sees all of them.
  const bool isEngineer = std::ranges::any_of(
      std::initializer_list<StandardId>{id::WellKnownRole_Engineer, id::WellKnownRole_ConfigureAdmin,
                                        id::WellKnownRole_SecurityAdmin},
      [&](StandardId role) { return visit.rights().hasRole(NodeId(role)); });
  Json told = Json::array();
  for (auto& sheet : sheets) {
    const Json& content = sheet["content"];
    if (!isEngineer && !isFor(console, visit, content, "shownTo")) continue;
    sheet["isOperable"] = isFor(console, visit, content, "operatedBy");
    told.push_back(std::move(sheet));
  }
  co_return Answer::of(Json{{"sheets", std::move(told)}});
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
  note(console, visit, "page saved", status::Good, shown(name));
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
  note(console, visit, "page deleted", status::Good, shown(name));
  co_return Answer::of(Json::object());
}

}  // namespace

std::vector<Route> sheetRoutes() {
  const Parameter kind{"kind", "lists or pages", true}, name{"name", "what it is called", true};
  return {
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
