#include "apps/zunth/command.hpp"
#include "core/history/moving.hpp"
#include "service/admin/historian.hpp"
#include "service/admin/site.hpp"
#include "service/admin/site_lock.hpp"
#include "service/history/postgres_store.hpp"

#include <fmt/format.h>
#include <unistd.h>

namespace zunth::cli {

using namespace ua;

namespace {

constexpr const char* kFiles = "files";

std::string named(const std::string& database) { return database.empty() ? "the site's files" : "the database"; }

/// What still waits for a database is brought there first.
Result<std::unique_ptr<history::Store>> openWhole(const admin::Site& site, const std::string& database) {
  admin::HistorySettings settings;
  settings.database = database;
  const auto told = [](bool, const std::string& words) { std::fprintf(stderr, "%s\n", words.c_str()); };
  if (!database.empty()) {
    // One that isn't there is a mistake here, and nothing to wait for.
    auto reached = history::PostgresStore::open(database, site.settings.applicationUri);
    if (!reached) return reached.error();
  }
  return admin::openHistory(settings, site.folder / "state/history", site.settings.applicationUri, told);
}

int move(const Options& options, const std::string& folder, const std::string& to) {
  const auto lock = admin::SiteLock::take(folder);
  if (!lock) {
    auto error = lock.error();
    error.next = "stop it first: history is moved while nobody serves the site";
    return fail(error);
  }
  const auto site = admin::loadSite(folder);
  for (const auto& text : site.report()) std::fprintf(stderr, "%s\n", text.c_str());
  if (!site.isSound()) return kNo;
  const std::string source = site.history.database, target = to == kFiles ? "" : to;
  if (source == target)
    return wrongUse(fmt::format("{} is where history is kept already", named(target)),
                    fmt::format("zunth history-move {} --to {}", folder, source.empty() ? "postgresql://…" : kFiles));
  auto first = openWhole(site, source);
  if (!first) return fail(first.error());
  auto second = openWhole(site, target);
  if (!second) return fail(second.error());
  const auto now = DateTime::from(std::chrono::system_clock::now());
  const bool isShown = !options.quiet && ::isatty(STDERR_FILENO) != 0;
  const auto tell = [isShown](const history::Moved& moved) {
    if (isShown) std::fprintf(stderr, "\r%zu values, %zu events\033[K", moved.samples, moved.events);
  };
  auto moved = history::moveHistory(**first, **second, now, tell);
  if (isShown) std::fputs("\r\033[K", stderr);
  if (!moved) return fail(moved.error());
  if (isStructured(options.format)) {
    const Json out{{"variables", moved->variables},
                   {"values", moved->samples},
                   {"changes", moved->changes},
                   {"events", moved->events}};
    std::fputs(document(out, options.format).c_str(), stdout);
    return kDone;
  }
  std::printf("copied %zu values of %zu variables, %zu records of changes and %zu events to %s; they are still in %s\n",
              moved->samples, moved->variables, moved->changes, moved->events, named(target).c_str(),
              named(source).c_str());
  if (!options.quiet)
    std::printf("%s\n", target.empty() ? "next: take the line `database:` out of site.yaml, and start the service"
                                       : fmt::format("next: in site.yaml, under `history:`, write `database: {}`, and "
                                                     "start the service",
                                                     target)
                                             .c_str());
  return kDone;
}

}  // namespace

void addHistoryMove(Program program) {
  const auto verb = addVerb(program, "history-move", "Bring a site's history into a database, or back into files.",
                            "zunth history-move my-plant --to postgresql:///plant?host=/run/postgresql");
  auto folder = std::make_shared<std::string>(".");
  auto to = std::make_shared<std::string>();
  verb.option("SITE", *folder, "The site's folder, which nobody serves; this folder when left out");
  verb.option("--to", *to, "Where it is to be kept: the address of a database of PostgreSQL, or 'files'").required();
  verb.runs([program, folder, to] { program.exitCode = move(program.options, *folder, *to); });
}

}  // namespace zunth::cli
