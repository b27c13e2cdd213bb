#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/client/subscription.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

/// What is asked of each condition, in this order.
enum Field {
  Condition,
  Type,
  Time,
  Severity,
  Source,
  Name,
  Message,
  Enabled,
  Active,
  Acked,
  Confirmed,
  Retain,
  Comment
};
constexpr const char* kPaths[] = {
    "",        "EventType",       "Time",           "Severity",      "SourceName",        "ConditionName",
    "Message", "EnabledState/Id", "ActiveState/Id", "AckedState/Id", "ConfirmedState/Id", "Retain",
    "Comment"};
constexpr StandardId kTypes[] = {id::ConditionType,
                                 id::BaseEventType,
                                 id::BaseEventType,
                                 id::BaseEventType,
                                 id::BaseEventType,
                                 id::ConditionType,
                                 id::BaseEventType,
                                 id::ConditionType,
                                 id::AlarmConditionType,
                                 id::AcknowledgeableConditionType,
                                 id::AcknowledgeableConditionType,
                                 id::ConditionType,
                                 id::ConditionType};
static_assert(std::size(kPaths) == std::size(kTypes));

EventFilter filterOfConditions() {
  EventFilter filter;
  for (std::size_t i = 0; i < std::size(kPaths); ++i) {
    SimpleAttributeOperand operand;
    operand.typeDefinitionId = kTypes[i];
    // The id of the condition itself (Part 9, 5.5.2).
    operand.attributeId = static_cast<std::uint32_t>(i == Condition ? AttributeId::NodeId : AttributeId::Value);
    std::string_view path = kPaths[i];
    while (!path.empty()) {
      const auto slash = std::min(path.find('/'), path.size());
      operand.browsePath.push_back({0, String(path.substr(0, slash))});
      path.remove_prefix(std::min(slash + 1, path.size()));
    }
    filter.selectClauses.push_back(operand);
  }
  // Where clauses are left out: what marks the end of a refresh must come through, too.
  return filter;
}

bool isTrue(const List<Variant>& fields, Field field) {
  const auto* flag = fields[field].get<bool>();
  return flag && *flag;
}
bool isFalse(const List<Variant>& fields, Field field) {
  const auto* flag = fields[field].get<bool>();
  return flag && !*flag;
}

/// "active", "active, acknowledged", "gone, to acknowledge"
std::string stateOf(const List<Variant>& fields) {
  if (isFalse(fields, Enabled)) return "disabled";
  std::string out = isTrue(fields, Active) ? "active" : "gone";
  if (isFalse(fields, Acked))
    out += ", to acknowledge";
  else if (isFalse(fields, Confirmed))
    out += ", to confirm";
  else if (isTrue(fields, Active))
    out += ", acknowledged";
  return out;
}

/// Paths of conditions from Objects, asked for once each.
class Paths {
 public:
  explicit Paths(SessionPtr session) : session_(std::move(session)) {}
  Awaitable<std::string> of(NodeId node) {
    if (const auto known = known_.find(node); known != known_.end()) co_return known->second;
    std::string path;
    NodeId at = node;
    for (int depth = 0; depth < 50 && !at.is(id::ObjectsFolder); ++depth) {
      auto name = co_await session_->readAttributes(at, std::vector<AttributeId>(1, AttributeId::BrowseName));
      const auto* browseName = name ? name->front().value.get<QualifiedName>() : nullptr;
      if (!browseName) break;
      path = browseName->name.str() + (path.empty() ? "" : "/" + path);
      BrowseDescription up{at, BrowseDirection::Inverse, id::HierarchicalReferences, true, 0, 63};
      auto parents = co_await session_->browse(up);
      if (!parents) break;
      NodeId above;
      for (const auto& reference : *parents)
        if (above.isNull() && !reference.referenceTypeId.is(id::HasNotifier) &&
            !reference.referenceTypeId.is(id::HasEventSource))
          above = reference.nodeId.nodeId;
      if (above.isNull()) break;
      at = above;
    }
    known_[node] = at.is(id::ObjectsFolder) ? path : node.text();
    co_return known_[node];
  }

 private:
  SessionPtr session_;
  std::unordered_map<NodeId, std::string> known_;
};

std::vector<Cell> rowOf(const List<Variant>& fields, const std::string& path) {
  const auto* time = fields[Time].get<DateTime>();
  return {Cell(time ? localTime(time->time()) : "-", time ? Json(time->text()) : Json()),
          Cell(format(fields[Severity]), toJson(fields[Severity])),
          stateOf(fields),
          path,
          Cell(format(fields[Comment]), toJson(fields[Comment])),
          Cell(format(fields[Message]), toJson(fields[Message]))};
}
const std::vector<std::string> kColumns{"time", "severity", "state", "alarm", "comment", "message"};
constexpr std::ptrdiff_t kCommentColumn = 4;

struct AlarmWish {
  bool watches = false;
  std::uint32_t severity = 0;
  std::string words;  // of the alarm's path or its message

  bool wants(const List<Variant>& fields, const std::string& path) const {
    double severe = 0;
    fields[Severity].toDouble(severe);
    return severe >= severity && (words.empty() || path.find(words) != std::string::npos ||
                                  format(fields[Message]).find(words) != std::string::npos);
  }
};

bool isOf(const List<Variant>& fields, StandardId type) {
  const auto* held = fields[Type].get<NodeId>();
  return held && held->is(type);
}

/// One more line below what was printed.
void printNews(const Options& options, std::vector<Cell> row) {
  if (isStructured(options.format)) {
    Json json;
    for (std::size_t i = 0; i < row.size(); ++i) json[kColumns[i]] = row[i].json;
    return void(std::fputs(document(json, options.format, true).c_str(), stdout));
  }
  Records record(kColumns);
  record.add(std::move(row));
  const std::string text = record.text(options.format, isTerminal());
  const bool hasHeader = options.format == Format::Csv || isTerminal();
  std::fputs((hasHeader ? text.substr(text.find('\n') + 1) : text).c_str(), stdout);
}

/// Rows by the path of their alarm.
void print(const Options& options, const AlarmWish& asked, std::map<std::string, std::vector<Cell>> rows) {
  const bool isTable = options.format == Format::Table;
  if (rows.empty() && isTable) return void(std::printf("no alarm is active, and none waits for anybody\n"));
  if (asked.watches && isStructured(options.format)) {
    // A stream is one object a line from its beginning on.
    for (auto& [path, row] : rows) printNews(options, std::move(row));
    return;
  }
  // For people the column is there when somebody has said something.
  const bool hasComments = !isTable || asked.watches || std::ranges::any_of(rows, [](const auto& row) {
    return !row.second[kCommentColumn].text.empty();
  });
  auto columns = kColumns;
  if (!hasComments) columns.erase(columns.begin() + kCommentColumn);
  Records records(columns);
  for (auto& [path, row] : rows) {
    if (!hasComments) row.erase(row.begin() + kCommentColumn);
    records.add(std::move(row));
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
}

Awaitable<int> listAlarms(SessionPtr session, Interrupt& interrupt, Options options, AlarmWish asked) {
  auto waiting = std::make_shared<std::deque<List<Variant>>>();
  int code = kDone;
  auto handlers = subscriptionHandlers(interrupt, code);
  handlers.event = [&, waiting](std::uint32_t, const List<Variant>& fields) {
    if (fields.size() == std::size(kPaths)) waiting->push_back(fields);
    interrupt.poke();
  };
  client::Subscription::Settings settings;
  settings.interval = 100;
  auto subscription = co_await client::Subscription::create(session, settings, std::move(handlers));
  if (!subscription) co_return fail(subscription.error());
  auto added = co_await (*subscription)->addEvents(id::Server, filterOfConditions());
  if (!added) co_return fail(added.error());
  if (added->statusCode.isBad()) co_return fail({added->statusCode, "the server tells nobody of its conditions", {}});
  std::vector<Variant> inputs;
  inputs.push_back(Variant((*subscription)->id()));
  auto refreshed = co_await session->call(id::ConditionType, id::ConditionType_ConditionRefresh, std::move(inputs));
  if (!refreshed) co_return fail(refreshed.error());
  if (refreshed->error.code.isBad())
    co_return fail({refreshed->error.code, "the server does not tell how its conditions stand", "zunth events"});

  Paths paths(session);
  std::map<std::string, std::vector<Cell>> standing;
  const auto patience = milliseconds(options.timeout * 1000);
  const auto end = std::chrono::steady_clock::now() + patience;
  bool isListed = false;
  while (!interrupt.isWanted() && (asked.watches || !isListed)) {
    while (!waiting->empty()) {
      const List<Variant> fields = std::move(waiting->front());
      waiting->pop_front();
      if (!isListed && isOf(fields, id::RefreshEndEventType)) {
        isListed = true;
        print(options, asked, std::move(standing));
      }
      const auto* condition = fields[Condition].get<NodeId>();
      if (!condition || condition->isNull()) continue;
      const std::string path = co_await paths.of(*condition);
      if (!asked.wants(fields, path)) continue;
      if (isListed)
        printNews(options, rowOf(fields, path));
      else if (isTrue(fields, Retain))
        standing[path] = rowOf(fields, path);
    }
    std::fflush(stdout);
    if (!isListed && std::chrono::steady_clock::now() > end) {
      code = fail({status::BadTimeout, "the server did not finish telling how its conditions stand",
                   "the same with a longer --timeout"});
      break;
    }
    if (asked.watches || !isListed) co_await interrupt.wait(milliseconds(200));
  }
  co_await (*subscription)->close();
  co_return code;
}

struct Answering {
  std::vector<std::string> alarms;
  std::string comment;
  bool confirms = false;
};

Awaitable<Result<Variant>> eventIdOf(SessionPtr session, NodeId alarm) {
  BrowseDescription what{alarm, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
  auto properties = co_await session->browse(what);
  if (!properties) co_return properties.error();
  for (const auto& reference : *properties) {
    if (reference.browseName.name.view() != "EventId") continue;
    auto values =
        co_await session->readAttributes(reference.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
    if (!values) co_return values.error();
    co_return values->front().value;
  }
  co_return Error{status::BadNodeIdInvalid, "it is no alarm", "zunth alarms"};
}

Awaitable<int> answerAlarms(SessionPtr session, Options options, Answering asked) {
  auto found = co_await findNodes(session, asked.alarms);
  if (!found) co_return fail(found.error());
  int code = kDone;
  Records records({"alarm", "now"});
  for (const auto& alarm : *found) {
    auto eventId = co_await eventIdOf(session, alarm.nodeId);
    if (!eventId) {
      code = fail({eventId.code(), alarm.path + ": " + eventId.error().cause, eventId.error().next});
      continue;
    }
    std::vector<Variant> inputs;
    inputs.push_back(std::move(*eventId));
    inputs.push_back(Variant(asked.comment.empty() ? LocalizedText() : LocalizedText(String(asked.comment))));
    const NodeId method =
        asked.confirms ? id::AcknowledgeableConditionType_Confirm : id::AcknowledgeableConditionType_Acknowledge;
    auto outcome = co_await session->call(alarm.nodeId, method, std::move(inputs));
    const Error error = outcome ? outcome->error : outcome.error();
    if (error.code.isBad())
      code = fail({error.code, alarm.path + (error.cause.empty() ? std::string() : ": " + error.cause), error.next});
    else
      records.add({alarm.path, std::string(asked.confirms ? "confirmed" : "acknowledged")});
  }
  if (!options.quiet && (!records.empty() || options.format != Format::Table))
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return code;
}

}  // namespace

void addAlarms(Program program) {
  const auto verb =
      addVerb(program, "alarms", "List the alarms that are active or wait for somebody.", "zunth alarms --watch");
  auto asked = std::make_shared<AlarmWish>();
  verb.option("WORDS", asked->words, "Only alarms with these words in their path or message");
  verb.option("--severity", asked->severity, "Only alarms of at least this severity, 1 to 1000").range(1, 1000);
  verb.flag("--watch", asked->watches, "Go on with what happens to them, until Ctrl-C");
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, asked->watches, [&](SessionPtr session, Interrupt& interrupt) {
      return listAlarms(session, interrupt, program.options, *asked);
    });
  });
}

void addAcknowledge(Program program) {
  const auto verb = addVerb(program, "acknowledge", "Acknowledge alarms, or confirm them.",
                            "zunth acknowledge Hatchery/Intake/DF1/clogged --comment \"washing it\"");
  auto asked = std::make_shared<Answering>();
  verb.option("ALARM", asked->alarms, "Paths (with * and **) or NodeIds, as 'zunth alarms' lists them").required();
  verb.option("--comment", asked->comment, "What others should know");
  verb.flag("--confirm", asked->confirms, "Confirm what was acknowledged");
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return answerAlarms(session, program.options, *asked);
    });
  });
}

}  // namespace zunth::cli
