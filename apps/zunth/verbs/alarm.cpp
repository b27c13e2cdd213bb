#include "apps/zunth/conditions.hpp"
#include "core/model/alarm_care.hpp"
#include "core/ua/generated/node_ids.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

/// What can be done with an alarm: its methods in the standard's words, and how the outcome is told.
struct Deed {
  const char* word;
  const char* about;
  const char* method;
  const char* commented;  // the one that takes a comment, too; null where the method takes one itself
  enum class Takes { Nothing, Event, Time } takes;
  const char* done;
  const char* missing;  // what to write in the model where an alarm has no such method
};
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
    {"enable", "Let it judge again", "Enable", nullptr, Deed::Takes::Nothing, "enabled", ""},
    {"disable", "Let it judge nothing", "Disable", nullptr, Deed::Takes::Nothing, "disabled", ""},
};

struct DeedWish {
  const Deed* deed = nullptr;
  std::vector<std::string> alarms;
  std::string comment, time;
  bool isOnce = false;
};

using MethodIds = std::map<std::string, NodeId>;

/// The methods of each node by their names, and its machine of shelving.
Awaitable<Result<std::vector<MethodIds>>> methodsOf(SessionPtr session, std::vector<NodeId> nodes) {
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

/// The ids of events that the deed is about: of what stands, and of what isn't on the list by its last event.
Awaitable<Result<std::vector<ByteString>>> eventsOf(SessionPtr session, const DeedWish& asked, NodeId alarm,
                                                    const std::vector<Condition>& standing) {
  std::vector<ByteString> out;
  const std::string word = asked.deed->word;
  for (const auto& condition : standing) {
    if (!(condition.id == alarm)) continue;
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

Awaitable<Error> callOnce(SessionPtr session, NodeId object, NodeId method, std::vector<Variant> inputs) {
  auto outcome = co_await session->call(object, method, std::move(inputs));
  co_return outcome ? outcome->error : outcome.error();
}

/// Does it to one alarm; Good, or why it was refused.
Awaitable<Error> doOne(SessionPtr session, const DeedWish& asked, const Found& alarm, MethodIds methods,
                       const std::vector<Condition>& standing) {
  const Deed& deed = *asked.deed;
  const LocalizedText comment = asked.comment.empty() ? LocalizedText() : LocalizedText(String(asked.comment));
  if (!methods.contains("Enable")) co_return Error{status::BadNodeIdInvalid, "it is no alarm", "zunth alarms"};
  const std::string word = deed.word;
  NodeId object = alarm.nodeId;
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
    auto ids = co_await eventsOf(session, asked, alarm.nodeId, standing);
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
  if (deed.takes == Deed::Takes::Time && !asked.isOnce) inputs.push_back(Variant(*model::readTime(asked.time)));
  if (takesComment) inputs.push_back(Variant(comment));
  const Error outcome = co_await callOnce(session, object, found->second, std::move(inputs));
  if (outcome.code.isBad() || !leavesWord || events.empty()) co_return outcome;
  // Where the method takes no comment, it follows by itself.
  const auto add = methods.find("AddComment");
  std::vector<Variant> words;
  words.push_back(Variant(events.front()));
  words.push_back(Variant(comment));
  co_return co_await callOnce(session, alarm.nodeId,
                              add == methods.end() ? NodeId(id::ConditionType_AddComment) : add->second,
                              std::move(words));
}

Awaitable<int> doAll(SessionPtr session, Interrupt& interrupt, Options options, DeedWish asked) {
  auto found = co_await findNodes(session, asked.alarms);
  if (!found) co_return fail(found.error());
  int code = kDone;
  std::vector<Condition> standing;
  if (asked.deed->takes == Deed::Takes::Event) {
    auto feed = co_await ConditionFeed::open(session, interrupt, code);
    if (!feed) co_return fail(feed.error());
    auto told = co_await (*feed)->standing(milliseconds(options.timeout * 1000));
    co_await (*feed)->close();
    if (!told) co_return fail(told.error());
    standing = std::move(*told);
  }
  std::vector<NodeId> ids;
  for (const auto& alarm : *found) ids.push_back(alarm.nodeId);
  auto methods = co_await methodsOf(session, std::move(ids));
  if (!methods) co_return fail(methods.error());
  Records records({"alarm", "now"});
  for (std::size_t i = 0; i < found->size() && !interrupt.isWanted(); ++i) {
    const Found& alarm = (*found)[i];
    const Error error = co_await doOne(session, asked, alarm, (*methods)[i], standing);
    if (error.code.isBad())
      code = fail({error.code, alarm.path + (error.cause.empty() ? std::string() : ": " + error.cause), error.next});
    else
      records.add({alarm.path, std::string(asked.deed->done)});
  }
  if (!options.quiet && (!records.empty() || options.format != Format::Table))
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return code;
}

void run(Program program, std::shared_ptr<DeedWish> asked) {
  program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt& interrupt) {
    return doAll(session, interrupt, program.options, *asked);
  });
}

}  // namespace

void addAlarm(Program program) {
  const auto verb = addVerb(program, "alarm", "Shelve, suppress, silence, reset or comment alarms, many at once.",
                            "zunth alarm shelve 'Hatchery/**/clogged' --for 2h --comment \"new screen\"");
  auto asked = std::make_shared<DeedWish>();
  auto which = std::make_shared<int>(0);
  std::vector<std::pair<std::string, int>> words;
  std::string about = "One of:";
  for (const auto& deed : kDeeds) {
    words.emplace_back(deed.word, static_cast<int>(words.size()));
    about += fmt::format(" {},", deed.word);
  }
  about.pop_back();
  verb.oneOf("WHAT", *which, words, about).required();
  verb.option("ALARM", asked->alarms, "Paths (with * and **) or NodeIds, as 'zunth alarms' lists them").required();
  verb.option("--for", asked->time, "How long to shelve: 30min, 8h, 2d");
  verb.flag("--once", asked->isOnce, "Shelve until it goes");
  verb.option("--comment", asked->comment, "What others should know");
  verb.runs([program, asked, which] {
    asked->deed = &kDeeds[static_cast<std::size_t>(*which)];
    const std::string word = asked->deed->word;
    const bool isTimed = word == "shelve";
    if (!isTimed && (asked->isOnce || !asked->time.empty()))
      return void(program.exitCode = wrongUse("--for and --once go with shelve"));
    if (isTimed && asked->isOnce == !asked->time.empty())
      return void(program.exitCode = wrongUse("an alarm is shelved for a time, or once", "--for 2h, or --once"));
    if (isTimed && !asked->isOnce && !model::readTime(asked->time))
      return void(program.exitCode = wrongUse(fmt::format("'{}' is no time", asked->time), "as in: --for 2h"));
    if (word == "comment" && asked->comment.empty())
      return void(program.exitCode = wrongUse("there is nothing to say", "--comment \"washing it\""));
    run(program, asked);
  });
}

void addAcknowledge(Program program) {
  const auto verb = addVerb(program, "acknowledge", "Acknowledge alarms, or confirm them.",
                            "zunth acknowledge Hatchery/Intake/DF1/clogged --comment \"washing it\"");
  auto asked = std::make_shared<DeedWish>();
  auto confirms = std::make_shared<bool>(false);
  verb.option("ALARM", asked->alarms, "Paths (with * and **) or NodeIds, as 'zunth alarms' lists them").required();
  verb.option("--comment", asked->comment, "What others should know");
  verb.flag("--confirm", *confirms, "Confirm what was acknowledged");
  verb.runs([program, asked, confirms] {
    asked->deed = &kDeeds[*confirms ? 1 : 0];
    run(program, asked);
  });
}

}  // namespace zunth::cli
