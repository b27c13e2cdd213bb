#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <array>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct QueryOptions {
  std::string type;
  std::vector<std::string> where;
  std::vector<std::string> show;
};

struct Comparison {
  std::string name;
  FilterOperator op;
  std::string value;
};

/// "pressure > 30", "name like DF%".
Result<Comparison> comparisonOf(const std::string& text) {
  static const std::array<std::pair<std::string_view, FilterOperator>, 7> operators{{
      {">=", FilterOperator::GreaterThanOrEqual},
      {"<=", FilterOperator::LessThanOrEqual},
      {"==", FilterOperator::Equals},
      {">", FilterOperator::GreaterThan},
      {"<", FilterOperator::LessThan},
      {"=", FilterOperator::Equals},
      {" like ", FilterOperator::Like},
  }};
  for (const auto& [sign, op] : operators) {
    const auto at = text.find(sign);
    if (at == std::string::npos || at == 0) continue;
    auto trimmed = [](std::string s) {
      s.erase(0, s.find_first_not_of(' '));
      s.erase(s.find_last_not_of(' ') + 1);
      return s;
    };
    return Comparison{trimmed(text.substr(0, at)), op, trimmed(text.substr(at + sign.size()))};
  }
  return Error{status::BadSyntaxError, fmt::format("'{}' is no condition", text), "--where 'pressure > 30'"};
}

/// The child of a type that a name stands for, with its qualified name.
Awaitable<Result<RelativePath>> pathInType(SessionPtr session, NodeId type, std::string name) {
  RelativePath out;
  std::vector<std::string> names;
  for (NodeId at = type; !at.isNull();) {
    BrowseDescription down{at, BrowseDirection::Forward, id::HierarchicalReferences, true, 0, 63};
    auto children = co_await session->browse(down);
    if (!children) co_return children.error();
    for (const auto& child : *children) {
      names.push_back(child.browseName.name.str());
      if (child.browseName.name.view() != name) continue;
      out.elements.push_back({id::HierarchicalReferences, false, true, child.browseName});
      co_return out;
    }
    BrowseDescription up{at, BrowseDirection::Inverse, id::HasSubtype, false, 0, 63};
    auto above = co_await session->browse(up);
    if (!above) co_return above.error();
    at = above->empty() ? NodeId() : above->front().nodeId.nodeId;
  }
  const auto near = nearest(name, names);
  co_return Error{status::BadNoMatch, fmt::format("the type has no child '{}'", name), near};
}

Variant literalOf(const std::string& text) {
  if (auto number = parse(text, BuiltInType::Double)) return *number;
  if (text == "true" || text == "false") return Variant(text == "true");
  return String(text);
}

Awaitable<int> runQuery(SessionPtr session, Options options, QueryOptions asked) {
  std::vector<NodeId> roots{id::ObjectTypesFolder, id::VariableTypesFolder};
  auto found = co_await findType(session, asked.type, std::move(roots));
  if (!found) co_return fail(found.error());
  const NodeId type = found->nodeId;
  QueryFirstRequest request;
  NodeTypeDescription description;
  description.typeDefinitionNode = type;
  description.includeSubTypes = true;
  std::vector<std::string> columns{"node"};
  for (const auto& name : asked.show) {
    auto path = co_await pathInType(session, type, name);
    if (!path) co_return fail(path.error());
    description.dataToReturn.push_back({*path, static_cast<std::uint32_t>(AttributeId::Value), {}});
    columns.push_back(name);
  }
  request.nodeTypes.push_back(std::move(description));
  // All conditions joined: And(1, 2) where 2 is And(3, 4) and so on.
  std::vector<ContentFilterElement> conditions;
  for (const auto& text : asked.where) {
    auto condition = comparisonOf(text);
    if (!condition) co_return fail(condition.error());
    auto path = co_await pathInType(session, type, condition->name);
    if (!path) co_return fail(path.error());
    AttributeOperand operand;
    operand.nodeId = type;
    operand.browsePath = *path;
    operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
    ContentFilterElement element;
    element.filterOperator = condition->op;
    element.filterOperands.push_back(ExtensionObject::of(operand));
    element.filterOperands.push_back(ExtensionObject::of(LiteralOperand{literalOf(condition->value)}));
    conditions.push_back(std::move(element));
  }
  for (std::size_t i = 0; i + 1 < conditions.size(); ++i) {
    const auto at = static_cast<std::uint32_t>(request.filter.elements.size());
    ContentFilterElement both;
    both.filterOperator = FilterOperator::And;
    both.filterOperands.push_back(ExtensionObject::of(ElementOperand{at + 1}));
    both.filterOperands.push_back(ExtensionObject::of(ElementOperand{at + 2}));
    request.filter.elements.push_back(std::move(both));
    request.filter.elements.push_back(conditions[i]);
  }
  if (!conditions.empty()) request.filter.elements.push_back(conditions.back());

  auto sets = co_await session->query(std::move(request));
  if (!sets) co_return fail(sets.error());
  Records records(columns);
  for (const auto& set : *sets) {
    std::vector<Cell> row{set.nodeId.text()};
    for (const auto& value : set.values) row.push_back(Cell(value.isNull() ? "-" : format(value), toJson(value)));
    records.add(std::move(row));
  }
  if (!records.empty()) std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (records.empty() && !options.quiet) std::fprintf(stderr, "zunth: nothing of that kind was found\n");
  co_return records.empty() ? kNo : kDone;
}

}  // namespace

void addQuery(Program program) {
  const auto verb = addVerb(program, "query", "Find instances of a type, by their values if you like.",
                            "zunth query DrumFilter --where 'pressure > 30' --show pressure,speed");
  auto asked = std::make_shared<QueryOptions>();
  verb.option("TYPE", asked->type, "A type's name or NodeId").required();
  verb.option("--where", asked->where, "A condition on a child's value: > < >= <= = like; repeat for more");
  verb.option("--show", asked->show, "Children whose values to show").splitAt(',');
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return runQuery(session, program.options, *asked);
    });
  });
}

}  // namespace zunth::cli
