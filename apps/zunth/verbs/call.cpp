#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

std::string signatureOf(const std::string& path, const std::vector<Argument>& inputs) {
  std::string out = "zunth call " + path;
  for (const auto& input : inputs) out += fmt::format(" {}=VALUE", input.name.view());
  return out;
}

Awaitable<Result<std::vector<Argument>>> argumentsOf(SessionPtr session, NodeId method, std::string_view property) {
  std::vector<Argument> out;
  BrowseDescription what{method, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
  auto properties = co_await session->browse(what);
  if (!properties) co_return properties.error();
  for (const auto& reference : *properties) {
    if (reference.browseName.name.view() != property) continue;
    auto values =
        co_await session->readAttributes(reference.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
    if (!values) co_return values.error();
    for (const auto& object : values->front().value.items<ExtensionObject>())
      if (auto argument = object.as<Argument>()) out.push_back(std::move(*argument));
  }
  co_return out;
}

/// The typed texts in the order of the method's arguments: "name=value", or values alone in their order.
Result<std::vector<std::string>> inOrder(const std::string& path, const std::vector<Argument>& inputs,
                                         const std::vector<std::string>& typed) {
  const Error wrongCount{
      typed.size() < inputs.size() ? status::BadArgumentsMissing : status::BadTooManyArguments,
      fmt::format("{} takes {} argument{}, not {}", path, inputs.size(), inputs.size() == 1 ? "" : "s", typed.size()),
      signatureOf(path, inputs)};
  if (typed.size() != inputs.size()) return wrongCount;
  std::vector<std::string> out(inputs.size());
  std::vector<bool> given(inputs.size(), false);
  for (std::size_t i = 0; i < typed.size(); ++i) {
    const auto equals = typed[i].find('=');
    const std::string name = typed[i].substr(0, equals);
    std::size_t at = i;
    std::string value = typed[i];
    if (equals != std::string::npos) {
      const auto found = std::ranges::find_if(inputs, [&](const Argument& a) { return a.name.view() == name; });
      if (found == inputs.end()) {
        return Error{status::BadInvalidArgument, fmt::format("{} has no argument '{}'", path, name),
                     signatureOf(path, inputs)};
      }
      at = static_cast<std::size_t>(found - inputs.begin());
      value = typed[i].substr(equals + 1);
    }
    if (given[at])
      return Error{status::BadInvalidArgument, fmt::format("'{}' is given twice", inputs[at].name.view()),
                   signatureOf(path, inputs)};
    given[at] = true;
    out[at] = value;
  }
  return out;
}

Awaitable<Result<NodeId>> objectOf(SessionPtr session, const Found& method) {
  if (!method.parent.isNull()) co_return method.parent;
  BrowseDescription up{method.nodeId, BrowseDirection::Inverse, id::HasComponent, true, 0, 63};
  auto parents = co_await session->browse(up);
  if (!parents) co_return parents.error();
  if (parents->empty()) co_return Error{status::BadMethodInvalid, method.path + " belongs to no object", {}};
  co_return parents->front().nodeId.nodeId;
}

Awaitable<int> callMethod(SessionPtr session, Options options, std::string path, std::vector<std::string> typed) {
  if (path.ends_with("()")) path.resize(path.size() - 2);
  auto method = co_await findNode(session, path);
  if (!method) co_return fail(method.error());
  if (method->nodeClass != NodeClass::Method)
    co_return fail({status::BadMethodInvalid, path + " is no method", "zunth tree: methods end with ()"});
  auto object = co_await objectOf(session, *method);
  if (!object) co_return fail(object.error());
  auto inputs = co_await argumentsOf(session, method->nodeId, "InputArguments");
  if (!inputs) co_return fail(inputs.error());
  auto outputs = co_await argumentsOf(session, method->nodeId, "OutputArguments");
  if (!outputs) co_return fail(outputs.error());
  auto texts = inOrder(path, *inputs, typed);
  if (!texts) co_return fail(texts.error());
  std::vector<Variant> values;
  for (std::size_t i = 0; i < inputs->size(); ++i) {
    const Argument& input = (*inputs)[i];
    auto facts = co_await factsOfType(session, input.dataType, input.valueRank);
    if (!facts) co_return fail(facts.error());
    auto value = typedValue((*texts)[i], *facts);
    if (!value) {
      Error error = value.error();
      error.cause = fmt::format("{} takes {}: {}", input.name.view(), facts->dataTypeName, error.cause);
      co_return fail(error);
    }
    values.push_back(std::move(*value));
  }
  auto outcome = co_await session->call(*object, method->nodeId, std::move(values));
  if (!outcome) co_return fail(outcome.error());
  if (outcome->error.code.isBad()) {
    Error error = outcome->error;
    if (error.cause.empty()) error.cause = path + " was not carried out";
    co_return fail(error);
  }
  if (options.quiet) co_return kDone;
  if (isStructured(options.format)) {
    Json json = Json::object();
    for (std::size_t i = 0; i < outcome->outputs.size(); ++i)
      json[i < outputs->size() ? (*outputs)[i].name.str() : std::to_string(i)] = toJson(outcome->outputs[i]);
    std::fputs(document(Json{{"status", outcome->error.code.name()}, {"outputs", json}}, options.format).c_str(),
               stdout);
    co_return kDone;
  }
  Records records({"output", "value"});
  for (std::size_t i = 0; i < outcome->outputs.size(); ++i)
    records.add({i < outputs->size() ? (*outputs)[i].name.str() : std::to_string(i),
                 Cell(format(outcome->outputs[i]), toJson(outcome->outputs[i]))});
  if (records.empty())
    std::printf("%s\n", std::string(outcome->error.code.name()).c_str());
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return kDone;
}

}  // namespace

void addCall(Program program) {
  const auto verb = addVerb(program, "call", "Call a method. Arguments are converted to the types it takes.",
                            "zunth call Hatchery/Intake/DF1/wash seconds=5");
  auto path = std::make_shared<std::string>();
  auto typed = std::make_shared<std::vector<std::string>>();
  verb.option("METHOD", *path, "A path or a NodeId").required();
  verb.option("ARGUMENT", *typed, "name=value, or values alone in their order");
  verb.runs([program, path, typed] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return callMethod(session, program.options, *path, *typed);
    });
  });
}

}  // namespace zunth::cli
