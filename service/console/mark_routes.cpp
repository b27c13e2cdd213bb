#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/client/event_fields.hpp"
#include "service/client/past.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

/// What stands beside a variable's past: when its alarms came and went, and what people remarked.
namespace zunth::console {

using namespace ua;

namespace {

constexpr std::uint32_t kMostMarks = 5'000;

/// The property that a variable's remarks are the history of; null when it takes none.
NodeId annotationsOf(const space::Space& space, space::NodeIndex variable) {
  const auto property = space.child(variable, {0, String("Annotations")}, id::HasProperty);
  return property == space::kNoNode ? NodeId() : space.nodeId(property);
}

/// Events of alarms that watch this variable, and when they came or went.
ReadEventDetails turnsOf(const NodeId& variable, DateTime from, DateTime to) {
  ReadEventDetails details;
  details.numValuesPerNode = kMostMarks;
  details.startTime = from;
  details.endTime = to;
  for (const char* name : {"Time", "Severity", "Message"})
    details.filter.selectClauses.push_back(client::eventField(name));
  for (const char* name : {"ActiveState/Id", "ActiveState/TransitionTime"})
    details.filter.selectClauses.push_back(client::eventField(name, id::AlarmConditionType));
  ContentFilterElement ofVariable;
  ofVariable.filterOperator = FilterOperator::Equals;
  ofVariable.filterOperands.push_back(ExtensionObject::of(client::eventField("SourceNode")));
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
  const auto span = spanOf(visit);
  if (!span) co_return Answer::of(span.error());
  const auto name = visit.request.value("node");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
  const NodeId id = console.space().nodeId(node);
  const NodeId annotations = annotationsOf(console.space(), node);
  Json marks = Json::array();
  ReadEventDetails turns = turnsOf(id, span->from, span->to);
  const auto events = co_await client::readPastEvents(visit.session(), id::Server, std::move(turns));
  // Who may not hear events sees none; the picture is drawn all the same.
  if (events)
    for (const auto& event : *events)
      if (Json mark = turnJson(event); !mark.is_null()) marks.push_back(std::move(mark));
  if (!annotations.isNull()) {
    client::PastWish wish;
    wish.from = span->from;
    wish.to = span->to;
    wish.most = kMostMarks;
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

/// Without a text, the remark on that moment is taken away.
Awaitable<Answer> remark(Console& console, Visit visit) {
  const auto moment = momentOf(visit.body.at("moment").get<std::string>());
  if (!moment)
    co_return Answer::of(Error{status::BadInvalidTimestampArgument, "'moment' is no moment",
                               "in milliseconds since 1970, or as 2026-05-04T07:30:00Z"});
  const auto name = visit.body.at("node").get<std::string>(), text = visit.body.value("text", "");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
  NodeId annotations = annotationsOf(console.space(), node);
  if (annotations.isNull())
    co_return Answer::of(Error{status::BadHistoryOperationUnsupported, name + " takes no remarks",
                               "variables with the word 'history' in the model do"});
  const auto done = co_await client::annotatePast(visit.session(), std::move(annotations), *moment, text);
  if (!done) co_return Answer::of(done.error());
  co_return Answer::of(Json{{"done", true}});
}

}  // namespace

std::vector<Route> markRoutes() {
  return {{"GET",
           "/api/marks",
           "What stands beside a variable's past: when its alarms came and went, and what people remarked",
           Needs::Login,
           tellMarks,
           {{"node", "a path or a NodeId", true},
            {"from", "a moment, in ms since 1970 or as 2026-05-04T07:30:00Z", true},
            {"to", "a moment after it", true}},
           "zunth events --from, zunth annotate NODE --from"},
          {"POST",
           "/api/marks",
           "Remark on a moment of a variable",
           Needs::Login,
           remark,
           {{"node", "a path or a NodeId", true},
            {"moment", "that it is about, in ms since 1970 or as 2026-05-04T07:30:00Z, as a text", true},
            {"text", "the remark; without one, what stands there is taken away"}},
           "zunth annotate NODE TEXT --moment"}};
}

}  // namespace zunth::console
