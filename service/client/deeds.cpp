#include "service/client/deeds.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/letters.hpp"

#include <algorithm>
#include <map>
#include <unordered_map>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/this_coro.hpp>
#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

constexpr Deed kDeeds[] = {
    {"acknowledge", "Say that somebody knows", "Acknowledge", nullptr, Deed::Takes::Event, "acknowledged", ""},
    {"confirm", "Say that it was seen to", "Confirm", nullptr, Deed::Takes::Event, "confirmed", "confirm"},
    {"comment", "Leave word for others", "AddComment", nullptr, Deed::Takes::Event, "commented", ""},
    {"shelve", "Put aside for a time, or until it goes", "TimedShelve", "TimedShelve2", Deed::Takes::Time, "shelved",
     "shelvable"},
    {"unshelve", "Take from the shelf", "Unshelve", "Unshelve2", Deed::Takes::Nothing, "taken from the shelf",
     "shelvable"},
    {"suppress", "Keep from the lists of operators", "Suppress", "Suppress2", Deed::Takes::Nothing, "suppressed",
     "suppressible"},
    {"unsuppress", "Bring back to them", "Unsuppress", "Unsuppress2", Deed::Takes::Nothing, "unsuppressed",
     "suppressible"},
    {"remove", "Take out of service", "RemoveFromService", "RemoveFromService2", Deed::Takes::Nothing,
     "removed from service", "removable"},
    {"place", "Put back in service", "PlaceInService", "PlaceInService2", Deed::Takes::Nothing, "placed in service",
     "removable"},
    {"silence", "Stop the horn", "Silence", nullptr, Deed::Takes::Nothing, "silenced", "audible"},
    {"reset", "Unlatch what has gone and was acknowledged", "Reset", "Reset2", Deed::Takes::Nothing, "reset",
     "latched"},
    {"respond", "Answer a dialog", "Respond", "Respond2", Deed::Takes::Answer, "answered", "dialog"},
    {"enable", "Let it judge again", "Enable", nullptr, Deed::Takes::Nothing, "enabled", ""},
    {"disable", "Let it judge nothing", "Disable", nullptr, Deed::Takes::Nothing, "disabled", ""},
};

using MethodIds = std::map<std::string, NodeId>;

/// The methods of each node by their names, and its machine of shelving.
Awaitable<Result<std::vector<MethodIds>>> methodsOf(std::shared_ptr<Session> session, std::vector<NodeId> nodes) {
  std::vector<BrowseDescription> what;
  for (const auto& node : nodes)
    what.push_back({node, BrowseDirection::Forward, id::HasComponent, true,
                    static_cast<std::uint32_t>(NodeClass::Method) | static_cast<std::uint32_t>(NodeClass::Object), 63});
  auto found = co_await session->browse(std::move(what));
  if (!found) co_return found.error();
  std::vector<MethodIds> out;
  for (const auto& one : *found) {
    MethodIds methods;
    for (const auto& reference : one.references)
      if (reference.browseName.namespaceIndex == 0) methods[reference.browseName.name.str()] = reference.nodeId.nodeId;
    out.push_back(std::move(methods));
  }
  co_return out;
}

using Standing = std::unordered_multimap<NodeId, Condition>;

/// The ids of events that the deed is about: of what stands, and of what isn't on the list by its last event.
Awaitable<Result<std::vector<ByteString>>> eventsOf(std::shared_ptr<Session> session, const DeedWish& asked,
                                                    NodeId alarm, const Standing& standing) {
  std::vector<ByteString> out;
  const std::string word = asked.deed->word;
  const auto [first, last] = standing.equal_range(alarm);
  for (auto at = first; at != last; ++at) {
    const Condition& condition = at->second;
    const bool isMeant = word == "acknowledge" ? !condition.isAcknowledged
                         : word == "confirm"   ? condition.isAcknowledged && !condition.isConfirmed
                                               : condition.branch.isNull();
    if (isMeant) out.push_back(condition.eventId);
  }
  if (!out.empty()) co_return out;
  BrowseDescription what{alarm, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
  auto properties = co_await session->browse(what);
  if (!properties) co_return properties.error();
  for (const auto& reference : *properties) {
    if (reference.browseName.name.view() != "EventId") continue;
    auto values =
        co_await session->readAttributes(reference.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
    if (!values) co_return values.error();
    if (const auto* eventId = values->front().value.get<ByteString>()) out.push_back(*eventId);
    co_return out;
  }
  co_return Error{status::BadNodeIdInvalid, "it is no alarm", "zunth alarms"};
}

/// The place of an answer among the options of a dialog.
Awaitable<Result<std::int32_t>> placeOf(std::shared_ptr<Session> session, NodeId dialog, std::string answer) {
  BrowseDescription what{dialog, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
  auto properties = co_await session->browse(what);
  if (!properties) co_return properties.error();
  for (const auto& reference : *properties) {
    if (reference.browseName.name.view() != "ResponseOptionSet") continue;
    auto values =
        co_await session->readAttributes(reference.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
    if (!values) co_return values.error();
    const auto options = values->front().value.items<LocalizedText>();
    std::string all;
    for (std::size_t i = 0; i < options.size(); ++i) {
      const auto text = options[i].text.str();
      if (isSameButCase(text, answer) || std::to_string(i) == answer) co_return static_cast<std::int32_t>(i);
      all += (all.empty() ? "" : " | ") + shown(text);
    }
    co_return Error{status::BadDialogResponseInvalid, fmt::format("it takes no answer '{}'", shown(answer)),
                    "one of " + all};
  }
  co_return Error{status::BadNodeIdInvalid, "it is no dialog", "zunth alarms --state asked"};
}

Awaitable<Error> callOnce(std::shared_ptr<Session> session, NodeId object, NodeId method, std::vector<Variant> inputs) {
  auto outcome = co_await session->call(object, method, std::move(inputs));
  co_return outcome ? outcome->error : outcome.error();
}

/// Does it to one alarm; Good, or why it was refused.
Awaitable<Error> doOne(std::shared_ptr<Session> session, const DeedWish& asked, NodeId alarm, MethodIds methods,
                       const Standing& standing) {
  const Deed& deed = *asked.deed;
  const LocalizedText comment = asked.comment.empty() ? LocalizedText() : LocalizedText(String(asked.comment));
  if (!methods.contains("Enable")) co_return Error{status::BadNodeIdInvalid, "it is no alarm", "zunth alarms"};
  const std::string word = deed.word;
  NodeId object = alarm;
  if (word == "shelve" || word == "unshelve") {
    if (const auto machine = methods.find("ShelvingState"); machine != methods.end()) {
      object = machine->second;
      auto below = co_await methodsOf(session, std::vector<NodeId>(1, object));
      if (!below) co_return below.error();
      methods = std::move(below->front());
    } else {
      methods.clear();
    }
  }
  std::string method = deed.method, commented = deed.commented ? deed.commented : "";
  if (asked.isOnce) method = "OneShotShelve", commented = "OneShotShelve2";
  const bool takesComment = !comment.text.isNull() && methods.contains(commented);
  const auto found = methods.find(takesComment ? commented : method);
  if (found == methods.end())
    co_return Error{status::BadMethodInvalid, fmt::format("it has no {}", method),
                    *deed.missing
                        ? fmt::format("write '{}' with the alarm in the model, and: zunth apply", deed.missing)
                        : std::string()};
  std::vector<ByteString> events;
  const bool leavesWord = !comment.text.isNull() && !takesComment && deed.takes != Deed::Takes::Event;
  if (deed.takes == Deed::Takes::Event || leavesWord) {
    auto ids = co_await eventsOf(session, asked, alarm, standing);
    if (!ids) co_return ids.error();
    events = std::move(*ids);
  }
  std::vector<Variant> inputs;
  if (deed.takes == Deed::Takes::Event) {
    for (const auto& eventId : events) {
      inputs.clear();
      inputs.push_back(Variant(eventId));
      inputs.push_back(Variant(comment));
      const Error outcome = co_await callOnce(session, object, found->second, inputs);
      if (outcome.code.isBad()) co_return outcome;
    }
    co_return Error{status::Good, {}, {}};
  }
  if (deed.takes == Deed::Takes::Time && !asked.isOnce) inputs.push_back(Variant(asked.time));
  if (deed.takes == Deed::Takes::Answer) {
    auto place = co_await placeOf(session, alarm, asked.answer);
    if (!place) co_return place.error();
    inputs.push_back(Variant(*place));
  }
  if (takesComment) inputs.push_back(Variant(comment));
  const Error outcome = co_await callOnce(session, object, found->second, std::move(inputs));
  if (outcome.code.isBad() || !leavesWord || events.empty()) co_return outcome;
  // Where the method takes no comment, it follows by itself.
  const auto add = methods.find("AddComment");
  std::vector<Variant> words;
  words.push_back(Variant(events.front()));
  words.push_back(Variant(comment));
  co_return co_await callOnce(session, alarm, add == methods.end() ? NodeId(id::ConditionType_AddComment) : add->second,
                              std::move(words));
}

}  // namespace

std::span<const Deed> deeds() { return kDeeds; }

const Deed* deedNamed(std::string_view word) {
  const auto found = std::ranges::find(kDeeds, word, &Deed::word);
  return found == std::end(kDeeds) ? nullptr : &*found;
}

Awaitable<Result<std::vector<Error>>> doDeed(std::shared_ptr<Session> session, DeedWish wish,
                                             std::vector<NodeId> alarms, std::vector<Condition> standing) {
  auto methods = co_await methodsOf(session, alarms);
  if (!methods) co_return methods.error();
  Standing byId;
  for (auto& condition : standing) {
    const NodeId id = condition.id;
    byId.emplace(id, std::move(condition));
  }
  // Some at once: over a slow line each answer takes its time.
  constexpr std::size_t kAtOnce = 16;
  std::vector<Error> out(alarms.size());
  std::size_t next = 0, working = std::min(kAtOnce, alarms.size());
  const auto executor = co_await asio::this_coro::executor;
  asio::steady_timer allDone(executor, asio::steady_timer::time_point::max());
  const auto work = [&]() -> Awaitable<void> {
    while (next < alarms.size()) {
      const std::size_t i = next++;
      out[i] = co_await doOne(session, wish, alarms[i], (*methods)[i], byId);
    }
  };
  for (std::size_t k = working; k > 0; --k)
    asio::co_spawn(executor, work(), [&](std::exception_ptr thrown) {
      if (--working == 0) allDone.cancel();
      if (thrown) std::rethrow_exception(thrown);
    });
  if (working > 0) co_await allDone.async_wait(net::kQuietly);
  co_return out;
}

}  // namespace zunth::client
