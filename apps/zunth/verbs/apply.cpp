#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

#include <filesystem>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

struct ApplyWish {
  std::string site;
  bool onlyShow = false;
  bool mayEmpty = false;
};

/// Long texts are cut in tables alone.
Cell shown(const std::string& text) { return Cell(text.size() > 48 ? text.substr(0, 45) + "..." : text, Json(text)); }

/// After an apply the first few will do: its summary is to be seen.
constexpr std::size_t kMostAfterwards = 20;

void printChanges(const Options& options, const Json& changes, bool all) {
  Records records({"change", "node", "what", "before", "after", "clients"});
  std::size_t left = all || options.format == Format::Csv ? changes.size() : kMostAfterwards;
  for (const auto& change : changes) {
    if (left-- == 0) break;
    records.add({change.value("change", ""), change.value("node", ""), change.value("what", ""),
                 shown(change.value("before", "")), shown(change.value("after", "")), change.value("clients", "")});
  }
  if (!changes.empty()) std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (!all && options.format == Format::Table && changes.size() > kMostAfterwards)
    std::printf("and %zu more; all of them with --output json\n", changes.size() - kMostAfterwards);
}

int tellApplied(const Options& options, const ApplyWish& wish, const Json& told) {
  const Json changes = told.value("changes", Json::array());
  const bool isSound = !told.contains("findings");
  if (isStructured(options.format)) {
    std::fputs(document(told, options.format).c_str(), stdout);
  } else if (!isSound) {
    for (const auto& line : told["findings"]) std::fprintf(stderr, "%s\n", line.get<std::string>().c_str());
    std::fprintf(stderr, "zunth: nothing was applied: what runs goes on as it was\n");
  } else {
    printChanges(options, changes, wish.onlyShow);
    if (!options.quiet && options.format == Format::Table) {
      if (changes.empty())
        std::printf("what runs is what the folder says\n");
      else if (wish.onlyShow && told.value("total", std::size_t{0}) > changes.size())
        std::printf("these are the first of %zu changes\n", told.value("total", std::size_t{0}));
      else if (wish.onlyShow)
        std::printf("to do so: zunth apply%s\n", wish.site.empty() ? "" : (" --site " + wish.site).c_str());
      else
        std::printf("applied: %d nodes added, %d removed, %d changed\n", told.value("added", 0),
                    told.value("removed", 0), told.value("changed", 0));
      for (const auto& key : told.value("restart", Json::array()))
        std::printf("note: '%s' of site.yaml counts from the next start of the service\n",
                    key.get<std::string>().c_str());
    }
  }
  for (const auto& each : told.value("failed", Json::array())) fail(admin::errorOf(each));
  if (!isSound || told.contains("failed")) return kNo;
  return wish.onlyShow && !changes.empty() ? kNo : kDone;
}

}  // namespace

void addApply(Program program) {
  auto wish = std::make_shared<ApplyWish>();
  const auto verb = addLocalVerb(program, program.top, "apply",
                                 "Bring a running service to what its folder says, without dropping its clients.",
                                 "zunth apply --site my-plant --dry-run", wish->site);
  verb.flag("--dry-run", wish->onlyShow, "Only show what would change, line by line; ends with 1 when something would");
  verb.flag("--yes", wish->mayEmpty, "Let a model go as a whole, with all its nodes");
  verb.runs([program, wish] {
    const auto site = siteFolder(wish->site, "zunth apply --site FOLDER");
    if (!site) return void(program.exitCode = fail(site.error()));
    const auto told = admin::Control::ask(*site, {{"verb", "apply"}, {"show", wish->onlyShow}, {"yes", wish->mayEmpty}},
                                          milliseconds(program.options.timeout * 1000));
    program.exitCode = told ? tellApplied(program.options, *wish, *told) : fail(told.error());
  });
}

}  // namespace zunth::cli
