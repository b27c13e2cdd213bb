#include "apps/zunth/nodes.hpp"
#include "apps/zunth/past.hpp"
#include "apps/zunth/when.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/client/event_fields.hpp"
#include "service/client/subscription.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct EventOptions {
  std::string source;
  std::string type;
  std::string words;
  std::uint32_t severity = 0;
  double seconds = 0;
  std::size_t count = 0;
  std::vector<std::string> fields;
  std::string from, to;  // of the past
};

/// What is always asked for; the user's own fields follow.
const std::vector<std::string> kFields{"Time", "Severity", "SourceName", "EventType", "Message"};

/// Joins conditions by And: element 0 holds them all together.
void addCondition(ContentFilter& where, FilterOperator op, std::vector<ExtensionObject> operands) {
  ContentFilterElement element;
  element.filterOperator = op;
  element.filterOperands = List<ExtensionObject>(std::move(operands));
  if (where.elements.empty()) {
    where.elements.push_back(std::move(element));
    return;
  }
  // Everything so far moves down by one; a new And stands before it.
  for (auto& earlier : where.elements)
    for (auto& operand : earlier.filterOperands)
      if (auto index = operand.as<ElementOperand>(); index && operand.is<ElementOperand>())
        operand = ExtensionObject::of(ElementOperand{index->index + 1});
  ContentFilterElement both;
  both.filterOperator = FilterOperator::And;
  both.filterOperands.push_back(ExtensionObject::of(ElementOperand{1}));
  both.filterOperands.push_back(
      ExtensionObject::of(ElementOperand{static_cast<std::uint32_t>(where.elements.size() + 1)}));
  where.elements.insert(where.elements.begin(), std::move(both));
  where.elements.push_back(std::move(element));
}

/// Names of types, asked for once each.
class TypeNames {
 public:
  explicit TypeNames(SessionPtr session) : session_(std::move(session)) {}
  Awaitable<std::string> of(NodeId type) {
    if (const auto known = names_.find(type); known != names_.end()) co_return known->second;
    auto read = co_await session_->readAttributes(type, std::vector<AttributeId>(1, AttributeId::BrowseName));
    std::string name = type.text();
    if (read)
      if (const auto* held = read->front().value.get<QualifiedName>()) name = held->name.str();
    names_[type] = name;
    co_return name;
  }

 private:
  SessionPtr session_;
  std::unordered_map<NodeId, std::string> names_;
};

class EventLog {
 public:
  EventLog(SessionPtr session, Options options, std::vector<std::string> fields)
      : names_(std::move(session)), options_(options), fields_(std::move(fields)) {}

  Awaitable<void> print(List<Variant> values) {
    auto at = [&](std::size_t i) { return i < values.size() ? values[i] : Variant(); };
    const Variant when = at(0), kind = at(3);
    const auto* type = kind.get<NodeId>();
    std::string typeName = "-";
    if (type) typeName = co_await names_.of(*type);
    std::vector<std::string> columns{"time", "severity", "source", "type", "message"};
    const auto* time = when.get<DateTime>();
    std::vector<Cell> row{Cell(time ? localTime(time->time()) : "-", time ? Json(time->text()) : Json()),
                          Cell(format(at(1)), toJson(at(1))), Cell(format(at(2)), toJson(at(2))), typeName,
                          Cell(format(at(4)), toJson(at(4)))};
    for (std::size_t i = 0; i < fields_.size(); ++i) {
      columns.push_back(fields_[i]);
      row.push_back(Cell(at(5 + i).isNull() ? "-" : format(at(5 + i)), toJson(at(5 + i))));
    }
    if (isStructured(options_.format)) {
      Json json;
      for (std::size_t i = 0; i < columns.size(); ++i) json[columns[i]] = row[i].json;
      std::fputs(document(json, options_.format, true).c_str(), stdout);
    } else if (options_.format == Format::Csv) {
      Records record(columns);
      record.add(std::move(row));
      const std::string text = record.text(options_.format, false);
      std::fputs((isFirst_ ? text : text.substr(text.find('\n') + 1)).c_str(), stdout);
    } else {
      // One by one, so that columns have widths of their own.
      std::string line =
          fmt::format("{}  {:>4}  {:<32}  {:<32}  {}", row[0].text, row[1].text, row[2].text, row[3].text, row[4].text);
      for (std::size_t i = 5; i < row.size(); ++i) line += fmt::format("  {}={}", columns[i], row[i].text);
      const std::string header =
          dim(fmt::format("{:<12}  {:>4}  {:<32}  {:<32}  {}", "TIME", "SEV.", "SOURCE", "TYPE", "MESSAGE"));
      if (isFirst_ && isTerminal()) std::printf("%s\n", header.c_str());
      std::printf("%s\n", line.c_str());
    }
    isFirst_ = false;
    std::fflush(stdout);
  }

 private:
  TypeNames names_;
  Options options_;
  std::vector<std::string> fields_;
  bool isFirst_ = true;
};

/// What was kept of events, the oldest first.
Awaitable<int> pastEvents(SessionPtr session, std::shared_ptr<EventLog> log, NodeId source, EventFilter filter,
                          EventOptions asked) {
  const auto now = std::chrono::system_clock::now();
  const auto from = momentOf(asked.from, now), to = momentOf(asked.to.empty() ? "now" : asked.to, now);
  if (!from) co_return fail(from.error());
  if (!to) co_return fail(to.error());
  const ReadEventDetails details{static_cast<std::uint32_t>(asked.count), *from, *to, std::move(filter)};
  std::size_t count = 0;
  auto told = co_await readPastEvents(session, source, details);
  if (!told) co_return fail(told.error());
  for (auto& event : *told) {
    if (asked.count != 0 && count++ >= asked.count) break;
    co_await log->print(std::move(event.eventFields));
  }
  co_return told->empty() ? kNo : kDone;
}

Awaitable<int> watchEvents(SessionPtr session, Interrupt& interrupt, Options options, EventOptions asked) {
  NodeId source(id::Server);
  if (!asked.source.empty()) {
    auto node = co_await findNode(session, asked.source);
    if (!node) co_return fail(node.error());
    source = node->nodeId;
  }
  NodeId type(id::BaseEventType);
  EventFilter filter;
  if (!asked.type.empty()) {
    auto found = co_await findType(session, asked.type, std::vector<NodeId>(1, NodeId(id::BaseEventType)));
    if (!found) co_return fail(found.error());
    type = found->nodeId;
    addCondition(filter.whereClause, FilterOperator::OfType,
                 std::vector<ExtensionObject>(1, ExtensionObject::of(LiteralOperand{Variant(type)})));
  }
  if (asked.severity) {
    std::vector<ExtensionObject> operands;
    operands.push_back(ExtensionObject::of(client::eventField("Severity", id::BaseEventType)));
    operands.push_back(ExtensionObject::of(LiteralOperand{Variant(static_cast<std::uint16_t>(asked.severity))}));
    addCondition(filter.whereClause, FilterOperator::GreaterThanOrEqual, std::move(operands));
  }
  if (!asked.words.empty()) {
    std::vector<ExtensionObject> operands;
    operands.push_back(ExtensionObject::of(client::eventField("Message", id::BaseEventType)));
    operands.push_back(ExtensionObject::of(LiteralOperand{Variant(String("%" + asked.words + "%"))}));
    addCondition(filter.whereClause, FilterOperator::Like, std::move(operands));
  }
  for (const auto& name : kFields) filter.selectClauses.push_back(client::eventField(name, id::BaseEventType));
  for (const auto& name : asked.fields) filter.selectClauses.push_back(client::eventField(name, type));

  auto log = std::make_shared<EventLog>(session, options, asked.fields);
  if (!asked.from.empty()) co_return co_await pastEvents(session, log, source, std::move(filter), asked);
  auto waiting = std::make_shared<std::deque<List<Variant>>>();
  int code = kDone;
  std::size_t printed = 0;
  auto handlers = subscriptionHandlers(interrupt, code);
  handlers.event = [&, waiting](std::uint32_t, const List<Variant>& fields) {
    waiting->push_back(fields);
    interrupt.poke();
  };
  client::Subscription::Settings settings;
  settings.interval = 250;
  auto subscription = co_await client::Subscription::create(session, settings, std::move(handlers));
  if (!subscription) co_return fail(subscription.error());
  auto added = co_await (*subscription)->addEvents(source, filter);
  if (!added) co_return fail(added.error());
  if (const auto& result = *added; result.statusCode.isBad()) {
    co_await (*subscription)->close();
    co_return fail({result.statusCode,
                    result.statusCode == status::BadNotSupported ? asked.source + " announces no events of its own"
                                                                 : "the server does not take this choice of events",
                    result.statusCode == status::BadNotSupported ? "zunth events, for all of the server's" : ""});
  }
  if (const auto result = added->filterResult.as<EventFilterResult>(); result && !added->filterResult.isNull())
    for (std::size_t i = kFields.size(); i < result->selectClauseResults.size(); ++i)
      if (result->selectClauseResults[i].isBad())
        std::fprintf(stderr, "zunth: such events have no field '%s'\n", asked.fields[i - kFields.size()].c_str());
  const auto end = asked.seconds > 0 ? std::chrono::steady_clock::now() + milliseconds(asked.seconds * 1000)
                                     : Instant::max() - std::chrono::hours(24);
  while (!interrupt.isWanted() && std::chrono::steady_clock::now() < end) {
    while (!waiting->empty() && !(asked.count && printed >= asked.count)) {
      auto fields = std::move(waiting->front());
      waiting->pop_front();
      co_await log->print(std::move(fields));
      ++printed;
    }
    if (asked.count && printed >= asked.count) break;
    co_await interrupt.wait(std::min<Duration>(std::chrono::hours(1), end - std::chrono::steady_clock::now()));
  }
  co_await (*subscription)->close();
  co_return code;
}

}  // namespace

void addEvents(Program program) {
  const auto verb = addVerb(program, "events", "Watch events as they happen, or look at those that were kept.",
                            "zunth events --type AuditEventType");
  auto asked = std::make_shared<EventOptions>();
  verb.option("NODE", asked->source, "An object that announces events; without one the server itself, which hears all");
  verb.option("--type", asked->type, "Only events of this type and those below it");
  verb.option("--severity", asked->severity, "Only events of at least this severity, 1 to 1000").range(1, 1000);
  verb.option("--like", asked->words, "Only events whose message has these words (% and _ as in the standard)");
  verb.option("--fields", asked->fields, "More fields of the type to show").splitAt(',');
  verb.option("--for", asked->seconds, "Seconds to watch; without it until Ctrl-C").range(0.0, 1e9);
  verb.option("--from", asked->from, "Events of the past: -2h, yesterday 06:00, 2026-11-28").called("WHEN");
  verb.option("--to", asked->to, "The end of that time, not included; without it now").called("WHEN");
  verb.option("--count", asked->count, "Events to show, then end");
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, true, [&](SessionPtr session, Interrupt& interrupt) {
      return watchEvents(session, interrupt, program.options, *asked);
    });
  });
}

}  // namespace zunth::cli
