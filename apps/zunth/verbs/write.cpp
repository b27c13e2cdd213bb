#include "apps/zunth/nodes.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct Assignment {
  std::string node, value;
};

/// "PATH=VALUE" or "ns=2;s=ID=VALUE": a NodeId brings an equals sign of its own.
std::optional<Assignment> assignmentOf(const std::string& text) {
  std::size_t from = 0;
  if (text.starts_with("ns=")) from = std::min(text.find(';'), text.size());
  if (from && from < text.size()) ++from;
  if (text.size() > from + 2 && text[from + 1] == '=' && std::string("isgb").find(text[from]) != std::string::npos)
    from += 2;
  const auto equals = text.find('=', from);
  if (equals == std::string::npos || equals == 0) return std::nullopt;
  return Assignment{text.substr(0, equals), text.substr(equals + 1)};
}

/// With a mistake in any of them nothing is written; then each is told.
Awaitable<int> writeValues(SessionPtr session, Options options, std::vector<Assignment> assignments) {
  NodeFinder finder(session);
  std::vector<Found> nodes;
  std::vector<NodeId> ids;
  for (const auto& [path, typed] : assignments) {
    auto node = co_await finder.findOne(path);
    if (!node) co_return fail(node.error());
    if (node->nodeClass != NodeClass::Variable)
      co_return fail({status::BadAttributeIdInvalid, path + " is no variable: it has no value", "zunth tree " + path});
    ids.push_back(node->nodeId);
    nodes.push_back(std::move(*node));
  }
  auto facts = co_await factsOf(session, ids);
  if (!facts) co_return fail(facts.error());
  std::vector<std::pair<NodeId, Variant>> values;
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    auto value = typedValue(assignments[i].value, (*facts)[i]);
    if (!value) {
      Error error = value.error();
      error.cause = fmt::format("{} takes {}: {}", assignments[i].node, (*facts)[i].dataTypeName, error.cause);
      co_return fail(error);
    }
    values.emplace_back(nodes[i].nodeId, std::move(*value));
  }
  const auto asked = values;
  auto outcomes = co_await session->write(std::move(values));
  if (!outcomes) co_return fail(outcomes.error());
  Records records({"node", "value", "unit", "status"});
  int code = kDone;
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    const auto& own = (*facts)[i];
    const auto& path = assignments[i].node;
    const std::string text = valueText(asked[i].second, own);
    Error error = (*outcomes)[i].error;
    if (error.code.isBad()) {
      if (error.cause.empty()) error.cause = fmt::format("{} did not take {}", path, text);
      if (error.code == status::BadNotWritable)
        error.next = fmt::format("zunth tree {}, which marks what is writable", path.substr(0, path.rfind('/')));
      code = fail(error);
      continue;
    }
    records.add({nodes[i].path, Cell(text, valueJson(asked[i].second, own)), own.unit, std::string(error.code.name())});
  }
  if (!options.quiet && !records.empty()) std::fputs(records.text(options.format, isTerminal(), {1}).c_str(), stdout);
  co_return code;
}

}  // namespace

void addWrite(Program program) {
  const auto verb = addVerb(program, "write", "Write variables. Types are looked up, nobody states them.",
                            "zunth write Hatchery/Intake/DF1/speedGoal=25");
  auto texts = std::make_shared<std::vector<std::string>>();
  verb.option("NODE=VALUE", *texts, "What to write; arrays as [1, 2, 3], enumerations by name").required();
  verb.runs([program, texts] {
    std::vector<Assignment> assignments;
    for (const auto& text : *texts) {
      auto assignment = assignmentOf(text);
      if (!assignment) {
        program.exitCode =
            wrongUse(fmt::format("'{}' says nothing to write", text), fmt::format("zunth write {}=VALUE", text));
        return;
      }
      assignments.push_back(std::move(*assignment));
    }
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return writeValues(session, program.options, assignments);
    });
  });
}

}  // namespace zunth::cli
