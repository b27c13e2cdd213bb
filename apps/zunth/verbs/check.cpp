#include "apps/zunth/command.hpp"
#include "service/admin/site.hpp"

#include <filesystem>

#include <fmt/format.h>

namespace zunth::cli {

namespace {

int checkSite(const Options& options, const std::string& folder) {
  const bool isFile = std::filesystem::is_regular_file(folder);
  const auto site = isFile ? admin::loadModel(folder) : admin::loadSite(folder);
  const auto& findings = site.findings.list();
  if (options.format == Format::Table) {
    for (const auto& text : site.report()) std::printf("%s\n", text.c_str());
    if (site.isSound() && !options.quiet)
      std::printf("%s is sound: %zu nodes, %zu devices, %zu bindings\n", folder.c_str(), site.space->size(),
                  site.devices.size(), site.bindings.variables.size() + site.bindings.methods.size());
  } else {
    Records records({"file", "line", "column", "length", "severity", "message", "hint"});
    for (const auto& f : findings) {
      auto number = [](std::size_t n) { return Cell(std::to_string(n), n); };
      records.add({f.place.file, number(f.place.line), number(f.place.column), number(f.place.length),
                   f.severity == model::Finding::Severity::Error ? "error" : "warning", f.message, f.hint});
    }
    std::fputs(records.text(options.format, false).c_str(), stdout);
  }
  return site.isSound() ? kDone : kNo;
}

}  // namespace

void addCheck(Program program) {
  const auto verb = addVerb(program, "check", "Check a site's files: every mistake at once, with its line.",
                            "zunth check demo/hatchery");
  auto folder = std::make_shared<std::string>(".");
  verb.option("SITE", *folder, "The site's folder, or one model file; this folder when left out");
  verb.runs([program, folder] { program.exitCode = checkSite(program.options, *folder); });
}

}  // namespace zunth::cli
