#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"
#include "service/server/server.hpp"

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
    return Error{status::BadNodeIdUnknown, "there is no node " + call.objectId.text(), {}};
  const bool isMethod =
      named != space::kNoNode && space.sees(rights, named) && space.nodeClass(named) == NodeClass::Method;
  const auto method = !isMethod ? space::kNoNode : methodOf(space, object, named);
  if (method == space::kNoNode)
    return Error{
        status::BadMethodInvalid, fmt::format("{} has no method {}", space.path(object), call.methodId.text()), {}};
  if (!space.isExecutable(method))
    return Error{status::BadNotExecutable, space.path(method) + " can't be called now", {}};
  if (const auto code = space.check(rights, method, PermissionType::Call); code.isBad())
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

Result<void> Server::call(const CallRequest& request, Context& context) {
  if (auto fine = checkCount(request.methodsToCall.size()); !fine) return fine;
  const std::size_t count = request.methodsToCall.size();
  auto gathering = std::make_shared<Gathering<CallResponse, CallMethodResult>>(context.reply, count, clock_.wallClock,
                                                                               [](StatusCode code) {
                                                                                 CallMethodResult result;
                                                                                 result.statusCode = code;
                                                                                 return result;
                                                                               });
  for (std::size_t i = 0; i < count; ++i) {
    const auto& one = request.methodsToCall[i];
    List<StatusCode> argumentResults;
    auto method = checkCall(space_, one, context.rights(), argumentResults);
    announcer_.called(context.actor(), one, method.code());
    if (!method) {
      CallMethodResult result;
      result.statusCode = method.code();
      result.inputArgumentResults = std::move(argumentResults);
      gathering->set(i, std::move(result), method.error());
      continue;
    }
    auto finish = [gathering, i](CallOutcome outcome) {
      CallMethodResult result;
      result.statusCode = outcome.error.code;
      if (!outcome.error.code.isBad()) result.outputArguments = std::move(outcome.outputs);
      gathering->set(i, std::move(result), outcome.error);
    };
    if (const auto own = serverMethods_.find(*method); own != serverMethods_.end())
      finish((this->*own->second)(one.inputArguments, context));
    else if (const auto known = sessionMethods_.find(*method); known != sessionMethods_.end())
      finish(known->second(one.inputArguments, context.session->sessionId));
    else if (const auto& user = context.session->user.name;
             const auto answer = alarms_.call(*method, one.inputArguments, user.empty() ? String("Anonymous") : user))
      finish({{answer->code, answer->cause, {}}, {}});
    else if (const auto handler = callHandlers_.find(*method); handler != callHandlers_.end())
      handler->second(one.inputArguments, finish);
    else
      gathering->fail(i, {status::BadNotImplemented, fmt::format("{} is bound to nothing", space_.path(*method)), {}});
  }
  if (!gathering->isAnswered()) keepOutstanding(context, gathering);
  return {};
}

}  // namespace zunth::server
