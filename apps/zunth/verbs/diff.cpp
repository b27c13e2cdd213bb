#include "apps/zunth/verbs/diff.hpp"

#include "core/model/difference.hpp"
#include "core/space/namespace0.hpp"
#include "service/admin/site.hpp"

#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;
using model::Change;

namespace {

/// A site's folder, or a NodeSet2 file alone. Nothing when it is unsound, which is told.
std::unique_ptr<space::Space> spaceOf(const std::string& from) {
  if (fs::path(from).extension() != ".xml") {
    auto site = admin::loadSite(from);
    for (const auto& line : site.report()) std::fprintf(stderr, "%s\n", line.c_str());
    return site.isSound() ? std::move(site.space) : nullptr;
  }
  std::ifstream file(from, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  if (!file) {
    fail({status::BadSyntaxError, from + " can't be read", {}});
    return nullptr;
  }
  auto space = std::make_unique<space::Space>(String("urn:zunth:compared"));
  space::loadNamespace0(*space);
  model::Findings findings;
  model::readNodeSet(*space, {from, text.str()}, findings);
  for (const auto& finding : findings.list()) std::fprintf(stderr, "%s\n", model::format(finding, text.str()).c_str());
  return findings.hasErrors() ? nullptr : std::move(space);
}

}  // namespace

int showDifference(const Options& options, const std::string& a, const std::string& b) {
  const auto before = spaceOf(a), after = spaceOf(b);
  if (!before || !after) return kWrongUse;
  const auto changes = model::compare(*before, *after);
  if (changes.empty() && options.format == Format::Table) {
    if (!options.quiet) std::printf("%s and %s are the same\n", a.c_str(), b.c_str());
    return kDone;
  }
  static const char* const kinds[] = {"added", "removed", "changed"};
  static const char* const effects[] = {"no", "see it", "may fail"};
  Records records({"change", "node", "what", "before", "after", "clients"});
  const auto shown = [](const std::string& text) {
    return Cell(text.size() > 48 ? text.substr(0, 45) + "..." : text, Json(text));
  };
  for (const auto& change : changes)
    records.add({kinds[static_cast<int>(change.kind)], change.path, change.what, shown(change.before),
                 shown(change.after), effects[static_cast<int>(change.effect)]});
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return changes.empty() ? kDone : kNo;
}

void addDiff(Program program) {
  auto a = std::make_shared<std::string>(), b = std::make_shared<std::string>();
  auto* verb = program.app.add_subcommand("diff", "What differs between two models, and whether clients would notice.");
  verb->footer("Example: zunth diff my-plant my-plant-new\nEnds with 1 when they differ.");
  verb->add_option("BEFORE", *a, "A site's folder, or a NodeSet2 file")->required();
  verb->add_option("AFTER", *b, "A site's folder, or a NodeSet2 file")->required();
  addOutput(verb, program.options);
  verb->callback([program, a, b] { program.exitCode = showDifference(program.options, *a, *b); });
}

}  // namespace zunth::cli
