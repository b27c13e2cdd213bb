#include "apps/zunth/model_source.hpp"

#include <filesystem>

#include <fmt/format.h>

namespace zunth::cli {

namespace {

struct Schema {
  const char* kind;
  const char* text;
};
constexpr Schema kSchemas[] = {
#include "apps/zunth/schema_rows.inc"
};

int writeSchemas(const Options& options, const std::string& kind, const std::string& folder) {
  bool any = false;
  for (const auto& schema : kSchemas) {
    if (!kind.empty() && kind != schema.kind) continue;
    any = true;
    if (folder.empty()) {
      std::fputs(schema.text, stdout);
      continue;
    }
    const auto file = std::filesystem::path(folder) / fmt::format("{}.json", schema.kind);
    std::error_code ignored;
    std::filesystem::create_directories(folder, ignored);
    if (!writeFile(file.string(), schema.text)) return kServerError;
    if (!options.quiet) std::printf("wrote %s\n", file.c_str());
  }
  return any ? kDone : wrongUse(fmt::format("there is no schema '{}'", kind), "model, site, bindings, device or registers");
}

}  // namespace

void addSchema(Program program) {
  auto kind = std::make_shared<std::string>(), folder = std::make_shared<std::string>();
  const auto verb = program.top.verb(
      "schema", "Print the JSON Schema of a site's files, for editors that complete and check while one types.");
  verb.example("zunth schema --into schema");
  verb.option("KIND", *kind, "model, site, bindings, device or registers; all when left out");
  verb.option("--into", *folder, "Write them as files into this folder").called("FOLDER");
  addOutput(verb, program.options);
  verb.runs([program, kind, folder] {
    if (kind->empty() && folder->empty()) *kind = "model";
    program.exitCode = writeSchemas(program.options, *kind, *folder);
  });
}

}  // namespace zunth::cli
