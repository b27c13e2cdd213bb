#include "core/space/permissions.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/admin/drafts.hpp"
#include "service/admin/site_preview.hpp"
#include "service/admin/site_versions.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
using admin::Drafts;

// The site's files, edited in a browser. What is edited counts when it is applied; until then it is a draft.
namespace {

/// Runs `work(drafts)` beside the services, one after the other; what it gives, or its error, is the answer.
template <class Work>
Awaitable<Answer> withDrafts(Console& console, const Visit& visit, Work work) {
  if (visit.login->desk->user().empty())
    co_return Answer::of(Error{status::BadUserAccessDenied, "files are edited under a name", "log in"});
  Result<Json> outcome = Json();
  std::function<void()> task = [&] {
    Drafts drafts(console.site().folder());
    outcome = work(drafts);
  };
  co_await console.away(task);
  co_return outcome ? Answer::of(*outcome) : Answer::of(outcome.error());
}

/// Who may log in and what they may is in site.yaml: that takes more than a model does.
Result<void> mayEdit(const Login& login, const std::string& name) {
  if (name != "site.yaml" || login.desk->hasRole(id::WellKnownRole_SecurityAdmin)) return {};
  return Error{status::BadUserAccessDenied,
               "site.yaml is changed by who has the role SecurityAdmin, which " + login.desk->who() + " lacks",
               "log in as somebody who has it"};
}

Awaitable<Answer> tellFiles(Console& console, Visit visit) {
  const auto folder = console.site().folder();
  auto told = [folder](Drafts& drafts) -> Result<Json> {
    const auto files = drafts.list();
    if (!files) return files.error();
    Json list = Json::array();
    for (const auto& file : *files)
      list.push_back({{"name", file.name},
                      {"isEdited", file.isEdited},
                      {"isNew", file.isNew},
                      {"isInConflict", file.isInConflict},
                      {"by", file.by}});
    return Json{{"files", std::move(list)}, {"isVersioned", admin::isVersioned(folder)}};
  };
  co_return co_await withDrafts(console, visit, std::move(told));
}

Awaitable<Answer> tellText(Console& console, Visit visit) {
  const std::string name = visit.request.value("name");
  if (auto fine = mayEdit(*visit.login, name); !fine) co_return Answer::of(fine.error());
  auto told = [name](Drafts& drafts) -> Result<Json> {
    const auto text = drafts.read(name);
    if (!text) return text.error();
    return Json{{"name", name},
                {"saved", text->saved},
                {"draft", text->draft ? Json(*text->draft) : Json()},
                {"isInConflict", text->isInConflict},
                {"version", text->version}};
  };
  co_return co_await withDrafts(console, visit, std::move(told));
}

Awaitable<Answer> saveDraft(Console& console, Visit visit) {
  const std::string name = visit.body.at("name").get<std::string>(), text = visit.body.at("text").get<std::string>();
  const std::string version = visit.body.value("version", ""), by = visit.login->desk->who();
  if (auto fine = mayEdit(*visit.login, name); !fine) co_return Answer::of(fine.error());
  auto save = [=](Drafts& drafts) -> Result<Json> {
    const auto now = drafts.write(name, text, version, by);
    if (!now) return now.error();
    return Json{{"version", *now}};
  };
  co_return co_await withDrafts(console, visit, std::move(save));
}

Awaitable<Answer> dropDraft(Console& console, Visit visit) {
  const std::string name = visit.body.value("name", "");
  if (auto fine = mayEdit(*visit.login, name); !fine) co_return Answer::of(fine.error());
  const bool mayAll = visit.login->desk->hasRole(id::WellKnownRole_SecurityAdmin);
  auto drop = [name, mayAll](Drafts& drafts) -> Result<Json> {
    if (!name.empty() || mayAll) {
      const auto fine = drafts.drop(name);
      if (!fine) return fine.error();
      return Json::object();
    }
    // All that are theirs to drop.
    const auto files = drafts.list();
    if (!files) return files.error();
    for (const auto& file : *files)
      if (file.isEdited && file.name != "site.yaml")
        if (const auto fine = drafts.drop(file.name); !fine) return fine.error();
    return Json::object();
  };
  const Answer answer = co_await withDrafts(console, visit, std::move(drop));
  if (answer.status == 200) note(console, visit, "draft dropped", status::Good, name.empty() ? "all" : shown(name));
  co_return answer;
}

Json findingsOf(const admin::Site& site) {
  Json list = Json::array();
  for (const auto& finding : site.findings.list())
    list.push_back({{"file", finding.place.file},
                    {"line", finding.place.line},
                    {"column", finding.place.column},
                    {"isError", finding.severity == model::Finding::Severity::Error},
                    {"message", finding.message},
                    {"hint", finding.hint}});
  return list;
}

Awaitable<Answer> checkDrafts(Console& console, Visit visit) {
  auto check = [](Drafts& drafts) -> Result<Json> {
    const auto site = drafts.preview();
    if (!site) return site.error();
    if (site->isSound())
      if (const auto fine = drafts.judge(*site); !fine) return fine.error();
    return Json{{"isSound", site->isSound()}, {"findings", findingsOf(*site)}};
  };
  co_return co_await withDrafts(console, visit, std::move(check));
}

/// A value as a page shows it.
Json shownJson(const DataValue& value) {
  return {{"text", value.status.isBad() ? std::string() : shown(format(value.value), 300)},
          {"status", std::string(value.status.name())}};
}

/// What a file of a site as its drafts have it would show, from its devices as they are.
Awaitable<Answer> tellPreview(Console& console, const Visit& visit, const admin::Site& site, const std::string& name) {
  constexpr auto kPatience = std::chrono::seconds(4);
  const auto source = site.sources.find(name);
  const std::string text = source == site.sources.end() ? std::string() : source->second;
  if (const auto seen = name + " " + admin::versionOf(text); std::exchange(visit.login->desk->previewed, seen) != seen)
    note(console, visit, "draft tried on devices", status::Good, shown(name));
  Result<admin::Preview> told = admin::Preview();
  std::function<void()> look = [&, busy = admin::linesIn(console.site().site())] {
    told = admin::preview(site, name, kPatience, busy);
  };
  if (auto fine = co_await console.lookAway(look); !fine) co_return Answer::of(fine.error());
  if (!told) co_return Answer::of(told.error());
  Json lines = Json::array();
  for (const auto& line : told->lines) {
    Json way = Json::array();
    for (const auto& stage : line.way) way.push_back({{"stage", stage.what}, {"shows", shown(stage.shows, 1'000)}});
    Json row{{"point", line.point},   {"words", line.words}, {"node", line.node}, {"brought", shownJson(line.brought)},
             {"way", std::move(way)}, {"why", line.why}};
    row["shown"] = shownJson(line.shown);
    if (line.variable != space::kNoNode) {
      site.space->setValue(line.variable, line.shown);
      const Json there = valueOf(*site.space, space::Rights::all(), line.variable);
      row["shown"]["text"] = there["text"];
      row["unit"] = there["unit"];
      const auto now = nodeNamed(console.space(), visit.rights(), line.node);
      if (now != space::kNoNode && console.space().nodeClass(now) == NodeClass::Variable) {
        const Json present = valueOf(console.space(), visit.rights(), now);
        row["now"] = {{"text", present["text"]}, {"status", present["status"]}, {"unit", present["unit"]}};
      }
    }
    lines.push_back(std::move(row));
  }
  co_return Answer::of(Json{{"lines", std::move(lines)}, {"left", told->left}});
}

/// What a file would show if it counted, beside what its nodes show now.
Awaitable<Answer> previewDraft(Console& console, Visit visit) {
  const std::string name = visit.body.at("name").get<std::string>();
  std::optional<admin::Site> site;
  auto load = [&site](Drafts& drafts) -> Result<Json> {
    auto drafted = drafts.preview();
    if (!drafted) return drafted.error();
    if (const auto fine = drafts.judge(*drafted); !fine) return fine.error();
    site = std::move(*drafted);
    return Json::object();
  };
  const Answer loaded = co_await withDrafts(console, visit, std::move(load));
  if (!site) co_return loaded;
  const Answer answer = co_await tellPreview(console, visit, *site, name);
  // A large one takes its time to go.
  std::function<void()> drop = [&site] { site.reset(); };
  co_await console.away(drop);
  co_return answer;
}

/// Checked as a whole, put in place as a whole, applied, and kept as a version where there are versions.
Awaitable<Answer> applyDrafts(Console& console, Visit visit) {
  auto put = [mayAll = visit.login->desk->hasRole(id::WellKnownRole_SecurityAdmin)](Drafts& drafts) -> Result<Json> {
    const auto listed = drafts.list();
    if (!listed) return listed.error();
    const bool isSecurity =
        std::ranges::any_of(*listed, [](const auto& file) { return file.isEdited && file.name == "site.yaml"; });
    if (isSecurity && !mayAll)
      return Error{status::BadUserAccessDenied, "site.yaml is among the drafts, which takes the role SecurityAdmin",
                   "have somebody apply it who has that role"};
    const auto site = drafts.preview();
    if (!site) return site.error();
    if (!site->isSound()) return Json{{"applied", false}, {"findings", findingsOf(*site)}};
    if (const auto fine = drafts.judge(*site); !fine) return fine.error();
    const auto names = drafts.put();
    if (!names) return names.error();
    return Json{{"files", *names}};
  };
  const Answer written = co_await withDrafts(console, visit, std::move(put));
  Json told = Json::parse(written.body, nullptr, false);
  if (written.status != 200 || !told.contains("files")) co_return written;
  const auto names = told["files"].get<std::vector<std::string>>();
  note(console, visit, "files changed", status::Good, shown(fmt::format("{}", fmt::join(names, ", ")), 500));
  Json asked{{"verb", "apply"}, {"yes", visit.body.value("yes", false)}};
  auto applied = co_await console.perform(*visit.login, std::move(asked));
  // They are in place, whatever came of applying them.
  if (!applied) co_return Answer::of(applied.error());
  (*applied)["files"] = names;
  const std::string who = visit.login->desk->who(), why = visit.body.value("why", "");
  Result<void> kept;
  std::function<void()> keep = [&, folder = console.site().folder()] {
    if (!names.empty() && admin::isVersioned(folder)) kept = admin::commitSite(folder, names, who, why);
  };
  co_await console.away(keep);
  if (!kept) (*applied)["notKept"] = admin::jsonOf(kept.error());
  co_return Answer::of(*applied);
}

Awaitable<Answer> tellVersions(Console& console, Visit visit) {
  constexpr std::size_t kMost = 100;
  auto tell = [folder = console.site().folder()](Drafts&) -> Result<Json> {
    Json list = Json::array();
    if (!admin::isVersioned(folder)) return Json{{"isVersioned", false}, {"versions", std::move(list)}};
    const auto versions = admin::versionsOf(folder, kMost);
    if (!versions) return versions.error();
    for (const auto& version : *versions)
      list.push_back({{"id", version.id},
                      {"who", shown(version.who)},
                      {"when", shown(version.when)},
                      {"why", shown(version.why, 1000)},
                      {"files", version.files}});
    return Json{{"isVersioned", true}, {"versions", std::move(list)}};
  };
  co_return co_await withDrafts(console, visit, std::move(tell));
}

/// An old version becomes drafts: it counts when they are applied, as any other edit.
Awaitable<Answer> takeVersion(Console& console, Visit visit) {
  const std::string version = visit.body.at("version").get<std::string>(), by = visit.login->desk->who();
  const bool mayAll = visit.login->desk->hasRole(id::WellKnownRole_SecurityAdmin);
  auto take = [=, folder = console.site().folder()](Drafts& drafts) -> Result<Json> {
    const auto names = admin::changedSince(folder, version);
    if (!names) return names.error();
    Json taken = Json::array();
    for (const auto& name : *names) {
      if (name == "site.yaml" && !mayAll) continue;
      const auto text = admin::textAt(folder, version, name);
      if (!text) return text.error();
      const auto now = drafts.read(name);
      const std::string seen = now ? now->version : std::string();
      if (auto written = drafts.write(name, *text, seen, by); !written) return written.error();
      taken.push_back(name);
    }
    return Json{{"files", std::move(taken)}};
  };
  co_return co_await withDrafts(console, visit, std::move(take));
}

}  // namespace

std::vector<Route> draftRoutes() {
  const Parameter name{"name", "\"model/plant.yaml\"", true};
  return {
      {"GET", "/api/files", "The site's files, and which are edited", Needs::Engineer, tellFiles},
      {"GET", "/api/files/text", "A file as it is on disk, and as a draft has it", Needs::Engineer, tellText, {name}},
      {"POST",
       "/api/drafts",
       "Keep an edit of a file as a draft",
       Needs::Engineer,
       saveDraft,
       {name, {"text", "the whole file", true}, {"version", "of the text that was edited; empty for a new file"}}},
      {"POST",
       "/api/drafts/drop",
       "Drop a draft, or all",
       Needs::Engineer,
       dropDraft,
       {{"name", "the file's; all without it"}}},
      {"POST",
       "/api/drafts/check",
       "Check the site as the drafts have it",
       Needs::Engineer,
       checkDrafts,
       {},
       "zunth check"},
      {"POST",
       "/api/drafts/preview",
       "What a file of devices or bindings would show, from the devices as they are now",
       Needs::Engineer,
       previewDraft,
       {name},
       "zunth device try NAME"},
      {"POST",
       "/api/drafts/apply",
       "Put all drafts in place, and apply them",
       Needs::Engineer,
       applyDrafts,
       {{"why", "what others should know"}, {"yes", "true where a namespace may lose all its nodes"}},
       "zunth apply"},
      {"GET",
       "/api/versions",
       "What was applied, where the site is a git repository",
       Needs::Engineer,
       tellVersions,
       {},
       "git log"},
      {"POST",
       "/api/versions/take",
       "Make drafts of what a version had otherwise",
       Needs::Engineer,
       takeVersion,
       {{"version", "its id", true}},
       "git checkout VERSION -- ."},
  };
}

}  // namespace zunth::console
