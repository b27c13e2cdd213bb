#include "apps/zunth/model_source.hpp"
#include "core/model/diagram.hpp"
#include "core/model/document_page.hpp"
#include "core/model/language_writer.hpp"
#include "core/model/nodeset.hpp"
#include "core/model/outline.hpp"
#include "core/model/table.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"

#include <filesystem>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

using Files = std::vector<std::pair<std::string, std::string>>;  // names and texts

/// "plant.yaml", and "plant-2.yaml" for a second namespace: a file of the language holds one.
Files languageFiles(const ModelSource& model, const std::string& to) {
  Files files;
  for (const auto ns : model.namespaces()) {
    const auto path = fs::path(to);
    const std::string name = files.empty()
                                 ? to
                                 : (path.parent_path() / fmt::format("{}-{}{}", path.stem().string(), files.size() + 1,
                                                                     path.extension().string()))
                                       .string();
    files.emplace_back(name, model::writeModel(*model.space, ns));
  }
  return files;
}

/// Writes the files of one command and tells of them.
int writeAll(const Options& options, const ModelSource& model, const Files& files) {
  Json told = Json::array();
  for (const auto& [name, text] : files) {
    if (!writeFile(name, text)) return kServerError;
    told.push_back({{"file", name}, {"octets", text.size()}});
  }
  if (isStructured(options.format)) {
    std::fputs(document(Json{{"nodes", model.nodes()}, {"files", told}}, options.format).c_str(), stdout);
  } else if (!options.quiet) {
    std::printf("wrote %zu nodes to %s\n", model.nodes(), files.front().first.c_str());
    for (std::size_t i = 1; i < files.size(); ++i) std::printf("  and %s\n", files[i].first.c_str());
  }
  return kDone;
}

int convert(const Options& options, const std::string& from, const std::string& to) {
  const std::string kind = fs::path(to).extension().string();
  if (kind != ".xml" && kind != ".yaml" && kind != ".csv")
    return wrongUse(fmt::format("'{}' is no file to convert to", to),
                    "NAME.xml for NodeSet2, NAME.yaml for the language, NAME.csv for a table of the variables");
  const auto model = modelFrom(options, from, kind != ".xml");
  if (!model.space) return model.exitCode;
  Files files;
  if (kind == ".yaml")
    files = languageFiles(model, to);
  else
    files.emplace_back(to, kind == ".xml" ? model::writeNodeSet(*model.space, model.namespaces())
                                          : model::writeTable(*model.space, model.namespaces()));
  if (files.empty()) return fail({status::BadNotFound, from + " has no model of its own", {}});
  return writeAll(options, model, files);
}

int draw(const Options& options, const std::string& from, const std::string& to, const std::string& path,
         std::size_t most) {
  if (fs::path(to).extension() != ".svg") return wrongUse(fmt::format("'{}' is no drawing", to), "name it NAME.svg");
  const auto model = modelFrom(options, from);
  if (!model.space) return model.exitCode;
  const auto root = nodeIn(*model.space, path);
  if (root == space::kNoNode) return kNo;
  const fs::path folder = fs::path(to).parent_path();
  Files files;
  for (auto& [name, svg] : model::drawAll(*model.space, root, fs::path(to).filename().string(), {most}))
    files.emplace_back((folder / name).string(), std::move(svg));
  // The plant's own comes first, whatever the others are called.
  std::ranges::stable_partition(
      files, [&](const auto& file) { return file.first == (folder / fs::path(to).filename()).string(); });
  return writeAll(options, model, files);
}

int document(const Options& options, const std::string& from, const std::string& to) {
  if (fs::path(to).extension() != ".html") return wrongUse(fmt::format("'{}' is no page", to), "name it NAME.html");
  const auto model = modelFrom(options, from);
  if (!model.space) return model.exitCode;
  const std::string title = fs::path(from).filename().string();
  return writeAll(options, model, {{to, model::writePage(*model.space, title.empty() ? from : title)}});
}

int showOutline(const Options& options, const std::string& from, const std::string& path,
                const model::OutlineOptions& wanted) {
  const auto model = modelFrom(options, from);
  if (!model.space) return model.exitCode;
  const auto& space = *model.space;
  const auto root = nodeIn(space, path);
  if (root == space::kNoNode) return kNo;
  const bool isTable = options.format == Format::Table;
  Records records(
      isTable ? std::vector<std::string>{"name", "type", "unit", "range", "access", "initial"}
              : std::vector<std::string>{"path", "type", "unit", "range", "access", "initial", "about", "nodeId"});
  const auto types = space::typeCatalog(space);
  for (const auto& row : model::outline(space, root, wanted)) {
    const auto facts = model::factsOf(space, row.node, &types);
    if (!isTable) {
      records.add({space.path(row.node), facts.type, facts.unit, facts.range, facts.access, facts.value, facts.about,
                   space.nodeId(row.node).text()});
      continue;
    }
    const std::string value =
        facts.value.size() > 28 && facts.type != model::kAlarmType ? facts.value.substr(0, 25) + "..." : facts.value;
    const bool isObject = space.nodeClass(row.node) == NodeClass::Object;
    records.add({dim(row.lead) + (isObject ? bold(facts.name) : facts.name) +
                     (row.hidden ? dim(fmt::format("  +{}", row.hidden)) : ""),
                 dim(facts.type), facts.unit, facts.range, facts.access, value});
  }
  if (records.empty() && isTable) {
    std::printf("nothing %s\n",
                wanted.filter.empty() ? "is there" : fmt::format("matches '{}'", wanted.filter).c_str());
    return kNo;
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

constexpr const char* kFrom = "A site's folder, a model file (*.yaml, *.xml, *.csv), or a server's URL or saved name";

}  // namespace

void addConvert(Program program) {
  auto from = std::make_shared<std::string>(), to = std::make_shared<std::string>();
  const auto verb = addVerb(program, "convert", "Write a model in another form: NodeSet2, the language, a table.",
                            "zunth convert opc.tcp://10.0.0.7:4840 plant.yaml");
  verb.option("FROM", *from, kFrom).required();
  verb.option("FILE", *to, "What to write: NAME.xml (NodeSet2), NAME.yaml, or NAME.csv (variables)").required();
  verb.runs([program, from, to] { program.exitCode = convert(program.options, *from, *to); });
}

void addDraw(Program program) {
  struct Wish {
    std::string from, to, path;
    std::size_t most = 200;
  };
  auto wish = std::make_shared<Wish>();
  const auto verb = addVerb(program, "draw", "Draw a model as SVG: the plant, and the types beside it.",
                            "zunth draw demo/hatchery hatchery.svg");
  verb.option("FROM", wish->from, kFrom).required();
  verb.option("FILE", wish->to, "NAME.svg; types go to NAME-types.svg, large subtrees to files of their own")
      .required();
  verb.option("PATH", wish->path, "Where to begin, or a type; Objects when left out");
  verb.option("--most", wish->most, "Cards in one drawing; larger subtrees are drawn apart")
      .showsDefault()
      .range(10, 100000);
  verb.runs(
      [program, wish] { program.exitCode = draw(program.options, wish->from, wish->to, wish->path, wish->most); });
}

void addDocument(Program program) {
  auto from = std::make_shared<std::string>(), to = std::make_shared<std::string>();
  const auto verb = addVerb(program, "document", "Write a page of documentation for a model: one HTML file.",
                            "zunth document demo/hatchery hatchery.html");
  verb.option("FROM", *from, kFrom).required();
  verb.option("FILE", *to, "NAME.html").required();
  verb.runs([program, from, to] { program.exitCode = document(program.options, *from, *to); });
}

void addOutline(Program program) {
  struct Wish {
    std::string from = ".", path;
    model::OutlineOptions options;
  };
  auto wish = std::make_shared<Wish>();
  const auto verb =
      addVerb(program, "outline", "Show a model as a tree, without a server: types, units, ranges, access.",
              "zunth outline demo/hatchery --depth 3 --filter kPa");
  verb.option("FROM", wish->from, kFrom);
  verb.option("PATH", wish->path, "Where to begin; Objects when left out");
  verb.option("--depth", wish->options.depth, "Levels to show").range(1, 100);
  verb.option("--filter", wish->options.filter, "Only what has this in its name, type, unit or description")
      .called("TEXT");
  verb.runs(
      [program, wish] { program.exitCode = showOutline(program.options, wish->from, wish->path, wish->options); });
}

}  // namespace zunth::cli
