#include "core/model/document_page.hpp"

#include "core/model/diagram.hpp"
#include "core/model/markup.hpp"
#include "core/model/outline.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr const char* kStyle = R"(
body { margin: 0; font: 15px/1.5 'DejaVu Sans', Verdana, sans-serif; color: #16252c; background: #fbfaf5; }
header { background: #1f4e53; color: #fbfaf5; padding: 22px 40px 18px; }
header h1 { margin: 0; font-size: 25px; } header p { margin: 4px 0 0; color: #c9dcda; font-size: 13px; }
main { padding: 10px 40px 60px; max-width: 1220px; }
nav { font-size: 13px; margin: 14px 0; } nav a { margin-right: 18px; }
a { color: #1f7a78; text-decoration: none; } a:hover { text-decoration: underline; }
h2 { font-size: 19px; margin: 34px 0 8px; border-bottom: 2px solid #d5dcd8; padding-bottom: 4px; }
h3 { font-size: 16px; margin: 28px 0 2px; color: #7a4b6d; } h3 small { color: #5b6e75; font-weight: normal; }
p.about { margin: 2px 0 8px; } figure { margin: 10px 0; overflow-x: auto; border: 1px solid #d5dcd8; }
table { border-collapse: collapse; width: 100%; font-size: 13.5px; background: #fff; }
th { text-align: left; font-weight: normal; color: #5b6e75; border-bottom: 1px solid #a9b8bc; padding: 4px 10px 4px 6px; }
td { padding: 3px 10px 3px 6px; border-bottom: 1px solid #e8ece8; vertical-align: top; }
td.tree { white-space: pre; font-family: 'DejaVu Sans Mono', monospace; font-size: 13px; }
td.tree i { color: #a9b8bc; font-style: normal; } .object { font-weight: bold; } .dim { color: #5b6e75; }
input { font: inherit; padding: 4px 8px; width: 320px; border: 1px solid #a9b8bc; border-radius: 3px; background: #fff; }
)";

/// Hides the rows of the tree that don't hold what is typed; what they are in stays.
constexpr const char* kScript = R"(
const box = document.getElementById('find'), rows = [...document.querySelectorAll('#tree tbody tr')];
box.addEventListener('input', () => {
  const wanted = box.value.toLowerCase(), shown = new Set();
  rows.forEach((row, i) => {
    if (!row.textContent.toLowerCase().includes(wanted)) return;
    shown.add(i);
    let depth = +row.dataset.depth;
    for (let j = i - 1; j >= 0 && depth > 0; --j)
      if (+rows[j].dataset.depth < depth) { shown.add(j); depth = +rows[j].dataset.depth; }
  });
  rows.forEach((row, i) => row.hidden = !shown.has(i));
});
)";

class PageWriter {
 public:
  explicit PageWriter(const Space& space) : space_(space) {}

  std::string write(const std::string& title) {
    out_ = fmt::format(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta "
        "charset=\"utf-8\">\n<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n",
        escaped(title), kStyle);
    writeHeader(title);
    out_ += "<main>\n<nav><a href=\"#plant\">Plant</a><a href=\"#drawing\">Drawing</a><a href=\"#types\">Types</a>";
    out_ += "<a href=\"#data\">Data types</a></nav>\n";
    writeTree();
    writeDrawings();
    writeTypes();
    writeDataTypes();
    out_ += fmt::format("</main>\n<script>{}</script>\n</body>\n</html>\n", kScript);
    return std::move(out_);
  }

 private:
  void writeHeader(const std::string& title) {
    out_ += fmt::format("<header>\n<h1>{}</h1>\n", escaped(title));
    for (std::size_t ns = 2; ns < space_.namespaces().size(); ++ns) {
      const auto& info = space_.modelInfo(static_cast<std::uint16_t>(ns));
      out_ += fmt::format("<p>{}{}{}</p>\n", escaped(space_.namespaces()[ns].view()),
                          info.version.empty() ? "" : " · version " + escaped(info.version.view()),
                          info.published.isNull() ? "" : " · published " + info.published.text().substr(0, 10));
    }
    out_ += "</header>\n";
  }

  /// A type's name, leading to its table when it is one of the models'.
  std::string linkTo(NodeIndex type, const std::string& words) const {
    if (type == kNoNode || space_.nodeId(type).namespaceIndex() < 2) return escaped(words);
    return fmt::format("<a href=\"#type-{}\">{}</a>", escaped(space_.name(type)), escaped(words));
  }
  NodeIndex typeOf(NodeIndex node) const {
    const NodeIndex definition = space_.typeDefinition(node);
    if (space_.nodeClass(node) != NodeClass::Variable ||
        (definition != kNoNode && space_.nodeId(definition).namespaceIndex() >= 2))
      return definition;
    return space_.traits(node).dataType;
  }

  /// An alarm by its words, before what else is said of it.
  static std::string aboutOf(const NodeFacts& facts) {
    if (facts.type != kAlarmType) return facts.about;
    return facts.value + (facts.about.empty() ? "" : ": " + facts.about);
  }

  void factCells(NodeIndex node) {
    const auto facts = factsOf(space_, node);
    const bool isMethod = space_.nodeClass(node) == NodeClass::Method;
    out_ += fmt::format(
        "<td>{}</td><td>{}</td><td>{}</td><td class=\"dim\">{}</td><td>{}</td>",
        isMethod ? "<span class=\"dim\">" + escaped(facts.type) + "</span>" : linkTo(typeOf(node), facts.type),
        escaped(facts.unit), escaped(facts.range), escaped(facts.access), escaped(aboutOf(facts)));
  }

  void writeTree() {
    out_ += "<h2 id=\"plant\">Plant</h2>\n<p><input id=\"find\" placeholder=\"Find a name, type or unit\"></p>\n";
    out_ +=
        "<table id=\"tree\"><thead><tr><th>Name<th>Type<th>Unit<th>Range<th>Access<th>About</tr></thead>\n<tbody>\n";
    for (const auto& row : outline(space_, space_.at(id::ObjectsFolder), {})) {
      const auto letters = std::ranges::count_if(row.lead, [](unsigned char c) { return (c & 0xC0) != 0x80; });
      const bool isObject = space_.nodeClass(row.node) == NodeClass::Object;
      out_ += fmt::format("<tr data-depth=\"{}\"><td class=\"tree\"><i>{}</i><span class=\"{}\">{}</span></td>",
                          letters / 3 - 1, row.lead, isObject ? "object" : "", escaped(space_.name(row.node)));
      factCells(row.node);
      out_ += "</tr>\n";
    }
    out_ += "</tbody></table>\n";
  }

  void writeDrawings() {
    out_ += "<h2 id=\"drawing\">Drawing</h2>\n";
    // A page shows what fits on it; larger plants are drawn in files of their own.
    const auto plant = drawInstances(space_, space_.at(id::ObjectsFolder), {});
    if (plant.cards) out_ += "<figure>" + plant.svg + "</figure>\n";
    const auto types = drawTypes(space_, {});
    if (types.cards) out_ += "<figure>" + types.svg + "</figure>\n";
  }

  void heading(NodeIndex type) {
    const NodeIndex super = space_.supertype(type);
    out_ += fmt::format("<h3 id=\"type-{0}\">{0} <small>{1}{2}{3}</small></h3>\n", escaped(space_.name(type)),
                        super == kNoNode ? "" : "extends ",
                        super == kNoNode ? "" : linkTo(super, std::string(space_.name(super))),
                        space_.isAbstract(type) ? ", abstract" : "");
    if (const auto about = space_.description(type); !about.text.empty())
      out_ += "<p class=\"about\">" + escaped(about.text.view()) + "</p>\n";
  }

  void writeTypes() {
    out_ += "<h2 id=\"types\">Types</h2>\n";
    for (const auto nodeClass : {NodeClass::ObjectType, NodeClass::VariableType, NodeClass::ReferenceType})
      for (const NodeIndex type : typesOf(space_, nodeClass)) {
        heading(type);
        const auto members = membersOf(space_, type);
        if (members.empty()) continue;
        out_ += "<table><tr><th>Member<th>Type<th>Unit<th>Range<th>Access<th>About<th>Rule</tr>\n";
        for (const NodeIndex member : members) {
          out_ += "<tr><td>" + escaped(space_.name(member)) + "</td>";
          factCells(member);
          const std::string rule = modellingRule(space_, member);
          out_ += fmt::format("<td class=\"dim\">{}</td></tr>\n", rule == "Mandatory" ? "" : escaped(rule));
        }
        out_ += "</table>\n";
      }
  }

  void writeDataTypes() {
    const auto types = typesOf(space_, NodeClass::DataType);
    if (types.empty()) return;
    out_ += "<h2 id=\"data\">Data types</h2>\n";
    for (const NodeIndex type : types) {
      heading(type);
      const auto* rare = space_.rare(type);
      if (!rare || rare->typeDefinition.isNull()) continue;
      if (rare->typeDefinition.is<EnumDefinition>()) {
        out_ += "<table><tr><th>Value<th>Name<th>About</tr>\n";
        if (auto members = rare->typeDefinition.as<EnumDefinition>())
          for (const auto& field : members->fields)
            out_ += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td></tr>\n", field.value, escaped(field.name.view()),
                                escaped(field.description.text.view()));
      } else {
        out_ += "<table><tr><th>Field<th>Type<th>About</tr>\n";
        if (auto structure = rare->typeDefinition.as<StructureDefinition>())
          for (const auto& field : structure->fields) {
            const NodeIndex fieldType = space_.find(field.dataType);
            const std::string name = fieldType == kNoNode ? field.dataType.text() : std::string(space_.name(fieldType));
            out_ += fmt::format("<tr><td>{}{}</td><td>{}{}</td><td>{}</td></tr>\n", escaped(field.name.view()),
                                field.isOptional ? "?" : "", linkTo(fieldType, name), field.valueRank >= 1 ? "[]" : "",
                                escaped(field.description.text.view()));
          }
      }
      out_ += "</table>\n";
    }
  }

  const Space& space_;
  std::string out_;
};

}  // namespace

std::string writePage(const Space& space, const std::string& title) { return PageWriter(space).write(title); }

}  // namespace zunth::model
