#include "apps/zunth/nodes.hpp"
#include "apps/zunth/redrawn.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/client/subscription.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct WatchOptions {
  std::vector<std::string> patterns;
  double interval = 500;     // ms
  double seconds = 0;        // 0 for as long as the user likes
  std::size_t count = 0;     // changes; 0 for any
  std::string deadband;      // "0.5", "2%"
  std::uint32_t queue = 0;   // 0 for what suits the output
  std::string when;          // a node whose changes make the others be told
  bool keep = false;         // leave the subscription on the server
  std::uint32_t hours = 0;   // how long a kept one may wait; 0 for ten minutes
  std::uint32_t resume = 0;  // a subscription that was kept
};

/// "0.5" as an absolute deadband, "2%" as one of the EURange.
Result<ExtensionObject> deadbandOf(std::string text) {
  if (text.empty()) return ExtensionObject();
  const bool isPercent = text.ends_with('%');
  if (isPercent) text.pop_back();
  auto number = parse(text, BuiltInType::Double);
  if (!number || *number->get<double>() < 0)
    return Error{status::BadSyntaxError, fmt::format("'{}' is no deadband", text), "--deadband 0.5, or --deadband 2%"};
  return ExtensionObject::of(DataChangeFilter{
      DataChangeTrigger::StatusValue,
      static_cast<std::uint32_t>(isPercent ? DeadbandType::Percent : DeadbandType::Absolute), *number->get<double>()});
}

/// What is on the screen, or the stream of lines.
class Board {
 public:
  Board(std::vector<Found> nodes, std::vector<VariableFacts> facts, Options options, double interval)
      : nodes_(std::move(nodes)),
        facts_(std::move(facts)),
        options_(options),
        interval_(interval),
        latest_(nodes_.size()),
        changed_(nodes_.size()),
        isLive_(isTerminal() && options.format == Format::Table) {
    if (options_.format == Format::Csv) std::printf("time,node,value,unit,status\n");
  }

  void change(std::size_t at, const DataValue& value) {
    latest_[at] = value;
    changed_[at] = std::chrono::steady_clock::now();
    ++changes_;
    if (!isLive_) printLine(at, value);
  }
  void refuse(std::size_t at, StatusCode code) {
    latest_[at] = DataValue(code);
    if (!isLive_) printLine(at, *latest_[at]);
  }
  std::size_t changes() const { return changes_; }

  /// On a terminal: the table again, over the last one, as much of it as the terminal has lines for.
  void draw() { draw(screen_.room()); }
  /// The last time, whole: it may scroll now.
  void drawAll() { draw(nodes_.size() + kAround); }

 private:
  static constexpr std::size_t kAround = 2;  // lines beside those of nodes

  void draw(std::size_t room) {
    if (!isLive_) return;
    const std::size_t shown = std::min(nodes_.size(), std::max(room, kAround + 1) - kAround);
    Records records({" ", "node", "value", "unit", "status", "time"});
    const auto now = std::chrono::steady_clock::now();
    for (std::size_t i = 0; i < shown; ++i) {
      const bool isFresh =
          latest_[i] && now - changed_[i] < std::chrono::milliseconds(static_cast<int>(interval_ * 1.5));
      const std::string value = !latest_[i]                  ? "…"
                                : latest_[i]->value.isNull() ? "-"
                                                             : valueText(latest_[i]->value, facts_[i]);
      const StatusCode status = latest_[i] ? latest_[i]->status : StatusCode{};
      const bool hasTime = latest_[i] && !latest_[i]->sourceTimestamp.isNull();
      records.add({isFresh ? "›" : " ", nodes_[i].path, isFresh ? bold(value) : value, facts_[i].unit,
                   latest_[i] ? coloured(status, std::string(status.name())) : std::string(),
                   hasTime ? localTime(latest_[i]->sourceTimestamp.time()) : std::string()});
    }
    std::string text = records.text(Format::Table, true, {2});
    const std::string pace = shown < nodes_.size() ? fmt::format("{} of {} fit here", shown, nodes_.size())
                                                   : fmt::format("every {:g} ms", interval_);
    text += dim(fmt::format("{} changes · {} · times {} · Ctrl-C ends", changes_, pace, localZone())) + "\n";
    screen_.draw(text);
  }
  void printLine(std::size_t at, const DataValue& value) {
    const std::string name(value.status.name());
    if (isStructured(options_.format)) {
      Json json{{"time", value.sourceTimestamp.isNull() ? Json() : Json(value.sourceTimestamp.text())},
                {"node", nodes_[at].path},
                {"value", valueJson(value.value, facts_[at])},
                {"unit", facts_[at].unit},
                {"status", name}};
      std::fputs(document(json, options_.format, true).c_str(), stdout);
    } else {
      Records record({"time", "node", "value", "unit", "status"});
      const std::string time = value.sourceTimestamp.isNull() ? "-" : localTime(value.sourceTimestamp.time());
      record.add(
          {Cell(time, value.sourceTimestamp.isNull() ? Json() : Json(value.sourceTimestamp.text())), nodes_[at].path,
           Cell(value.value.isNull() ? "-" : valueText(value.value, facts_[at]), valueJson(value.value, facts_[at])),
           facts_[at].unit, name});
      std::string text = record.text(options_.format, false);
      if (options_.format == Format::Csv) text = text.substr(text.find('\n') + 1);
      std::fputs(text.c_str(), stdout);
    }
    std::fflush(stdout);
  }

  std::vector<Found> nodes_;
  std::vector<VariableFacts> facts_;
  Options options_;
  double interval_;
  std::vector<std::optional<DataValue>> latest_;
  std::vector<std::chrono::steady_clock::time_point> changed_;
  bool isLive_;
  std::size_t changes_ = 0;
  Redrawn screen_;
};

Awaitable<int> watchValues(SessionPtr session, Interrupt& interrupt, Options options, WatchOptions watch) {
  auto found = co_await findNodes(session, watch.patterns);
  if (!found) co_return fail(found.error());
  std::vector<Found> nodes;
  for (auto& node : *found)
    if (node.nodeClass == NodeClass::Variable) nodes.push_back(std::move(node));
  if (nodes.empty())
    co_return fail(
        {status::BadAttributeIdInvalid, watch.patterns.front() + " is no variable: it has no value", "zunth tree"});
  std::vector<NodeId> ids;
  for (const auto& node : nodes) ids.push_back(node.nodeId);
  auto facts = co_await factsOf(session, ids);
  if (!facts) co_return fail(facts.error());

  auto filter = deadbandOf(watch.deadband);
  if (!filter) co_return fail(filter.error());
  std::optional<std::size_t> trigger;
  if (!watch.when.empty()) {
    auto node = co_await findNode(session, watch.when);
    if (!node) co_return fail(node.error());
    const auto known = std::ranges::find(ids, node->nodeId);
    trigger = static_cast<std::size_t>(known - ids.begin());
    if (known == ids.end())
      co_return fail({status::BadSyntaxError, watch.when + " is not among the nodes that are watched",
                      "name it among the nodes, too"});
  }

  Board board(nodes, *facts, options, watch.interval);
  int code = kDone;
  auto handlers = subscriptionHandlers(interrupt, code);
  handlers.change = [&](std::uint32_t handle, const DataValue& value) {
    if (handle >= nodes.size() || (watch.count && board.changes() >= watch.count)) return;
    board.change(handle, value);
    if (watch.count && board.changes() >= watch.count) interrupt.raise();
  };
  client::Subscription::Settings settings;
  settings.interval = watch.interval;
  settings.durableHours = watch.hours;
  // Ten minutes for whoever comes back to a kept one.
  if (watch.keep) settings.lifetimeCount = static_cast<std::uint32_t>(600'000 / watch.interval) + 3;
  Result<std::shared_ptr<client::Subscription>> subscription(Error{});
  if (watch.resume)
    subscription = co_await client::Subscription::takeOver(session, watch.resume, true, handlers);
  else
    subscription = co_await client::Subscription::create(session, settings, handlers);
  if (!subscription) {
    Error error = subscription.error();
    if (watch.resume && error.next.empty()) error.next = "zunth watch " + watch.patterns.front();
    co_return fail(error);
  }
  if (!watch.resume) {
    std::vector<MonitoredItemCreateRequest> items;
    for (std::size_t i = 0; i < ids.size(); ++i) {
      MonitoredItemCreateRequest item;
      item.itemToMonitor = {ids[i], static_cast<std::uint32_t>(AttributeId::Value), {}, {}};
      item.monitoringMode = trigger && *trigger != i ? MonitoringMode::Sampling : MonitoringMode::Reporting;
      item.requestedParameters.clientHandle = static_cast<std::uint32_t>(i);
      item.requestedParameters.filter = *filter;
      // Piped, every change counts; on the screen the newest does.
      const bool isLive = isTerminal() && !watch.keep;
      item.requestedParameters.samplingInterval = isLive ? watch.interval : 0;
      item.requestedParameters.queueSize = watch.queue ? watch.queue : isLive ? 1 : 1000;
      item.requestedParameters.discardOldest = true;
      items.push_back(std::move(item));
    }
    auto results = co_await (*subscription)->add(std::move(items));
    if (!results) {
      co_await (*subscription)->close();
      co_return fail(results.error());
    }
    std::vector<std::uint32_t> linked;
    for (std::size_t i = 0; i < results->size(); ++i) {
      const auto& result = (*results)[i];
      if (result.statusCode.isBad())
        board.refuse(i, result.statusCode);
      else if (trigger && *trigger != i)
        linked.push_back(result.monitoredItemId);
    }
    if (trigger && *trigger < results->size()) {
      auto links = co_await (*subscription)->trigger((*results)[*trigger].monitoredItemId, std::move(linked));
      if (!links) co_return fail(links.error());
    }
  }

  const auto end =
      watch.seconds > 0 ? std::chrono::steady_clock::now() + milliseconds(watch.seconds * 1000) : Instant::max();
  while (!interrupt.isWanted() && std::chrono::steady_clock::now() < end) {
    board.draw();
    const auto step = milliseconds(std::min(watch.interval, 500.0));
    co_await interrupt.wait(isTerminal()
                                ? std::min<Duration>(step, end - std::chrono::steady_clock::now())
                                : std::min<Duration>(std::chrono::hours(1), end - std::chrono::steady_clock::now()));
  }
  board.drawAll();
  if (!watch.keep) {
    co_await (*subscription)->close();
    co_return code;
  }
  (*subscription)->leave();
  co_await session->close(true);
  if (!options.quiet) {
    std::string again = "zunth watch";
    for (const auto& pattern : watch.patterns) again += " '" + pattern + "'";
    std::fprintf(stderr, "zunth: the server goes on watching; take it up with: %s --resume %u\n", again.c_str(),
                 (*subscription)->id());
  }
  co_return code;
}

}  // namespace

void addWatch(Program program) {
  const auto verb = addVerb(program, "watch", "Watch variables live; piped, one line a change.",
                            "zunth watch 'Hatchery/Intake/DF1/*' --interval 250");
  auto watch = std::make_shared<WatchOptions>();
  verb.option("NODE", watch->patterns, "Paths (with * and **) or NodeIds").required();
  verb.option("--interval", watch->interval, "Milliseconds between updates").showsDefault().range(10.0, 3.6e6);
  verb.option("--for", watch->seconds, "Seconds to watch; without it until Ctrl-C").range(0.0, 1e9);
  verb.option("--count", watch->count, "Changes to show, then end");
  verb.option("--deadband", watch->deadband, "Least change that counts: in the unit (0.5) or of the range (2%)");
  verb.option("--queue", watch->queue, "Values of each node that the server keeps between two updates");
  verb.option("--when", watch->when, "Tell about the others only when this one of them changes");
  verb.flag("--keep", watch->keep, "Leave the subscription with the server, to be taken up with --resume");
  verb.option("--hours", watch->hours, "How long it waits there, where the server can (else ten minutes)");
  verb.option("--resume", watch->resume, "Take up a subscription that was kept; name the same nodes");
  verb.runs([program, watch] {
    program.exitCode = withSession(program.options, true, [&](SessionPtr session, Interrupt& interrupt) {
      return watchValues(session, interrupt, program.options, *watch);
    });
  });
}

}  // namespace zunth::cli
