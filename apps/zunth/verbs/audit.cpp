#include "apps/zunth/command.hpp"
#include "service/admin/audit_log.hpp"

#include <deque>
#include <filesystem>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

struct Wanted {
  std::string site, who, what, like, since;
  bool onlyFailed = false;
  std::size_t last = 50;
};

bool has(const std::string& text, const std::string& words) { return text.find(words) != std::string::npos; }

int showAudit(const Options& options, const Wanted& wanted) {
  const auto site = siteFolder(wanted.site, "zunth audit --site FOLDER");
  if (!site) return fail(site.error());
  const fs::path& folder = *site;
  DateTime since;
  if (!wanted.since.empty()) {
    auto parsed = DateTime::parse(wanted.since);
    if (!parsed) return wrongUse(parsed.error().cause, parsed.error().next);
    since = *parsed;
  }
  std::deque<server::AuditRecord> found;
  admin::AuditLog::read(folder / "state/audit", [&](const server::AuditRecord& record) {
    if (record.time < since || (wanted.onlyFailed && !record.outcome.isBad())) return;
    if (!wanted.who.empty() && record.who != wanted.who) return;
    if (!wanted.what.empty() && record.what != wanted.what) return;
    if (!wanted.like.empty() && !has(record.about, wanted.like) && !has(record.application, wanted.like) &&
        !has(record.from, wanted.like))
      return;
    found.push_back(record);
    if (wanted.last && found.size() > wanted.last) found.pop_front();
  });
  Records records({"time", "what", "who", "from", "outcome", "about"});
  for (const auto& record : found)
    records.add({Cell(localTime(record.time.time()), Json(record.time.text())), record.what,
                 record.who.empty() ? std::string("-") : record.who,
                 record.from.empty() ? std::string("-") : record.from, std::string(record.outcome.name()),
                 record.about});
  if (records.empty() && options.format == Format::Table)
    std::fprintf(stderr, "nothing of the kind is on record in %s\n", (folder / "state/audit").string().c_str());
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

}  // namespace

void addAudit(Program program) {
  auto wanted = std::make_shared<Wanted>();
  const auto verb = addLocalVerb(program, program.top, "audit", "Who did what at a site, and what came of it.",
                                 "zunth audit --failed --site my-plant", wanted->site);
  verb.option("--who", wanted->who, "Only what this user did");
  verb.option("--what", wanted->what, "Only this: connection, session, login, write, call, ...");
  verb.option("--like", wanted->like, "Only what has these words in it: a node, an address, an application");
  verb.option("--since", wanted->since, "Only from this time on, as 2026-05-04T07:30:00Z");
  verb.flag("--failed", wanted->onlyFailed, "Only what was refused or went wrong");
  verb.option("--last", wanted->last, "How many lines at most; 0 for all").showsDefault();
  verb.runs([program, wanted] { program.exitCode = showAudit(program.options, *wanted); });
}

}  // namespace zunth::cli
