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

struct Resolved {
  Found node;
  VariableFacts facts;
  Variant value;
};

/// What is meant by a path and a text.
Awaitable<Result<Resolved>> resolve(SessionPtr session, Assignment assignment) {
  const auto& [path, typed] = assignment;
  auto node = co_await findNode(session, path);
  if (!node) co_return node.error();
  if (node->nodeClass != NodeClass::Variable)
    co_return Error{status::BadAttributeIdInvalid, path + " is no variable: it has no value", "zunth tree " + path};
  std::vector<NodeId> one{node->nodeId};
  auto facts = co_await factsOf(session, one);
  if (!facts) co_return facts.error();
  auto value = typedValue(typed, facts->front());
  if (!value) {
    Error error = value.error();
    error.cause = fmt::format("{} takes {}: {}", path, facts->front().dataTypeName, error.cause);
    co_return error;
  }
  co_return Resolved{std::move(*node), std::move(facts->front()), std::move(*value)};
}

/// With a mistake in any of them nothing is written; then each is told.
Awaitable<int> writeValues(SessionPtr session, Options options, std::vector<Assignment> assignments) {
  std::vector<Resolved> all;
  for (const auto& assignment : assignments) {
    auto resolved = co_await resolve(session, assignment);
    if (!resolved) co_return fail(resolved.error());
    all.push_back(std::move(*resolved));
  }
  Records records({"node", "value", "unit", "status"});
  int code = kDone;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const auto& [node, own, value] = all[i];
    const auto& path = assignments[i].node;
    auto outcome = co_await session->write(node.nodeId, value);
    const bool isSent = static_cast<bool>(outcome);
    if (!isSent || outcome->error.code.isBad()) {
      Error error = isSent ? outcome->error : outcome.error();
      if (error.cause.empty()) error.cause = fmt::format("{} did not take {}", path, valueText(value, own));
      if (error.code == status::BadNotWritable)
        error.next = fmt::format("zunth tree {}, which marks what is writable", path.substr(0, path.rfind('/')));
      code = fail(error);
      if (isSent) continue;
      break;  // the connection is gone, and with it whatever is left
    }
    records.add({node.path, Cell(valueText(value, own), valueJson(value, own)), own.unit,
                 std::string(outcome->error.code.name())});
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
