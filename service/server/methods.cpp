#include "service/server/methods.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

namespace {

/// The object's own method for `method`, which may be named by the one of its type (Part 4, 5.11.2).
space::NodeIndex methodOf(const space::Space& space, space::NodeIndex object, space::NodeIndex method) {
  const auto hasComponent = space.at(id::HasComponent);
  space::NodeIndex sameName = space::kNoNode;
  for (const auto& reference : space.references(object)) {
    if (!reference.isForward() || !space.isSubtype(reference.type(), hasComponent)) continue;
    if (reference.target() == method) return method;
    if (space.nodeClass(reference.target()) == NodeClass::Method &&
        space.browseName(reference.target()) == space.browseName(method))
      sameName = reference.target();
  }
  if (sameName == space::kNoNode) return space::kNoNode;
  const bool isInstance = space.nodeClass(object) == NodeClass::Object;
  for (auto type = isInstance ? space.typeDefinition(object) : space.supertype(object); type != space::kNoNode;
       type = space.supertype(type))
    for (const auto& reference : space.references(type))
      if (reference.isForward() && reference.target() == method) return sameName;
  return space::kNoNode;
}

/// The results for each argument; empty when all are fine.
List<StatusCode> checkArguments(const space::Space& space, const std::vector<Argument>& wanted,
                                const List<Variant>& given, std::string& cause) {
  List<StatusCode> results;
  bool anyBad = false;
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    space::ValueTraits traits;
    traits.dataType = space.find(wanted[i].dataType);
    traits.valueRank = wanted[i].valueRank;
    const bool fits = space.accepts(traits, given[i]);
    results.push_back(fits ? status::Good : status::BadTypeMismatch);
    if (!fits && !anyBad)
      cause = fmt::format("argument {} takes {}, not {}", wanted[i].name.view(),
                          nameOf(space.builtInType(traits.dataType)), nameOf(given[i].type()));
    anyBad |= !fits;
  }
  if (!anyBad) results.clear();
  return results;
}

/// The method to carry out, with arguments that fit; `argumentResults` tells which of them don't.
Result<space::NodeIndex> checkCall(const space::Space& space, const CallMethodRequest& call,
                                   const space::Rights& rights, List<StatusCode>& argumentResults) {
  const auto object = space.find(call.objectId), named = space.find(call.methodId);
  if (call.objectId.isNull() || call.methodId.isNull())
    return Error{call.methodId.isNull() ? status::BadMethodInvalid : status::BadNodeIdInvalid,
                 "a call names an object and a method",
                 {}};
  if (object == space::kNoNode || !space.sees(rights, object))
    return Error{status::BadNodeIdUnknown, "there is no node " + shown(call.objectId.text()), {}};
  const bool isMethod =
      named != space::kNoNode && space.sees(rights, named) && space.nodeClass(named) == NodeClass::Method;
  const auto method = !isMethod ? space::kNoNode : methodOf(space, object, named);
  if (method == space::kNoNode)
    return Error{status::BadMethodInvalid,
                 fmt::format("{} has no method {}", space.path(object), shown(call.methodId.text())),
                 {}};
  if (!space.isExecutable(method))
    return Error{status::BadNotExecutable, space.path(method) + " can't be called now", {}};
  // Part 3, 8.55: on the object and on the method.
  for (const auto node : {object, method})
    if (const auto code = space.check(rights, node, PermissionType::Call); code.isBad())
      return Error{code, space.path(method) + " may be called by others, not by this user", {}};
  const auto wanted = space::methodArguments(space, method, "InputArguments");
  if (call.inputArguments.size() != wanted.size())
    return Error{
        call.inputArguments.size() < wanted.size() ? status::BadArgumentsMissing : status::BadTooManyArguments,
        fmt::format("{} takes {} arguments, not {}", space.path(method), wanted.size(), call.inputArguments.size()),
        {}};
  std::string cause;
  argumentResults = checkArguments(space, wanted, call.inputArguments, cause);
  if (!argumentResults.empty()) return Error{status::BadInvalidArgument, cause, {}};
  return method;
}

}  // namespace

Job Methods::call(CallRequest request, Context context) {
  if (auto fine = core_.checkCount(request.methodsToCall.size()); !fine)
    co_return core_.answer<CallResponse>(context, fine.error());
  const std::size_t count = request.methodsToCall.size();
  const auto failed = [](StatusCode code) {
    CallMethodResult result;
    result.statusCode = code;
    return result;
  };
  const auto results = std::make_shared<Called>(context.reply, count, clock_.wallClock, failed);
  const auto actor = std::make_shared<const Announcer::Actor>(context.actor());
  for (std::size_t i = 0; i < count; ++i) {
    callOne(results, actor, i, request.methodsToCall[i], context);
    if (i + 1 < count) co_await context.turn(core_.turns, true);
  }
  core_.count(context.session, context.requestType, status::Good);
  if (!results->isAnswered()) core_.keepOutstanding(context, results);
}

void Methods::callOne(const std::shared_ptr<Called>& results, const std::shared_ptr<const Announcer::Actor>& actor,
                      std::size_t i, const CallMethodRequest& call, Context& context) {
  List<StatusCode> argumentResults;
  auto method = checkCall(space_, call, context.rights(), argumentResults);
  if (!method) {
    announcer_.called(*actor, call, method.code());
    CallMethodResult result;
    result.statusCode = method.code();
    result.inputArgumentResults = std::move(argumentResults);
    return results->set(i, std::move(result), method.error());
  }
  // What is recorded is what came of it.
  const auto finish = [this, results, actor, i, call](CallOutcome outcome) {
    announcer_.called(*actor, call, outcome.error.code);
    CallMethodResult result;
    result.statusCode = outcome.error.code;
    if (!outcome.error.code.isBad()) result.outputArguments = std::move(outcome.outputs);
    results->set(i, std::move(result), outcome.error);
  };
  if (auto own = objectMethods_.call(*method, call.inputArguments, context)) return finish(std::move(*own));
  if (const auto known = core_.sessionMethods.find(*method); known != core_.sessionMethods.end())
    return finish(known->second(call.inputArguments, context.session->sessionId));
  if (const auto answer = core_.alarms.call(*method, call.inputArguments, String(context.session->userName())))
    return finish({{answer->code, answer->cause, {}}, answer->outputs});
  if (const auto owner = core_.owners.of(*method))
    return owner->call(*method, call.inputArguments, context.giveUpAt(), finish);
  finish({{status::BadNotImplemented, fmt::format("{} is bound to nothing", space_.path(*method)), {}}, {}});
}

}  // namespace zunth::server
