#include "apps/zunth/verbs/diff.hpp"

#include "apps/zunth/model_source.hpp"
#include "core/model/difference.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using model::Change;

int showDifference(const Options& options, const std::string& a, const std::string& b) {
  const auto before = modelFrom(options, a), after = modelFrom(options, b);
  if (!before.space || !after.space) return before.space ? after.exitCode : before.exitCode;
  const bool anyServer = before.isServer || after.isServer;
  const auto changes = model::compare(*before.space, *after.space, {!anyServer, !anyServer, !anyServer});
  if (changes.empty() && options.format == Format::Table) {
    if (!options.quiet) std::printf("%s and %s are the same\n", a.c_str(), b.c_str());
    return kDone;
  }
  static const char* const kinds[] = {"added", "removed", "changed", "renamed"};
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
  const auto verb = addVerb(program, "diff", "What differs between two models, and whether clients would notice.",
                            "zunth diff my-plant opc.tcp://10.0.0.7:4840\nEnds with 1 when they differ.");
  verb.option("BEFORE", *a, "A site's folder, a model file, or a server's URL or saved name").required();
  verb.option("AFTER", *b, "What to compare it with").required();
  verb.runs([program, a, b] { program.exitCode = showDifference(program.options, *a, *b); });
}

}  // namespace zunth::cli
