#include "apps/zunth/command.hpp"
#include "service/admin/site.hpp"

#include <filesystem>
#include <fstream>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

/// Writes what a site's model adds to the standard.
int convert(const Options& options, const std::string& from, const std::string& to) {
  if (fs::path(to).extension() != ".xml")
    return wrongUse(fmt::format("'{}' is no file to convert to", to), "a NodeSet2 file: NAME.xml");
  auto site = admin::loadSite(from);
  for (const auto& line : site.report()) std::fprintf(stderr, "%s\n", line.c_str());
  if (!site.isSound()) return kNo;
  std::vector<std::uint16_t> namespaces;
  for (std::size_t i = 2; i < site.space->namespaces().size(); ++i) namespaces.push_back(static_cast<std::uint16_t>(i));
  const std::string text = model::writeNodeSet(*site.space, namespaces);
  std::ofstream out(to, std::ios::binary);
  out << text;
  out.close();
  if (!out) return fail({status::BadConfigurationError, to + " can't be written", {}});
  std::size_t nodes = 0;
  for (space::NodeIndex node = 0; node < site.space->rows(); ++node)
    nodes += site.space->exists(node) && site.space->nodeId(node).namespaceIndex() >= 2;
  if (options.format == Format::Json)
    std::printf("%s\n", Json{{"file", to}, {"nodes", nodes}, {"octets", text.size()}}.dump(2).c_str());
  else if (!options.quiet)
    std::printf("wrote %zu nodes to %s\n", nodes, to.c_str());
  return kDone;
}

}  // namespace

void addConvert(Program program) {
  auto from = std::make_shared<std::string>(), to = std::make_shared<std::string>();
  auto* verb = program.app.add_subcommand("convert", "Write a site's model in another form: NodeSet2.");
  verb->footer("Example: zunth convert my-plant plant.xml");
  verb->add_option("SITE", *from, "A site's folder")->required();
  verb->add_option("FILE", *to, "What to write: NAME.xml for NodeSet2")->required();
  addOutput(verb, program.options);
  verb->callback([program, from, to] { program.exitCode = convert(program.options, *from, *to); });
}

}  // namespace zunth::cli
