#include "core/space/permissions.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/admin/drafts.hpp"
#include "service/admin/site_versions.hpp"
#include "service/admin/state_file.hpp"
#include "service/console/console.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
namespace fs = std::filesystem;

namespace {

// What people make at the console for themselves and others: lists of values and pages for operators, as files of the
// site, one each, so that they go under version control with the rest.

constexpr std::size_t kMostSheet = 512 << 10, kMostSheets = 500, kMostTold = 16 << 20;

bool isKind(const std::string& kind) { return kind == "lists" || kind == "pages"; }

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
    if (content.is_object())
      sheets.push_back(
          {{"name", file.stem().string()}, {"version", admin::versionOf(text.str())}, {"content", std::move(content)}});
  }
  return sheets;
}

Awaitable<Answer> tellSheets(Console& console, Visit visit) {
  const std::string kind = visit.request.value("kind");
  if (!isKind(kind)) co_return Answer::of(kNoKind);
  Json sheets = Json::array();
  std::function<void()> work = [&] { sheets = sheetsIn(console.site().folder() / "console" / kind); };
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

/// A sheet on disk is now otherwise: its draft has come to its end, and where the site is versioned that is one.
void keepSheet(const fs::path& site, const std::string& file, const std::string& who, const std::string& why) {
  (void)admin::Drafts(site).drop(file);
  if (!admin::isVersioned(site)) return;
  if (auto kept = admin::commitSite(site, {file}, who, why); !kept)
    logs::console().warn("{} is no version: {}", file, kept.error().cause);
}

/// Puts a sheet's text in place of the version that was changed; BadInvalidState where it is another by now.
Result<void> replaceSheet(const fs::path& path, const std::string& text, const std::optional<std::string>& version) {
  std::error_code failed;
  if (version) {
    std::ifstream stream(path, std::ios::binary);
    const std::string now(std::istreambuf_iterator<char>(stream), {});
    if ((stream.is_open() ? admin::versionOf(now) : std::string()) != *version)
      return Error{status::BadInvalidState, "somebody has saved it meanwhile",
                   "look at it again, or save yours by another name"};
  }
  fs::create_directories(path.parent_path(), failed);
  return admin::replaceFile(path, text, 0644);
}

Awaitable<Answer> saveSheet(Console& console, Visit visit) {
  const std::string kind = visit.body.at("kind").get<std::string>(), name = visit.body.at("name").get<std::string>();
  if (!isKind(kind)) co_return Answer::of(kNoKind);
  if (!admin::isSheetName(name)) co_return Answer::of(kNoName);
  if (!visit.body.at("content").is_object())
    co_return Answer::of(Error{status::BadInvalidArgument, "'content' is an object", {}});
  const std::string text = visit.body["content"].dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
  if (text.size() > kMostSheet)
    co_return Answer::of(Error{status::BadRequestTooLarge, "a page holds 512 KiB at most", {}});
  std::optional<std::string> version;
  if (visit.body.contains("version")) version = visit.body["version"].get<std::string>();
  const std::string file = admin::sheetFile(kind, name), who = visit.login->desk->who();
  Result<void> written;
  std::function<void()> work = [&, site = console.site().folder()] {
    written = replaceSheet(site / file, text, version);
    if (written) keepSheet(site, file, who, fmt::format("Change {}/{}", kind, name));
  };
  co_await console.away(work);
  if (!written) co_return Answer::of(written.error());
  note(console, visit, "page saved", status::Good, shown(name));
  co_return Answer::of(Json{{"version", admin::versionOf(text)}});
}

Awaitable<Answer> deleteSheet(Console& console, Visit visit) {
  const std::string kind = visit.body.at("kind").get<std::string>(), name = visit.body.at("name").get<std::string>();
  if (!isKind(kind)) co_return Answer::of(kNoKind);
  if (!admin::isSheetName(name)) co_return Answer::of(kNoName);
  const std::string file = admin::sheetFile(kind, name), who = visit.login->desk->who();
  bool isGone = false;
  std::function<void()> work = [&, site = console.site().folder()] {
    std::error_code failed;
    isGone = fs::remove(site / file, failed);
    if (isGone) keepSheet(site, file, who, fmt::format("Delete {}/{}", kind, name));
  };
  co_await console.away(work);
  if (!isGone) co_return Answer::of(Error{status::BadNotFound, "there is none of this name", {}});
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
       {kind,
        name,
        {"content", "an object", true},
        {"version", "of the one that was changed; empty for a new one. Without it, whatever is there gives way"}}},
      {"POST", "/api/sheets/delete", "Delete a list or a page", Needs::Engineer, deleteSheet, {kind, name}},
  };
}

}  // namespace zunth::console
