#include "apps/zunth/nodes.hpp"
#include "core/ua/json.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct WatchOptions {
  std::vector<std::string> patterns;
  double interval = 500;  // ms
  double seconds = 0;     // 0 for as long as the user likes
  std::size_t count = 0;  // changes; 0 for any
};

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

  /// On a terminal: the table again, over the last one.
  void draw() {
    if (!isLive_) return;
    Records records({" ", "node", "value", "unit", "status", "time"});
    const auto now = std::chrono::steady_clock::now();
    for (std::size_t i = 0; i < nodes_.size(); ++i) {
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
    text += dim(fmt::format("{} changes · every {:g} ms · times {} · Ctrl-C ends", changes_, interval_, localZone())) +
            "\n";
    if (lines_) std::printf("\x1b[%zuA\x1b[J", lines_);
    lines_ = static_cast<std::size_t>(std::ranges::count(text, '\n'));
    std::fputs(text.c_str(), stdout);
    std::fflush(stdout);
  }

 private:
  void printLine(std::size_t at, const DataValue& value) {
    const std::string name(value.status.name());
    if (options_.format == Format::Json) {
      Json json{{"time", value.sourceTimestamp.isNull() ? Json() : Json(value.sourceTimestamp.text())},
                {"node", nodes_[at].path},
                {"value", toJson(value.value)},
                {"unit", facts_[at].unit},
                {"status", name}};
      std::printf("%s\n", json.dump(-1, ' ', false, Json::error_handler_t::replace).c_str());
    } else {
      Records record({"time", "node", "value", "unit", "status"});
      const std::string time = value.sourceTimestamp.isNull() ? "-" : localTime(value.sourceTimestamp.time());
      record.add({Cell(time, value.sourceTimestamp.isNull() ? Json() : Json(value.sourceTimestamp.text())),
                  nodes_[at].path,
                  Cell(value.value.isNull() ? "-" : valueText(value.value, facts_[at]), toJson(value.value)),
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
  std::size_t lines_ = 0;  // drawn last
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

  Board board(nodes, *facts, options, watch.interval);
  int code = kDone;
  auto subscription =
      co_await client::Subscription::create(session, watch.interval, [&](std::uint32_t handle, const DataValue& value) {
        if (handle >= nodes.size() || (watch.count && board.changes() >= watch.count)) return;
        board.change(handle, value);
        if (watch.count && board.changes() >= watch.count) interrupt.raise();
      });
  if (!subscription) co_return fail(subscription.error());
  (*subscription)->onFailure([&](const Error& error) {
    if (interrupt.isWanted()) return;
    code = fail(error);
    interrupt.raise();
  });
  std::vector<MonitoredItemCreateRequest> items;
  for (std::size_t i = 0; i < ids.size(); ++i) {
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {ids[i], static_cast<std::uint32_t>(AttributeId::Value), {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters.clientHandle = static_cast<std::uint32_t>(i);
    // Piped, every change counts; on the screen the newest does.
    item.requestedParameters.samplingInterval = isTerminal() ? watch.interval : 0;
    item.requestedParameters.queueSize = isTerminal() ? 1 : 1000;
    item.requestedParameters.discardOldest = true;
    items.push_back(std::move(item));
  }
  auto results = co_await (*subscription)->add(std::move(items));
  if (!results) {
    co_await (*subscription)->close();
    co_return fail(results.error());
  }
  for (std::size_t i = 0; i < results->size(); ++i)
    if ((*results)[i].statusCode.isBad()) board.refuse(i, (*results)[i].statusCode);

  const auto end =
      watch.seconds > 0 ? std::chrono::steady_clock::now() + milliseconds(watch.seconds * 1000) : Instant::max();
  while (!interrupt.isWanted() && std::chrono::steady_clock::now() < end) {
    board.draw();
    const auto step = milliseconds(std::min(watch.interval, 500.0));
    co_await interrupt.wait(isTerminal()
                                ? std::min<Duration>(step, end - std::chrono::steady_clock::now())
                                : std::min<Duration>(std::chrono::hours(1), end - std::chrono::steady_clock::now()));
  }
  board.draw();
  co_await (*subscription)->close();
  co_return code;
}

}  // namespace

void addWatch(Program program) {
  auto* verb = addVerb(program, "watch", "Watch variables live; piped, one line a change.",
                       "zunth watch 'Hatchery/Intake/DF1/*' --interval 250");
  auto watch = std::make_shared<WatchOptions>();
  verb->add_option("NODE", watch->patterns, "Paths (with * and **) or NodeIds")->required();
  verb->add_option("--interval", watch->interval, "Milliseconds between updates")
      ->capture_default_str()
      ->check(CLI::Range(10.0, 3.6e6));
  verb->add_option("--for", watch->seconds, "Seconds to watch; without it until Ctrl-C")->check(CLI::Range(0.0, 1e9));
  verb->add_option("--count", watch->count, "Changes to show, then end");
  verb->callback([program, watch] {
    program.exitCode = withSession(program.options, true, [&](SessionPtr session, Interrupt& interrupt) {
      return watchValues(session, interrupt, program.options, *watch);
    });
  });
}

}  // namespace zunth::cli
