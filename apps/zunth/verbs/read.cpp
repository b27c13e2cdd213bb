#include "apps/zunth/nodes.hpp"
#include "core/ua/json.hpp"

namespace zunth::cli {

using namespace ua;

namespace {

/// The variables that patterns name; objects along the way, as ** finds them, are passed over.
Awaitable<Result<std::vector<Found>>> variablesOf(SessionPtr session, std::vector<std::string> patterns) {
  auto found = co_await findNodes(session, patterns);
  if (!found) co_return found.error();
  std::vector<Found> out;
  for (auto& node : *found)
    if (node.nodeClass == NodeClass::Variable || node.nodeClass == NodeClass::VariableType) out.push_back(node);
  if (out.empty())
    co_return Error{status::BadAttributeIdInvalid, patterns.front() + " is no variable: it has no value",
                    "zunth tree " + found->front().path + " --values"};
  co_return out;
}

Awaitable<int> readValues(SessionPtr session, Options options, std::vector<std::string> patterns, bool registered) {
  auto nodes = co_await variablesOf(session, patterns);
  if (!nodes) co_return fail(nodes.error());
  std::vector<NodeId> ids;
  std::vector<ReadValueId> what;
  for (const auto& node : *nodes) {
    ids.push_back(node.nodeId);
    what.push_back({node.nodeId, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  }
  auto facts = co_await factsOf(session, ids);
  if (!facts) co_return fail(facts.error());
  if (registered) {
    auto own = co_await session->registerNodes(List<NodeId>(ids));
    if (!own) co_return fail(own.error());
    for (std::size_t i = 0; i < std::min(what.size(), own->size()); ++i) what[i].nodeId = (*own)[i];
  }
  auto values = co_await session->read(std::move(what));
  if (!values) co_return fail(values.error());
  Records records({"node", "value", "unit", "status", "time"});
  bool anyBad = false;
  for (std::size_t i = 0; i < nodes->size(); ++i) {
    const auto& value = (*values)[i];
    anyBad |= value.status.isBad();
    const auto time = value.sourceTimestamp.isNull() ? std::string() : localTime(value.sourceTimestamp.time());
    const std::string status(value.status.name());
    records.add(
        {(*nodes)[i].path,
         Cell(value.value.isNull() ? "-" : valueText(value.value, (*facts)[i]), valueJson(value.value, (*facts)[i])),
         (*facts)[i].unit, Cell(coloured(value.status, status), status),
         Cell(dim(time), value.sourceTimestamp.isNull() ? Json() : Json(value.sourceTimestamp.text()))});
  }
  std::fputs(records.text(options.format, isTerminal(), {1}).c_str(), stdout);
  co_return anyBad ? kNo : kDone;
}

}  // namespace

void addRead(Program program) {
  const auto verb =
      addVerb(program, "read", "Read variables: value, unit, status, time.", "zunth read 'Hatchery/Intake/*/pressure'");
  auto patterns = std::make_shared<std::vector<std::string>>();
  verb.option("NODE", *patterns, "Paths (with * and **) or NodeIds").required();
  auto registered = std::make_shared<bool>(false);
  verb.flag("--registered", *registered, "Register the nodes first, as clients do that read them often");
  verb.runs([program, patterns, registered] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return readValues(session, program.options, *patterns, *registered);
    });
  });
}

}  // namespace zunth::cli
