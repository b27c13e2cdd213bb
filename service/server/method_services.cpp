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

}  // namespace

void Server::call(const CallRequest& request, Context& context) {
  if (auto fine = checkCount(request.methodsToCall.size()); !fine)
    return context.reply.fault(fine.error(), context.wallClock);
  const std::size_t count = request.methodsToCall.size();
  auto gathering = std::make_shared<Gathering<CallResponse, CallMethodResult>>(context.reply, count, clock_.wallClock);
  for (std::size_t i = 0; i < count; ++i) {
    const auto& one = request.methodsToCall[i];
    auto finish = [gathering, i](CallMethodResult result, const std::string& cause) {
      gathering->set(i, std::move(result), cause);
    };
    auto refuse = [&finish](StatusCode code, const std::string& cause) {
      CallMethodResult result;
      result.statusCode = code;
      finish(std::move(result), cause);
    };
    const auto object = space_.find(one.objectId);
    const auto named = space_.find(one.methodId);
    if (object == space::kNoNode) {
      refuse(status::BadNodeIdUnknown, "there is no node " + one.objectId.text());
      continue;
    }
    const auto method = named == space::kNoNode || space_.nodeClass(named) != NodeClass::Method
                            ? space::kNoNode
                            : methodOf(space_, object, named);
    if (method == space::kNoNode) {
      refuse(status::BadMethodInvalid, fmt::format("{} has no method {}", space_.path(object), one.methodId.text()));
      continue;
    }
    const auto wanted = space::methodArguments(space_, method, "InputArguments");
    if (one.inputArguments.size() != wanted.size()) {
      refuse(
          one.inputArguments.size() < wanted.size() ? status::BadArgumentsMissing : status::BadTooManyArguments,
          fmt::format("{} takes {} arguments, not {}", space_.path(method), wanted.size(), one.inputArguments.size()));
      continue;
    }
    std::string cause;
    if (auto results = checkArguments(space_, wanted, one.inputArguments, cause); !results.empty()) {
      CallMethodResult result;
      result.statusCode = status::BadInvalidArgument;
      result.inputArgumentResults = std::move(results);
      finish(std::move(result), cause);
      continue;
    }
    const auto handler = callHandlers_.find(method);
    if (handler == callHandlers_.end()) {
      refuse(status::BadNotImplemented, fmt::format("{} is bound to nothing", space_.path(method)));
      continue;
    }
    handler->second(one.inputArguments, [finish](CallOutcome outcome) {
      CallMethodResult result;
      result.statusCode = outcome.error.code;
      if (!outcome.error.code.isBad()) result.outputArguments = std::move(outcome.outputs);
      finish(std::move(result), outcome.error.cause);
    });
  }
}

}  // namespace zunth::server
