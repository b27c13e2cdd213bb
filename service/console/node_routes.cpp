#include "core/model/diagram.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/console/console.hpp"
#include "service/console/csv.hpp"
#include "service/console/node_pages.hpp"

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

/// What was typed or ticked, as the text that the command line would take.
std::string typedText(const Json& json) { return json.is_string() ? json.get<std::string>() : json.dump(); }

Awaitable<Answer> tellChildren(Console& console, Visit visit) {
  const auto name = visit.request.value("node");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == kNoNode) co_return Answer::of(noNode(console.space(), name));
  const auto from = visit.request.number("from", 0, SIZE_MAX), most = visit.request.number("most", 500, 2'000);
  co_return Answer::of(childrenOf(console.space(), visit.rights(), node, from, std::max<std::size_t>(most, 1)));
}

Awaitable<Answer> tellNode(Console& console, Visit visit) {
  const auto name = visit.request.value("node");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == kNoNode) co_return Answer::of(noNode(console.space(), name));
  co_return Answer::of(pageOf(console.space(), visit.rights(), node));
}

model::Drawing drawingOf(const space::Space& space, NodeIndex node, const model::DiagramOptions& options) {
  if (space.nodeId(node).is(id::TypesFolder)) return model::drawTypes(space, options);
  if (space::isType(space.nodeClass(node))) return model::drawType(space, node, options);
  return model::drawInstances(space, node, options);
}

/// What is below an object, or extends a type, drawn; of few nodes only, as it is done in one go.
Awaitable<Answer> draw(Console& console, Visit visit) {
  constexpr std::size_t kMostNodes = 2'000;
  const auto name = visit.request.value("node");
  const auto& space = console.space();
  const auto node = nodeNamed(space, visit.rights(), name);
  if (node == kNoNode) co_return Answer::of(noNode(space, name));
  model::DiagramOptions options;
  options.mostNodes = kMostNodes;
  options.shows = [&](NodeIndex each) { return space.sees(visit.rights(), each); };
  auto drawing = drawingOf(space, node, options);
  if (drawing.svg.empty())
    co_return Answer::of(Error{status::BadTooManyMatches, fmt::format("more than {} nodes would be in it", kMostNodes),
                               "draw a part of it"});
  Answer answer;
  answer.type = "image/svg+xml";
  answer.body = std::move(drawing.svg);
  co_return answer;
}

/// A slice at a time: others have their turns in between.
Awaitable<Answer> search(Console& console, Visit visit) {
  constexpr std::size_t kRows = 5'000;
  Search search(console.space(), visit.rights(), cut(visit.request.value("words"), 200),
                std::max<std::size_t>(1, visit.request.number("most", 50, 500)));
  while (search.step(kRows)) co_await net::comeBack(console.loops().services());
  co_return Answer::of(Json{{"nodes", search.take()}});
}

struct ReadNodes {
  std::vector<client::Found> nodes;
  std::vector<client::VariableFacts> facts;
  List<DataValue> values;
};

/// The variables that patterns name, with their values.
Awaitable<Result<ReadNodes>> readNodes(std::shared_ptr<client::Session> session, std::vector<std::string> patterns) {
  constexpr std::size_t kMost = 10'000;
  ReadNodes out;
  auto found = co_await client::findNodes(session, patterns);
  if (!found) co_return found.error();
  for (auto& node : *found)
    if (node.nodeClass == NodeClass::Variable) out.nodes.push_back(std::move(node));
  if (out.nodes.size() > kMost)
    co_return Error{status::BadTooManyOperations, fmt::format("that names {} variables", out.nodes.size()),
                    "name fewer than 10,000 at once"};
  if (out.nodes.empty()) co_return Error{status::BadNoMatch, "that names no variable", "zunth tree"};
  std::vector<NodeId> ids;
  std::vector<ReadValueId> what;
  for (const auto& node : out.nodes) {
    ids.push_back(node.nodeId);
    what.push_back({node.nodeId, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  }
  auto facts = co_await client::factsOf(session, ids);
  if (!facts) co_return facts.error();
  out.facts = std::move(*facts);
  auto values = co_await session->read(std::move(what));
  if (!values) co_return values.error();
  out.values = std::move(*values);
  co_return out;
}

Awaitable<Answer> tellValues(Console&, Visit visit) {
  auto read = co_await readNodes(visit.session(), visit.request.values("node"));
  if (!read) co_return Answer::of(read.error());
  Json rows = Json::array();
  for (std::size_t i = 0; i < read->nodes.size(); ++i) {
    const auto& value = read->values[i];
    const auto& facts = read->facts[i];
    const auto time = value.sourceTimestamp.isNull() ? value.serverTimestamp : value.sourceTimestamp;
    const bool isBad = value.status.isBad();
    rows.push_back({{"node", read->nodes[i].path},
                    {"id", read->nodes[i].nodeId.text()},
                    {"value", isBad ? Json() : client::valueJson(value.value, facts)},
                    {"text", isBad ? std::string() : client::valueText(value.value, facts)},
                    {"unit", facts.unit},
                    {"status", std::string(value.status.name())},
                    {"time", time.isNull() ? Json() : Json(time.text())}});
  }
  co_return visit.request.value("format") == "csv" ? csvOf(rows) : Answer::of(Json{{"values", std::move(rows)}});
}

Json outcomeJson(const std::string& node, const Error& error) {
  Json json{{"node", node}, {"status", std::string(error.code.name())}};
  if (error.code.isBad()) json["error"] = admin::jsonOf(error);
  return json;
}

Awaitable<Answer> write(Console& console, Visit visit) {
  constexpr std::size_t kMost = 1'000;
  const Json& wanted = visit.body.at("values");
  if (!wanted.is_array() || wanted.size() > kMost)
    co_return Answer::of(Error{status::BadInvalidArgument, "'values' is a list of at most 1,000 nodes and values", {}});
  Json outcomes = Json::array();
  for (const auto& one : wanted) {
    const std::string name = one.at("node").get<std::string>(), text = typedText(one.at("value"));
    const auto node = nodeNamed(console.space(), visit.rights(), name);
    if (node == kNoNode) {
      outcomes.push_back(outcomeJson(name, noNode(console.space(), name)));
      continue;
    }
    std::vector<NodeId> ids(1, console.space().nodeId(node));
    auto facts = co_await client::factsOf(visit.session(), ids);
    if (!facts) co_return Answer::of(facts.error());
    auto value = client::typedValue(text, facts->front());
    if (!value) {
      outcomes.push_back(outcomeJson(name, value.error()));
      continue;
    }
    auto written = co_await visit.session()->write(ids.front(), std::move(*value));
    if (!written) co_return Answer::of(written.error());
    outcomes.push_back(outcomeJson(name, written->error));
  }
  co_return Answer::of(Json{{"outcomes", std::move(outcomes)}});
}

Awaitable<Answer> call(Console& console, Visit visit) {
  const auto& space = console.space();
  const std::string name = visit.body.at("method").get<std::string>();
  const auto method = nodeNamed(space, visit.rights(), name);
  if (method == kNoNode) co_return Answer::of(noNode(space, name));
  if (space.nodeClass(method) != NodeClass::Method)
    co_return Answer::of(Error{status::BadMethodInvalid, shown(name) + " is no method", "name a method"});
  NodeIndex object = space.parent(method);
  if (visit.body.contains("object")) object = nodeNamed(space, visit.rights(), visit.body["object"].get<std::string>());
  if (object == kNoNode) co_return Answer::of(Error{status::BadNodeIdUnknown, "there is no such object", {}});
  const NodeId objectId = space.nodeId(object), methodId = space.nodeId(method);
  const auto arguments = space::methodArguments(space, method, "InputArguments");
  const auto results = space::methodArguments(space, method, "OutputArguments");
  const Json given = visit.body.value("inputs", Json::object());
  std::vector<Variant> inputs;
  for (const auto& argument : arguments) {
    const auto input = given.find(argument.name.str());
    if (input == given.end())
      co_return Answer::of(Error{status::BadArgumentsMissing, fmt::format("'{}' is missing", argument.name.view()),
                                 argument.description.text.str()});
    auto facts = co_await client::factsOfType(visit.session(), argument.dataType, argument.valueRank);
    if (!facts) co_return Answer::of(facts.error());
    auto value = client::typedValue(typedText(*input), *facts);
    if (!value)
      co_return Answer::of(
          Error{value.code(), fmt::format("{}: {}", argument.name.view(), value.error().cause), value.error().next});
    inputs.push_back(std::move(*value));
  }
  auto outcome = co_await visit.session()->call(objectId, methodId, std::move(inputs));
  if (!outcome) co_return Answer::of(outcome.error());
  if (outcome->error.code.isBad()) co_return Answer::of(outcome->error);
  Json outputs = Json::array();
  for (std::size_t i = 0; i < outcome->outputs.size() && i < results.size(); ++i) {
    auto facts = co_await client::factsOfType(visit.session(), results[i].dataType, results[i].valueRank);
    if (!facts) co_return Answer::of(facts.error());
    outputs.push_back({{"name", results[i].name.str()},
                       {"value", client::valueJson(outcome->outputs[i], *facts)},
                       {"text", client::valueText(outcome->outputs[i], *facts)}});
  }
  co_return Answer::of(Json{{"status", std::string(outcome->error.code.name())}, {"outputs", std::move(outputs)}});
}

/// Where a value comes from, down to the device's octets.
Awaitable<Answer> explain(Console& console, Visit visit) {
  const auto node = nodeNamed(console.space(), visit.rights(), visit.request.value("node"));
  if (node == kNoNode) co_return Answer::of(noNode(console.space(), visit.request.value("node")));
  Json asked;
  asked["verb"] = "explain";
  asked["node"] = console.space().nodeId(node).text();
  auto told = co_await console.perform(*visit.login, std::move(asked));
  co_return told ? Answer::of(*told) : Answer::of(told.error());
}

}  // namespace

std::vector<Route> nodeRoutes() {
  const Parameter node{"node", "a path from Objects, or a NodeId", true};
  return {
      {"GET",
       "/api/children",
       "The nodes below a node, some at a time",
       Needs::Login,
       tellChildren,
       {{"node", "a path or a NodeId; Objects without one"},
        {"from", "as 'next' of the answer before"},
        {"most", "how many at once"}},
       "zunth tree"},
      {"GET", "/api/node", "Everything about a node", Needs::Login, tellNode, {node}, "zunth show NODE"},
      {"GET",
       "/api/drawing",
       "What is below an object, or extends a type, as a drawing (SVG), up to 2,000 nodes; i=86 for all types of "
       "models",
       Needs::Login,
       draw,
       {node},
       "zunth draw FROM NAME.svg NODE"},
      {"GET",
       "/api/search",
       "Nodes by name, path, id or type",
       Needs::Login,
       search,
       {{"words", "what to look for", true}, {"most", "how many at most"}},
       "zunth locate, zunth tree"},
      {"GET",
       "/api/values",
       "Values of variables now",
       Needs::Login,
       tellValues,
       {{"node", "a path, which may have * and ** in it, or a NodeId; several times for more", true},
        {"format", "csv for a table"}},
       "zunth read NODE…"},
      {"POST",
       "/api/write",
       "Write values",
       Needs::Login,
       write,
       {{"values", "a list of {\"node\": …, \"value\": …}", true}},
       "zunth write NODE=VALUE…"},
      {"POST",
       "/api/call",
       "Call a method",
       Needs::Login,
       call,
       {{"method", "its path or NodeId", true},
        {"object", "of which; what it is below, without one"},
        {"inputs", "an object of its arguments by name"}},
       "zunth call METHOD name=value…"},
      {"GET",
       "/api/explain",
       "Where a value comes from, down to the device's octets",
       Needs::Engineer,
       explain,
       {node},
       "zunth explain NODE"},
  };
}

}  // namespace zunth::console
