#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

namespace zunth::cli {

using namespace ua;

namespace {

struct LogWish {
  std::string site, level, like, part;
  double minutes = 15;
  std::size_t last = 50;
};

int showLog(const Options& options, const LogWish& wanted) {
  const auto folder = siteFolder(wanted.site, "zunth log --site FOLDER");
  if (!folder) return fail(folder.error());
  const Duration patience = milliseconds(options.timeout * 1000);
  if (!wanted.level.empty()) {
    const auto set = admin::Control::ask(
        *folder, {{"verb", "log level"}, {"level", wanted.level}, {"minutes", wanted.minutes}, {"part", wanted.part}},
        patience);
    if (!set) return fail(set.error());
    if (!options.quiet)
      std::printf("the service tells as much as %s%s%s for %g min\n", wanted.level.c_str(),
                  wanted.part.empty() ? "" : " of ", wanted.part.c_str(), wanted.minutes);
    return kDone;
  }
  const auto told = admin::Control::ask(*folder, {{"verb", "log"}, {"most", 1'000}}, patience);
  if (!told) return fail(told.error());
  const Json lines = told->value("lines", Json::array());
  std::vector<const Json*> shown;
  for (const auto& line : lines)
    if (line.value("text", "").find(wanted.like) != std::string::npos &&
        (wanted.part.empty() || line.value("part", "") == wanted.part))
      shown.push_back(&line);
  const std::size_t from = wanted.last && shown.size() > wanted.last ? shown.size() - wanted.last : 0;
  Records records({"time", "level", "part", "text"});
  for (std::size_t i = from; i < shown.size(); ++i) {
    const auto time = DateTime::parse(shown[i]->value("time", ""));
    records.add({Cell(time ? localTime(time->time()) : std::string(), shown[i]->value("time", "")),
                 shown[i]->value("level", ""), shown[i]->value("part", ""), shown[i]->value("text", "")});
  }
  if (records.empty() && options.format == Format::Table)
    std::fprintf(stderr, "the service has told nothing of the kind since it was started; its level is %s\n",
                 told->value("level", "").c_str());
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

}  // namespace

void addLog(Program program) {
  auto wanted = std::make_shared<LogWish>();
  const auto verb = addLocalVerb(program, program.top, "log",
                                 "What the service of a site has told of late; or have it tell more for a while.",
                                 "zunth log --level debug --for 10 --site my-plant", wanted->site);
  verb.option("--like", wanted->like, "Only what has these words in it");
  verb.option("--last", wanted->last, "How many lines at most; 0 for all that are kept").showsDefault();
  verb.option("--part", wanted->part, "Only one part: site, clients, devices, history or console");
  verb.option("--level", wanted->level, "Have it tell as much as debug, info, warn or error");
  verb.option("--for", wanted->minutes, "Minutes until it tells as much as before").showsDefault();
  verb.runs([program, wanted] { program.exitCode = showLog(program.options, *wanted); });
}

}  // namespace zunth::cli
