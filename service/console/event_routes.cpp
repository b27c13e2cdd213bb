#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/letters.hpp"
#include "core/ua/text.hpp"
#include "service/client/past.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kMostEvents = 5'000;
const char* const kEventFields[] = {"Time", "Severity", "SourceName", "EventType", "Message"};

/// Of a path of names: "Time", "ActiveState/Id".
SimpleAttributeOperand eventField(std::string_view path, StandardId type = id::BaseEventType) {
  SimpleAttributeOperand operand;
  operand.typeDefinitionId = type;
  operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
  for (; !path.empty(); path.remove_prefix(std::min(path.find('/'), path.size() - 1) + 1))
    operand.browsePath.push_back({0, String(path.substr(0, path.find('/')))});
  return operand;
}

/// Events of at least this severity, the newest first.
ReadEventDetails detailsOf(DateTime from, DateTime to, std::size_t severity) {
  ReadEventDetails details;
  details.numValuesPerNode = kMostEvents;
  details.startTime = to;  // backwards
  details.endTime = from;
  for (const char* name : kEventFields) details.filter.selectClauses.push_back(eventField(name));
  if (severity == 0) return details;
  ContentFilterElement atLeast;
  atLeast.filterOperator = FilterOperator::GreaterThanOrEqual;
  atLeast.filterOperands.push_back(ExtensionObject::of(eventField("Severity")));
  atLeast.filterOperands.push_back(ExtensionObject::of(LiteralOperand{Variant(static_cast<std::uint16_t>(severity))}));
  details.filter.whereClause.elements.push_back(std::move(atLeast));
  return details;
}

Json eventJson(const space::Space& space, const HistoryEventFieldList& event) {
  const auto at = [&](std::size_t i) { return i < event.eventFields.size() ? event.eventFields[i] : Variant(); };
  const Variant time = at(0), severity = at(1), type = at(3);
  Json json{{"time", nullptr}, {"severity", 0}, {"source", format(at(2))}, {"type", ""}, {"message", format(at(4))}};
  if (const auto* moment = time.get<DateTime>()) json["time"] = timeJson(*moment);
  if (const auto* number = severity.get<std::uint16_t>()) json["severity"] = *number;
  if (const auto* id = type.get<NodeId>())
    if (const auto node = space.find(*id); node != space::kNoNode) json["type"] = space.browseName(node).name.str();
  return json;
}

bool holds(const Json& event, const std::string& words) {
  const std::string wanted = lower(words);
  return std::ranges::any_of(std::initializer_list<const char*>{"source", "type", "message"}, [&](const char* key) {
    return lower(event[key].get<std::string>()).find(wanted) != std::string::npos;
  });
}

Awaitable<Answer> tellEvents(Console& console, Visit visit) {
  const auto from = momentOf(visit.request.value("from")), to = momentOf(visit.request.value("to"));
  if (!from || !to || !(*from < *to))
    co_return Answer::of(Error{status::BadInvalidTimestampArgument, "'from' and 'to' are moments, the earlier first",
                               "in milliseconds since 1970, or as 2026-05-04T07:30:00Z"});
  const auto name = visit.request.value("node");
  NodeId notifier = id::Server;
  if (!name.empty()) {
    const auto node = nodeNamed(console.space(), visit.rights(), name);
    if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
    notifier = console.space().nodeId(node);
  }
  auto details = detailsOf(*from, *to, visit.request.number("severity", 0, 1'000));
  auto events = co_await client::readPastEvents(visit.session(), notifier, std::move(details));
  if (!events) co_return Answer::of(events.error());
  const std::string words = visit.request.value("like");
  Json rows = Json::array();
  for (const auto& event : *events)
    if (Json row = eventJson(console.space(), event); words.empty() || holds(row, words))
      rows.push_back(std::move(row));
  co_return Answer::of(Json{{"events", std::move(rows)}, {"isWhole", events->size() < kMostEvents}});
}

/// Events of alarms that watch this variable, and when they came or went.
ReadEventDetails turnsOf(const NodeId& variable, DateTime from, DateTime to) {
  ReadEventDetails details;
  details.numValuesPerNode = kMostEvents;
  details.startTime = from;
  details.endTime = to;
  for (const char* name : {"Time", "Severity", "Message"}) details.filter.selectClauses.push_back(eventField(name));
  for (const char* name : {"ActiveState/Id", "ActiveState/TransitionTime"})
    details.filter.selectClauses.push_back(eventField(name, id::AlarmConditionType));
  ContentFilterElement ofVariable;
  ofVariable.filterOperator = FilterOperator::Equals;
  ofVariable.filterOperands.push_back(ExtensionObject::of(eventField("SourceNode")));
  ofVariable.filterOperands.push_back(ExtensionObject::of(LiteralOperand{Variant(variable)}));
  details.filter.whereClause.elements.push_back(std::move(ofVariable));
  return details;
}

/// What one of those is to a picture of the variable: nothing, unless its alarm came or went then.
Json turnJson(const HistoryEventFieldList& event) {
  if (event.eventFields.size() != 5) return {};
  const auto* time = event.eventFields[0].get<DateTime>();
  const auto* severity = event.eventFields[1].get<std::uint16_t>();
  const auto* isActive = event.eventFields[3].get<bool>();
  const auto* since = event.eventFields[4].get<DateTime>();
  if (!time || !severity || !isActive || !since || !(*since == *time)) return {};
  return {{"time", timeJson(*time)},
          {"what", *isActive ? "came" : "went"},
          {"severity", *severity},
          {"text", format(event.eventFields[2], {500, 4})},
          {"who", nullptr}};
}

Json remarkJson(const DataValue& value) {
  const auto* object = value.value.get<ExtensionObject>();
  const auto remark = object ? object->as<Annotation>() : Result<Annotation>(status::BadNoData);
  if (!remark) return {};
  return {{"time", timeJson(value.sourceTimestamp)},
          {"what", "remark"},
          {"severity", 0},
          {"text", std::string(cut(remark->message.view(), 500))},
          {"who", remark->userName.str()}};
}

Awaitable<Answer> tellMarks(Console& console, Visit visit) {
  const auto from = momentOf(visit.request.value("from")), to = momentOf(visit.request.value("to"));
  if (!from || !to || !(*from < *to))
    co_return Answer::of(Error{status::BadInvalidTimestampArgument, "'from' and 'to' are moments, the earlier first",
                               "in milliseconds since 1970, or as 2026-05-04T07:30:00Z"});
  const auto name = visit.request.value("node");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
  const NodeId id = console.space().nodeId(node);
  const auto property = console.space().child(node, {0, String("Annotations")}, id::HasProperty);
  const NodeId annotations = property == space::kNoNode ? NodeId() : console.space().nodeId(property);
  Json marks = Json::array();
  ReadEventDetails turns = turnsOf(id, *from, *to);
  const auto events = co_await client::readPastEvents(visit.session(), id::Server, std::move(turns));
  // Who may not hear events sees none; the picture is drawn all the same.
  if (events)
    for (const auto& event : *events)
      if (Json mark = turnJson(event); !mark.is_null()) marks.push_back(std::move(mark));
  if (!annotations.isNull()) {
    client::PastWish wish;
    wish.from = *from;
    wish.to = *to;
    wish.most = kMostEvents;
    const auto remarks = co_await client::readPast(visit.session(), std::vector<NodeId>(1, annotations), wish, {});
    if (remarks)
      for (const auto& value : remarks->front().values)
        if (Json mark = remarkJson(value); !mark.is_null()) marks.push_back(std::move(mark));
  }
  std::stable_sort(marks.begin(), marks.end(), [](const Json& one, const Json& other) {
    return one["time"].get<double>() < other["time"].get<double>();
  });
  co_return Answer::of(Json{{"marks", std::move(marks)}});
}

}  // namespace

std::vector<Route> eventRoutes() {
  return {{"GET",
           "/api/marks",
           "What stands beside a variable's past: when its alarms came and went, and what people remarked",
           Needs::Login,
           tellMarks,
           {{"node", "a path or a NodeId", true},
            {"from", "a moment, in ms since 1970 or as 2026-05-04T07:30:00Z", true},
            {"to", "a moment after it", true}},
           "zunth events --from, zunth annotate NODE --from"},
          {"GET",
           "/api/events",
           "Events that were kept, the newest first",
           Needs::Login,
           tellEvents,
           {{"from", "a moment, in ms since 1970 or as 2026-05-04T07:30:00Z", true},
            {"to", "a moment after it", true},
            {"node", "of what announces them; without it the server, which hears all"},
            {"severity", "only of at least this severity, 1 to 1000"},
            {"like", "only with these words in source, type or message"}},
           "zunth events --from"}};
}

}  // namespace zunth::console
