#include "apps/zunth/command.hpp"
#include "apps/zunth/verbs/diff.hpp"

#include <csignal>
#include <filesystem>
#include <fstream>
#include <thread>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

/// The process that serves the site, when one does.
std::optional<pid_t> serviceOf(const fs::path& folder) {
  std::ifstream file(folder / "state/zunthd.pid");
  pid_t pid = 0;
  if (!(file >> pid) || pid <= 1 || ::kill(pid, 0) != 0) return std::nullopt;
  return pid;
}

int applySite(const Options& options, const std::string& site, bool onlyShow) {
  const fs::path folder = site.empty() ? fs::path(".") : fs::path(site);
  if (!fs::exists(folder / "site.yaml"))
    return wrongUse(folder.string() + " is no site: it has no site.yaml", "zunth apply --site FOLDER");
  const auto pid = serviceOf(folder);
  if (!pid)
    return fail({status::BadConnectionRejected, fmt::format("nobody serves {}", folder.string()),
                 fmt::format("zunthd {}", folder.string())});
  if (onlyShow) return showDifference(options, (folder / "state/running.xml").string(), folder.string());
  const fs::path answer = folder / "state/applied.json";
  std::error_code ignored;
  fs::remove(answer, ignored);
  if (::kill(*pid, SIGHUP) != 0)
    return fail(
        {status::BadUserAccessDenied, "the service belongs to another user of this machine", "the same with sudo"});
  const auto end = std::chrono::steady_clock::now() + milliseconds(options.timeout * 1000);
  while (!fs::exists(answer)) {
    if (std::chrono::steady_clock::now() > end)
      return fail({status::BadTimeout, fmt::format("the service did not answer within {:.3g} s", options.timeout), {}});
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  std::ifstream file(answer);
  const Json told = Json::parse(file, nullptr, false);
  if (options.format == Format::Json) {
    std::printf("%s\n", told.dump(2).c_str());
  } else if (told.value("applied", false)) {
    if (!options.quiet)
      std::printf("applied: %d nodes added, %d removed, %d changed\n", told.value("added", 0), told.value("removed", 0),
                  told.value("changed", 0));
  } else {
    for (const auto& line : told.value("findings", Json::array()))
      std::fprintf(stderr, "%s\n", line.get<std::string>().c_str());
    std::fprintf(stderr, "zunth: nothing was applied: what runs goes on as it was\n");
  }
  return told.value("applied", false) ? kDone : kNo;
}

}  // namespace

void addApply(Program program) {
  auto site = std::make_shared<std::string>();
  auto onlyShow = std::make_shared<bool>(false);
  const auto verb = addLocalVerb(program, program.top, "apply",
                                 "Bring a running service to what its folder says, without dropping its clients.",
                                 "zunth apply --site my-plant --dry-run", *site);
  verb.flag("--dry-run", *onlyShow, "Only show what differs between what is saved and what runs");
  verb.runs([program, site, onlyShow] { program.exitCode = applySite(program.options, *site, *onlyShow); });
}

}  // namespace zunth::cli
