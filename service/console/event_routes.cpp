#include "core/ua/generated/node_ids.hpp"
#include "core/ua/letters.hpp"
#include "core/ua/text.hpp"
#include "service/client/event_fields.hpp"
#include "service/client/past.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kMostEvents = 5'000;
const char* const kEventFields[] = {"Time", "Severity", "SourceName", "EventType", "Message"};

/// Events of at least this severity, the newest first.
ReadEventDetails detailsOf(DateTime from, DateTime to, std::size_t severity) {
  ReadEventDetails details;
  details.numValuesPerNode = kMostEvents;
  details.startTime = to;  // backwards
  details.endTime = from;
  for (const char* name : kEventFields) details.filter.selectClauses.push_back(client::eventField(name));
  if (severity == 0) return details;
  ContentFilterElement atLeast;
  atLeast.filterOperator = FilterOperator::GreaterThanOrEqual;
  atLeast.filterOperands.push_back(ExtensionObject::of(client::eventField("Severity")));
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
  const auto span = spanOf(visit);
  if (!span) co_return Answer::of(span.error());
  const auto name = visit.request.value("node");
  NodeId notifier = id::Server;
  if (!name.empty()) {
    const auto node = nodeNamed(console.space(), visit.rights(), name);
    if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
    notifier = console.space().nodeId(node);
  }
  auto details = detailsOf(span->from, span->to, visit.request.number("severity", 0, 1'000));
  auto events = co_await client::readPastEvents(visit.session(), notifier, std::move(details));
  if (!events) co_return Answer::of(events.error());
  const std::string words = visit.request.value("like");
  Json rows = Json::array();
  for (const auto& event : *events)
    if (Json row = eventJson(console.space(), event); words.empty() || holds(row, words))
      rows.push_back(std::move(row));
  co_return Answer::of(Json{{"events", std::move(rows)}, {"isWhole", events->size() < kMostEvents}});
}

}  // namespace

std::vector<Route> eventRoutes() {
  return {{"GET",
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
