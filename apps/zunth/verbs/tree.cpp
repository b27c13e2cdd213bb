#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"

#include <algorithm>
#include <set>
#include <unordered_map>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct TreeOptions {
  std::string path;
  int depth = 5;
  bool values = false, all = false;
};

/// One line of the tree.
struct Branch {
  Found node;
  std::string lead;  // the lines that lead to it
  std::vector<Branch> children;
};

std::string nameOf(const Found& node) { return node.path.substr(node.path.rfind('/') + 1); }

const char* className(NodeClass nodeClass) {
  switch (nodeClass) {
    case NodeClass::Object: return "Object";
    case NodeClass::Variable: return "Variable";
    case NodeClass::Method: return "Method";
    case NodeClass::ObjectType: return "ObjectType";
    case NodeClass::VariableType: return "VariableType";
    case NodeClass::ReferenceType: return "ReferenceType";
    case NodeClass::DataType: return "DataType";
    case NodeClass::View: return "View";
    default: return "Node";
  }
}

/// Children level by level, one request each.
Awaitable<Result<void>> grow(SessionPtr session, Branch& root, const TreeOptions& options) {
  std::vector<Branch*> level{&root};
  std::set<std::string> seen;
  for (int depth = 0; depth < options.depth && !level.empty(); ++depth) {
    std::vector<Found> parents;
    for (const Branch* branch : level) parents.push_back(branch->node);
    auto lists = co_await childrenOf(session, std::move(parents));
    if (!lists) co_return lists.error();
    std::vector<Branch*> next;
    for (std::size_t i = 0; i < level.size(); ++i) {
      for (auto& child : (*lists)[i]) {
        // Unless asked for, leave out what every server has, and the facts that stand beside a value.
        const bool isServers =
            child.nodeId.namespaceIndex() == 0 &&
            (level[i]->node.nodeClass == NodeClass::Variable || level[i]->node.nodeClass == NodeClass::Method ||
             child.nodeId.is(id::Server) || child.nodeId.is(id::Aliases));
        const std::string name = nameOf(child);
        const bool isFact =
            level[i]->node.nodeClass != NodeClass::Object &&
            (name == "EURange" || name == "EngineeringUnits" || name == "InputArguments" || name == "OutputArguments");
        if (!options.all && (isServers || isFact)) continue;
        if (seen.insert(child.nodeId.text()).second) level[i]->children.push_back({std::move(child), {}, {}});
      }
      for (auto& child : level[i]->children)
        if (options.all || !isAlarm(child.node)) next.push_back(&child);
    }
    level = std::move(next);
  }
  co_return Result<void>();
}

void flatten(Branch& branch, const std::string& before, std::vector<Branch*>& out) {
  for (std::size_t i = 0; i < branch.children.size(); ++i) {
    const bool isLast = i + 1 == branch.children.size();
    Branch& child = branch.children[i];
    child.lead = before + (isLast ? "└─ " : "├─ ");
    out.push_back(&child);
    flatten(child, before + (isLast ? "   " : "│  "), out);
  }
}

Awaitable<Result<std::unordered_map<NodeId, std::string>>> typeNames(SessionPtr session,
                                                                     const std::vector<Branch*>& lines) {
  std::unordered_map<NodeId, std::string> names;
  std::vector<ReadValueId> what;
  for (const Branch* line : lines)
    if (!line->node.typeDefinition.isNull() && names.emplace(line->node.typeDefinition, "").second)
      what.push_back({line->node.typeDefinition, static_cast<std::uint32_t>(AttributeId::BrowseName), {}, {}});
  if (what.empty()) co_return names;
  auto order = what;
  auto values = co_await session->read(std::move(what));
  if (!values) co_return values.error();
  for (std::size_t i = 0; i < order.size(); ++i)
    if (const auto* name = (*values)[i].value.get<QualifiedName>()) names[order[i].nodeId] = name->name.str();
  co_return names;
}

Awaitable<int> showTree(SessionPtr session, Options options, TreeOptions tree) {
  Branch root;
  root.node.nodeId = NodeId(id::ObjectsFolder);
  root.node.nodeClass = NodeClass::Object;
  if (!tree.path.empty()) {
    auto found = co_await findNode(session, tree.path);
    if (!found) co_return fail(found.error());
    root.node = *found;
  }
  auto grown = co_await grow(session, root, tree);
  if (!grown) co_return fail(grown.error());
  std::vector<Branch*> lines;
  flatten(root, "", lines);
  auto types = co_await typeNames(session, lines);
  if (!types) co_return fail(types.error());

  std::vector<NodeId> variables;
  std::unordered_map<NodeId, std::size_t> positions;
  for (const Branch* line : lines)
    if (line->node.nodeClass == NodeClass::Variable) {
      positions[line->node.nodeId] = variables.size();
      variables.push_back(line->node.nodeId);
    }
  std::vector<VariableFacts> facts;
  List<DataValue> values;
  if (!variables.empty()) {
    auto read = co_await factsOf(session, variables);
    if (!read) co_return fail(read.error());
    facts = std::move(*read);
    if (tree.values) {
      std::vector<ReadValueId> what;
      for (const auto& variable : variables)
        what.push_back({variable, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
      auto current = co_await session->read(std::move(what));
      if (!current) co_return fail(current.error());
      values = std::move(*current);
    }
  }

  const bool isTable = options.format == Format::Table;
  std::vector<std::string> columns{"name", "type", "unit", "access"};
  if (!isTable) columns = {"path", "class", "type", "unit", "access", "nodeId"};
  if (tree.values) columns.insert(columns.begin() + (isTable ? 2 : 3), "value");
  Records records(columns);
  for (const Branch* line : lines) {
    const Found& node = line->node;
    std::string type = node.typeDefinition.isNull() ? className(node.nodeClass) : (*types)[node.typeDefinition];
    std::string unit, access, value;
    Json json;
    if (const auto at = positions.find(node.nodeId); at != positions.end()) {
      const auto& own = facts[at->second];
      type = own.dataTypeName + (own.valueRank >= 1 ? "[]" : "");
      unit = own.unit;
      access = own.isWritable() ? "writable" : "";
      if (tree.values) {
        const auto& current = values[at->second];
        value = current.status.isBad() ? coloured(current.status, std::string(current.status.name()))
                                       : valueText(current.value, own);
        json = valueJson(current.value, own);
      }
    }
    std::vector<Cell> row;
    if (isTable) {
      const std::string name = nameOf(node) + (node.nodeClass == NodeClass::Method ? "()" : "");
      row = {dim(line->lead) + (node.nodeClass == NodeClass::Object ? bold(name) : name), dim(type), unit, access};
      if (tree.values) row.insert(row.begin() + 2, Cell(value, json));
    } else {
      row = {node.path, className(node.nodeClass), type, unit, access, node.nodeId.text()};
      if (tree.values) row.insert(row.begin() + 3, Cell(value, json));
    }
    records.add(std::move(row));
  }
  std::fputs(records
                 .text(options.format, isTerminal(),
                       tree.values && isTable ? std::vector<std::size_t>{2} : std::vector<std::size_t>{})
                 .c_str(),
             stdout);
  co_return kDone;
}

}  // namespace

void addTree(Program program) {
  const auto verb = addVerb(program, "tree", "Show the nodes below Objects, or below one node.",
                            "zunth tree Hatchery/Intake --values");
  auto tree = std::make_shared<TreeOptions>();
  verb.option("PATH", tree->path, "Where to begin; Objects when left out");
  verb.option("--depth", tree->depth, "Levels to show").showsDefault().range(1, 100);
  verb.flag("--values", tree->values, "Read the variables, too");
  verb.flag("--all", tree->all,
            "Show the Server object, units, ranges, arguments and the fields of alarms as nodes, too");
  verb.runs([program, tree] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return showTree(session, program.options, *tree);
    });
  });
}

}  // namespace zunth::cli
