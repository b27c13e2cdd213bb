#include "apps/zunth/conditions.hpp"
#include "apps/zunth/redrawn.hpp"
#include "core/history/variables.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct AlarmWish {
  bool watches = false, counts = false, isAll = false;
  std::uint32_t severity = 0;
  std::string words;  // of the alarm's path or its message
  std::string area, state, conditionClass;

  bool wants(const Condition& condition) const {
    const auto has = [&](const std::string& text) { return text.find(words) != std::string::npos; };
    if (condition.severity < severity) return false;
    if (!words.empty() && !has(condition.path) && !has(condition.message)) return false;
    if (!area.empty() && !history::matchesPath(area, condition.path) &&
        !history::matchesPath(area + "/**", condition.path))
      return false;
    if (!conditionClass.empty() && condition.conditionClass != conditionClass) return false;
    return state.empty() || isIn(condition, state).value_or(false);
  }
  /// What somebody has put aside is not in the way of who didn't ask for it.
  bool hides(const Condition& condition) const { return !isAll && state.empty() && condition.isPutAside(); }
};

std::vector<Cell> rowOf(const Condition& condition) {
  return {Cell(condition.time.isNull() ? "-" : localTime(condition.time.time()),
               condition.time.isNull() ? Json() : Json(condition.time.text())),
          Cell(std::to_string(condition.severity), condition.severity),
          condition.state(),
          condition.path,
          condition.comment,
          condition.message};
}
const std::vector<std::string> kColumns{"time", "severity", "state", "alarm", "comment", "message"};
constexpr std::ptrdiff_t kCommentColumn = 4;

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

using Key = std::pair<std::string, std::string>;  // path and branch
using Standing = std::map<Key, Condition>;
Key keyOf(const Condition& condition) {
  return {condition.path, condition.branch.isNull() ? std::string() : condition.branch.text()};
}

/// The severest first, and of those what came first.
std::vector<const Condition*> inOrder(const Standing& standing, const AlarmWish& asked, std::size_t& hidden) {
  std::vector<const Condition*> out;
  for (const auto& [key, condition] : standing) {
    if (!asked.wants(condition)) continue;
    if (asked.hides(condition))
      ++hidden;
    else
      out.push_back(&condition);
  }
  std::ranges::stable_sort(out, [](const Condition* a, const Condition* b) {
    return a->severity != b->severity ? a->severity > b->severity : a->time < b->time;
  });
  return out;
}

std::string hiddenText(std::size_t hidden) {
  return hidden ? fmt::format("{} put aside: zunth alarms --all", hidden) : std::string();
}

std::string tableOf(const Options& options, const AlarmWish& asked, const Standing& standing) {
  std::size_t hidden = 0;
  const auto shown = inOrder(standing, asked, hidden);
  const bool isTable = options.format == Format::Table;
  if (shown.empty() && isTable)
    return "no alarm is active, and none waits for anybody\n" + (hidden ? dim(hiddenText(hidden)) + "\n" : "");
  // For people the column is there when somebody has said something.
  const bool hasComments =
      !isTable || std::ranges::any_of(shown, [](const Condition* each) { return !each->comment.empty(); });
  auto columns = kColumns;
  if (!hasComments) columns.erase(columns.begin() + kCommentColumn);
  Records records(columns);
  for (const Condition* condition : shown) {
    auto row = rowOf(*condition);
    if (!hasComments) row.erase(row.begin() + kCommentColumn);
    records.add(std::move(row));
  }
  std::string out = records.text(options.format, isTerminal());
  if (isTable && isTerminal() && hidden) out += dim(hiddenText(hidden)) + "\n";
  return out;
}

/// How many there are of each kind, by the object at the top of their path and in all.
std::string countsOf(const Options& options, const AlarmWish& asked, const Standing& standing) {
  struct Counts {
    std::size_t all = 0, active = 0, unacknowledged = 0, aside = 0;
    std::uint32_t severest = 0;
    void add(const Condition& condition) {
      ++all;
      active += condition.isActive;
      unacknowledged += !condition.isAcknowledged;
      aside += condition.isPutAside();
      severest = std::max(severest, condition.severity);
    }
  };
  std::map<std::string, Counts> areas;
  Counts total;
  for (const auto& [key, condition] : standing) {
    if (!asked.wants(condition)) continue;
    const auto slash = condition.path.find('/');
    const auto second = slash == std::string::npos ? slash : condition.path.find('/', slash + 1);
    areas[condition.path.substr(0, second == std::string::npos ? slash : second)].add(condition);
    total.add(condition);
  }
  Records records({"area", "alarms", "active", "to acknowledge", "put aside", "severest"});
  const auto add = [&](const std::string& name, const Counts& counts) {
    const auto number = [](auto value) { return Cell(std::to_string(value), value); };
    records.add({name, number(counts.all), number(counts.active), number(counts.unacknowledged), number(counts.aside),
                 number(counts.severest)});
  };
  for (const auto& [name, counts] : areas) add(name, counts);
  add("all", total);
  return records.text(options.format, isTerminal(), {1, 2, 3, 4, 5});
}

/// On a terminal the list stays in place; otherwise a line for each that happens.
class Board {
 public:
  Board(const Options& options, const AlarmWish& asked) : options_(options), asked_(asked) {}

  void draw(const Standing& standing) {
    std::string text = tableOf(options_, asked_, standing);
    // The severest come first: what doesn't fit is the least of it.
    const std::size_t missing = cutToLines(text, screen_.room() - 1);
    const std::string more = missing ? fmt::format("{} more don't fit here · ", missing) : std::string();
    text += dim(fmt::format("{}times {} · Ctrl-C ends", more, localZone())) + "\n";
    screen_.draw(text);
  }

 private:
  const Options& options_;
  const AlarmWish& asked_;
  Redrawn screen_;
};

void take(Standing& standing, Condition condition) {
  const Key key = keyOf(condition);
  if (condition.isRetained)
    standing[key] = std::move(condition);
  else
    standing.erase(key);
}

Awaitable<int> listAlarms(SessionPtr session, Interrupt& interrupt, Options options, AlarmWish asked) {
  int code = kDone;
  auto opened = co_await ConditionFeed::open(session, interrupt, code);
  if (!opened) co_return fail(opened.error());
  ConditionFeed& feed = **opened;
  auto found = co_await feed.standing(milliseconds(options.timeout * 1000));
  if (!found) {
    co_await feed.close();
    co_return fail(found.error());
  }
  Standing standing;
  for (auto& condition : *found) take(standing, std::move(condition));
  const bool isLive = asked.watches && isTerminal() && options.format == Format::Table;
  if (asked.counts) {
    std::fputs(countsOf(options, asked, standing).c_str(), stdout);
  } else if (asked.watches && isStructured(options.format)) {
    // A stream is one object a line from its beginning on.
    std::size_t hidden = 0;
    for (const auto* condition : inOrder(standing, asked, hidden)) printNews(options, rowOf(*condition));
  } else if (!isLive) {
    std::fputs(tableOf(options, asked, standing).c_str(), stdout);
  }
  std::fflush(stdout);
  Board board(options, asked);
  while (asked.watches && !interrupt.isWanted()) {
    if (isLive) board.draw(standing);
    // Shelves that end and times that run are drawn as they pass.
    co_await interrupt.wait(isLive ? milliseconds(1000) : std::chrono::hours(1));
    for (auto& condition : co_await feed.news()) {
      if (!isLive && asked.wants(condition)) printNews(options, rowOf(condition));
      take(standing, std::move(condition));
    }
    std::fflush(stdout);
  }
  co_await feed.close();
  co_return code;
}

}  // namespace

void addAlarms(Program program) {
  const auto verb =
      addVerb(program, "alarms", "List the alarms that are active or wait for somebody.", "zunth alarms --watch");
  auto asked = std::make_shared<AlarmWish>();
  verb.option("WORDS", asked->words, "Only alarms with these words in their path or message");
  verb.option("--area", asked->area, "Only alarms at or below this path (with * and **)");
  verb.option("--severity", asked->severity, "Only alarms of at least this severity, 1 to 1000").range(1, 1000);
  std::vector<std::pair<std::string, int>> states;
  for (const auto& name : conditionStates()) states.emplace_back(name, static_cast<int>(states.size()));
  auto state = std::make_shared<int>(-1);
  verb.oneOf("--state", *state, states, "Only alarms in this state");
  verb.option("--class", asked->conditionClass, "Only alarms of this class: Process, Maintenance, Safety...");
  verb.flag("--all", asked->isAll, "Those that were shelved, suppressed or taken out of service, too");
  verb.flag("--count", asked->counts, "How many there are of each kind, area by area");
  verb.flag("--watch", asked->watches, "Go on with what happens to them, until Ctrl-C");
  verb.runs([program, asked, state] {
    if (*state >= 0) asked->state = conditionStates()[static_cast<std::size_t>(*state)];
    program.exitCode = withSession(program.options, asked->watches, [&](SessionPtr session, Interrupt& interrupt) {
      return listAlarms(session, interrupt, program.options, *asked);
    });
  });
}

}  // namespace zunth::cli
