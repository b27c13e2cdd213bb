#include "apps/zunth/chart.hpp"
#include "apps/zunth/past.hpp"
#include "apps/zunth/when.hpp"
#include "core/model/table.hpp"
#include "core/ua/structure_codec.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

#include <fmt/chrono.h>
#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct HistoryWish {
  std::vector<std::string> nodes;
  std::string from = "-1h", to = "now", every, function;
  std::vector<std::string> at;
  std::uint32_t last = 0;
  bool modified = false, chart = false, remove = false, dryRun = false;
  std::string import;
};

/// A variable with a history.
struct Kept {
  Found node;
  VariableFacts facts;
};

Awaitable<Result<std::vector<Kept>>> historiesOf(SessionPtr session, std::vector<std::string> patterns) {
  auto found = co_await findNodes(session, patterns);
  if (!found) co_return found.error();
  std::vector<Found> variables;
  std::vector<NodeId> ids;
  for (auto& node : *found)
    if (node.nodeClass == NodeClass::Variable) {
      ids.push_back(node.nodeId);
      variables.push_back(std::move(node));
    }
  auto facts = co_await factsOf(session, ids);
  if (!facts) co_return facts.error();
  std::vector<Kept> out;
  for (std::size_t i = 0; i < variables.size(); ++i)
    if ((*facts)[i].accessLevel & AccessLevelType::HistoryRead) out.push_back({std::move(variables[i]), (*facts)[i]});
  if (out.empty())
    co_return Error{status::BadHistoryOperationUnsupported, patterns.front() + " has no history",
                    "give a variable the word 'history' in the model, and zunth apply"};
  co_return out;
}

/// The aggregate by its name, whatever its case.
Result<const aggregate::Function*> functionOf(const std::string& name) {
  std::vector<std::string> names;
  for (const auto& function : aggregate::functions()) {
    if (std::ranges::equal(name, function.name, [](char a, char b) { return std::tolower(a) == std::tolower(b); }))
      return &function;
    names.emplace_back(function.name);
  }
  const auto near = nearest(name, names);
  return Error{status::BadSyntaxError, fmt::format("'{}' is no aggregate", name),
               near.empty() ? fmt::format("one of {}", fmt::join(names, ", ")) : near};
}

/// To a multiple of so many ms by the local clock.
DateTime roundDown(DateTime time, double ms) {
  const auto step = static_cast<std::int64_t>(ms * 10'000);
  const std::tm local = fmt::localtime(std::chrono::system_clock::to_time_t(time.time()));
  const std::int64_t zone = local.tm_gmtoff * 10'000'000;
  return step > 0 ? DateTime{time.ticks - (time.ticks + zone) % step} : time;
}

/// What is asked for, from the words of the command line.
Result<PastWish> wishOf(const HistoryWish& asked) {
  PastWish out;
  const auto now = std::chrono::system_clock::now();
  for (const auto& text : asked.at) {
    const auto moment = momentOf(text, now);
    if (!moment) return moment.error();
    out.moments.push_back(*moment);
  }
  const auto from = momentOf(asked.from, now), to = momentOf(asked.to, now);
  if (!from) return from.error();
  if (!to) return to.error();
  out.from = *from;
  out.to = *to;
  if (!asked.every.empty()) {
    const auto every = lengthOf(asked.every);
    if (!every) return every.error();
    out.every = *every;
    // Intervals begin at round times, where nobody said one.
    if (asked.from.starts_with('-')) out.from = roundDown(out.from, *every);
  }
  if (!asked.function.empty() || out.every > 0) {
    const auto function = functionOf(asked.function.empty() ? "TimeAverage" : asked.function);
    if (!function) return function.error();
    out.function = *function;
  }
  if (asked.last > 0) {
    // The newest ones, whenever that was.
    out.from = {};
    out.most = asked.last;
  }
  return out;
}

std::string progressText(std::size_t count) { return fmt::format("\r{} values\033[K", count); }

/// Told on a terminal that isn't where the values go.
std::function<void(std::size_t)> progressOf(const Options& options) {
  if (options.quiet || isTerminal() || ::isatty(STDERR_FILENO) == 0) return {};
  return [](std::size_t count) { std::fputs(progressText(count).c_str(), stderr); };
}

/// What the values are measured in: those of a variable in its unit, and what is calculated from them (Part 13, 5.4).
std::string unitOf(const PastWish& wish, const std::string& unit) {
  if (!wish.function) return unit;
  using enum aggregate::Kind;
  switch (wish.function->kind) {
    case Count:
    case AnnotationCount:
    case NumberOfTransitions:
    case WorstQuality:
    case WorstQuality2: return {};
    case DurationGood:
    case DurationBad:
    case DurationInStateZero:
    case DurationInStateNonZero: return "ms";
    case PercentGood:
    case PercentBad: return "%";
    case Total:
    case Total2: return unit.empty() ? unit : unit + "·s";
    case VarianceSample:
    case VariancePopulation: return unit.empty() ? unit : "(" + unit + ")²";
    default: return unit;
  }
}

/// Whether the server's clock said another time.
bool isElsewhen(const DataValue& value) {
  return value.serverTimestamp != value.sourceTimestamp && !value.serverTimestamp.isNull();
}

const std::vector<std::string> kPastColumns{"node", "time", "value", "unit", "status"};

/// What is printed of a value.
std::vector<Cell> rowOf(const Kept& kept, const PastWish& wish, const DataValue& value, bool showsServer) {
  const auto& [node, facts] = kept;
  const std::string status(value.status.name());
  // What was calculated has a type of its own.
  VariableFacts own = facts;
  if (wish.function && value.value.type() != facts.builtIn) own = VariableFacts{};
  // Of what was calculated, more digits than these mean nothing to people.
  const double* number = wish.function ? value.value.get<double>() : nullptr;
  const auto calculated = number ? std::optional(fmt::format("{:.6g}", *number)) : std::nullopt;
  std::vector<Cell> row{
      node.path,
      Cell(localTime(value.sourceTimestamp.time()), value.sourceTimestamp.text()),
      Cell(value.value.isNull() ? "-"
           : calculated         ? *calculated
                                : valueText(value.value, own),
           valueJson(value.value, own)),
      unitOf(wish, facts.unit),
      Cell(coloured(value.status, status), status),
  };
  if (showsServer)
    row.emplace_back(isElsewhen(value) ? dim(localTime(value.serverTimestamp.time())) : "",
                     value.serverTimestamp.isNull() ? Json() : Json(value.serverTimestamp.text()));
  return row;
}

Error unreadable(const Kept& kept, StatusCode why) { return {why, kept.node.path + ": its history can't be read", {}}; }

int nothingKept(const Options& options) {
  if (!options.quiet) std::fputs("nothing was kept in that time\n", stderr);
  return kNo;
}

/// As CSV, printed as it comes: a year of a value each second is more than anybody wants to hold.
Awaitable<int> stream(SessionPtr session, Options options, PastWish wish, std::vector<Kept> kept) {
  auto columns = kPastColumns;
  columns.emplace_back("server");
  const auto progress = progressOf(options);
  std::size_t count = 0;
  int code = kDone;
  for (const auto& each : kept) {
    auto fine = co_await eachPast(session, each.node.nodeId, wish, [&](std::vector<DataValue> part) {
      if (part.empty()) return true;
      Records records(columns);
      for (const auto& value : part) records.add(rowOf(each, wish, value, true));
      const std::string text = records.text(options.format, false);
      std::fputs(text.c_str() + (count ? text.find('\n') + 1 : 0), stdout);
      count += part.size();
      if (progress) progress(count);
      return std::ferror(stdout) == 0;
    });
    if (!fine && session->isOpen())
      code = fail(fine.error().cause.empty() ? unreadable(each, fine.code()) : fine.error());
    else if (!fine)
      co_return fail(fine.error());
  }
  co_return count == 0 && code == kDone ? nothingKept(options) : code;
}

Awaitable<int> show(SessionPtr session, Options options, HistoryWish asked) {
  const auto wish = wishOf(asked);
  if (!wish) co_return fail(wish.error());
  auto kept = co_await historiesOf(session, asked.nodes);
  if (!kept) co_return fail(kept.error());
  if (options.format == Format::Csv && asked.last == 0) co_return co_await stream(session, options, *wish, *kept);
  std::vector<NodeId> ids;
  for (const auto& each : *kept) ids.push_back(each.node.nodeId);
  auto pasts = co_await readPast(session, ids, *wish, progressOf(options));
  if (!pasts) co_return fail(pasts.error());
  // The time of the server's clock is worth a column where it is another, and for programs.
  bool showsServer = options.format != Format::Table;
  for (const auto& past : *pasts)
    for (const auto& value : past.values) showsServer |= isElsewhen(value);
  auto columns = kPastColumns;
  if (showsServer) columns.emplace_back("server");
  Records records(columns);
  int code = kDone;
  for (std::size_t i = 0; i < kept->size(); ++i) {
    auto& past = (*pasts)[i];
    if (past.error.code.isBad()) code = fail(unreadable((*kept)[i], past.error.code));
    if (asked.last > 0) std::ranges::reverse(past.values);
    for (const auto& value : past.values) records.add(rowOf((*kept)[i], *wish, value, showsServer));
  }
  if (records.empty() && code == kDone && !isStructured(options.format)) co_return nothingKept(options);
  std::fputs(records.text(options.format, isTerminal(), {2}).c_str(), stdout);
  co_return code;
}

Awaitable<int> showModified(SessionPtr session, Options options, HistoryWish asked) {
  const auto wish = wishOf(asked);
  if (!wish) co_return fail(wish.error());
  auto kept = co_await historiesOf(session, asked.nodes);
  if (!kept) co_return fail(kept.error());
  static constexpr const char* kHow[] = {"", "inserted", "replaced", "updated", "deleted"};
  Records records({"node", "time", "value", "how", "when", "user"});
  for (const auto& each : *kept) {
    auto data = co_await readModified(session, each.node.nodeId, wish->from, wish->to);
    if (!data) co_return fail(data.error());
    for (std::size_t i = 0; i < std::min(data->dataValues.size(), data->modificationInfos.size()); ++i) {
      const auto& value = data->dataValues[i];
      const auto& info = data->modificationInfos[i];
      const auto how = static_cast<std::size_t>(info.updateType);
      records.add(
          {each.node.path, Cell(localTime(value.sourceTimestamp.time()), value.sourceTimestamp.text()),
           Cell(value.value.isNull() ? "-" : valueText(value.value, each.facts), valueJson(value.value, each.facts)),
           how < std::size(kHow) ? kHow[how] : "?",
           Cell(localTime(info.modificationTime.time()), info.modificationTime.text()), info.userName.str()});
    }
  }
  std::fputs(records.text(options.format, isTerminal(), {2}).c_str(), stdout);
  co_return kDone;
}

// Charts

/// Values enough for so many points across, with what holds at both ends.
Awaitable<Result<std::vector<Series>>> seriesOf(SessionPtr session, Options options, std::vector<Kept> kept,
                                                PastWish wish, std::size_t points) {
  constexpr std::uint32_t kMostRaw = 20'000;
  std::vector<NodeId> ids;
  for (const auto& each : kept) ids.push_back(each.node.nodeId);
  PastWish raw = wish;
  raw.withBounds = !raw.function;
  raw.most = raw.function ? 0 : kMostRaw;
  auto pasts = co_await readPast(session, ids, raw, progressOf(options));
  if (!pasts) co_return pasts.error();
  PastWish ends;
  ends.moments.push_back(wish.to);
  auto last = co_await readPast(session, ids, ends, {});
  if (!last) co_return last.error();
  std::vector<Series> out;
  for (std::size_t i = 0; i < kept.size(); ++i) {
    auto& past = (*pasts)[i];
    if (past.error.code.isBad()) co_return unreadable(kept[i], past.error.code);
    Series series{kept[i].node.path, unitOf(wish, kept[i].facts.unit), {}};
    const auto type = kept[i].facts.builtIn;
    series.isStepped = type != BuiltInType::Double && type != BuiltInType::Float;
    if (past.values.size() >= kMostRaw) {
      // More than can be seen: the average of what each point stands for.
      PastWish coarse = wish;
      coarse.every =
          std::max(1.0, static_cast<double>(wish.to.ticks - wish.from.ticks) / 10'000 / static_cast<double>(points));
      coarse.function = aggregate::functionNamed("TimeAverage");
      auto average = co_await readPast(session, std::vector<NodeId>(1, ids[i]), coarse, {});
      if (!average) co_return average.error();
      past = std::move(average->front());
    }
    for (auto& value : past.values)
      if (value.status != status::BadBoundNotFound) series.values.push_back(std::move(value));
    if (!raw.function && !(*last)[i].values.empty()) {
      auto& end = (*last)[i].values.front();
      while (!series.values.empty() && series.values.back().sourceTimestamp >= end.sourceTimestamp)
        series.values.pop_back();
      if (!end.status.isBad()) series.values.push_back(std::move(end));
    }
    out.push_back(std::move(series));
  }
  co_return std::move(out);
}

/// The limits of a variable's alarms, by the names that the standard gives them.
Awaitable<void> addLimits(SessionPtr session, NodeId variable, Series& series) {
  BrowseDescription conditions{variable, BrowseDirection::Forward, id::HasCondition, true, 0, 63};
  auto alarms = co_await session->browse(conditions);
  if (!alarms) co_return;
  // By the words of the model language.
  static constexpr std::pair<std::string_view, const char*> kLimits[] = {
      {"HighHighLimit", "highhigh"}, {"HighLimit", "high"}, {"LowLimit", "low"}, {"LowLowLimit", "lowlow"}};
  for (const auto& alarm : *alarms) {
    BrowseDescription properties{alarm.nodeId.nodeId, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
    auto found = co_await session->browse(properties);
    if (!found) continue;
    for (const auto& property : *found) {
      const auto* known =
          std::ranges::find(kLimits, property.browseName.name.view(), &std::pair<std::string_view, const char*>::first);
      if (known == std::end(kLimits)) continue;
      auto value =
          co_await session->readAttributes(property.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
      double limit = 0;
      if (value && value->front().value.toDouble(limit))
        series.limits.emplace_back(limit, alarm.browseName.name.str() + " " + known->second);
    }
  }
}

Awaitable<int> chart(SessionPtr session, Options options, HistoryWish asked, std::string file) {
  const auto wish = wishOf(asked);
  if (!wish) co_return fail(wish.error());
  if (wish->to <= wish->from) co_return wrongUse("a chart ends after it begins", "--from -2h");
  auto kept = co_await historiesOf(session, asked.nodes);
  if (!kept) co_return fail(kept.error());
  const std::size_t columns = std::clamp<std::size_t>(terminalWidth(), 60, 160);
  auto series = co_await seriesOf(session, options, *kept, *wish, file.empty() ? columns * 2 : 1200);
  if (!series) co_return fail(series.error());
  if (file.empty()) {
    const std::size_t lines = series->size() == 1 ? 14 : 8;
    std::fputs(textChart(*series, wish->from, wish->to, columns, lines).c_str(), stdout);
    co_return kDone;
  }
  for (std::size_t i = 0; i < series->size(); ++i) co_await addLimits(session, (*kept)[i].node.nodeId, (*series)[i]);
  std::ofstream out(file, std::ios::binary);
  out << svgChart(*series, wish->from, wish->to);
  out.flush();
  if (!out) co_return fail({status::BadUserAccessDenied, file + " can't be written", {}});
  if (!options.quiet) std::printf("%s: %zu variables\n", file.c_str(), series->size());
  co_return kDone;
}

// Changes

Awaitable<int> removeRange(SessionPtr session, Options options, HistoryWish asked) {
  const auto wish = wishOf(asked);
  if (!wish) co_return fail(wish.error());
  auto kept = co_await historiesOf(session, asked.nodes);
  if (!kept) co_return fail(kept.error());
  std::vector<NodeId> ids;
  for (const auto& each : *kept) ids.push_back(each.node.nodeId);
  auto pasts = co_await readPast(session, ids, *wish, progressOf(options));
  if (!pasts) co_return fail(pasts.error());
  Records records({"node", "values", "outcome"});
  int code = kDone;
  for (std::size_t i = 0; i < kept->size(); ++i) {
    const std::size_t count = (*pasts)[i].values.size();
    std::string outcome = "would be deleted";
    if (!asked.dryRun) {
      DeleteRawModifiedDetails details;
      details.nodeId = ids[i];
      details.startTime = wish->from;
      details.endTime = wish->to;
      auto done = co_await updatePast(session, ExtensionObject::of(details));
      if (!done) co_return fail(done.error());
      outcome = done->statusCode.isGood() ? "deleted" : std::string(done->statusCode.name());
      if (done->statusCode.isBad()) code = exitCodeOf(done->statusCode);
    }
    records.add({(*kept)[i].node.path, Cell(std::to_string(count), Json(count)), outcome});
  }
  std::fputs(records.text(options.format, isTerminal(), {1}).c_str(), stdout);
  co_return code;
}

/// Reads what --output csv writes: node, time, value and status, whichever columns there are in whichever order.
Awaitable<int> import(SessionPtr session, Options options, HistoryWish asked) {
  std::ifstream file(asked.import, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  if (!file) co_return fail({status::BadUserAccessDenied, asked.import + " can't be read", {}});
  model::Findings findings;
  const auto rows = model::readCsv(asked.import, text.str(), findings);
  if (findings.hasErrors() || rows.empty())
    co_return fail({status::BadSyntaxError, asked.import + " is no table", "write what --output csv gives"});
  std::map<std::string, std::size_t> columns;
  for (std::size_t i = 0; i < rows.front().size(); ++i) columns[rows.front()[i].text] = i;
  if (!columns.contains("time") || !columns.contains("value"))
    co_return fail({status::BadSyntaxError, asked.import + " has no columns called time and value",
                    "its first line names them: node,time,value,status"});
  auto kept = co_await historiesOf(session, asked.nodes);
  if (!kept) co_return fail(kept.error());
  std::vector<List<DataValue>> values(kept->size());
  for (std::size_t line = 1; line < rows.size(); ++line) {
    const auto cell = [&](const char* name) {
      const auto column = columns.find(name);
      return column == columns.end() || column->second >= rows[line].size() ? std::string()
                                                                            : rows[line][column->second].text;
    };
    const auto wrong = [&](const std::string& what) {
      return fail({status::BadSyntaxError, fmt::format("{}:{}: {}", asked.import, line + 1, what), {}});
    };
    const std::string node = cell("node");
    const auto to =
        node.empty() ? kept->begin() : std::ranges::find_if(*kept, [&](const Kept& k) { return k.node.path == node; });
    if (to == kept->end()) continue;  // of a variable that wasn't named
    DataValue value;
    const auto time = momentOf(cell("time"), std::chrono::system_clock::now());
    if (!time) co_return wrong(time.error().cause);
    value.sourceTimestamp = *time;
    if (const auto status = cell("status"); !status.empty()) {
      const auto code = statusNamed(status);
      if (!code) co_return wrong(fmt::format("'{}' is no status", status));
      value.status = *code;
    }
    if (const auto words = cell("value"); !words.empty() && words != "-") {
      auto typed = typedValue(words, to->facts);
      if (!typed) co_return wrong(typed.error().cause);
      value.value = std::move(*typed);
    }
    values[static_cast<std::size_t>(to - kept->begin())].push_back(std::move(value));
  }
  constexpr std::size_t kBatch = 5'000;
  Records records({"node", "values", "outcome"});
  int code = kDone;
  for (std::size_t i = 0; i < kept->size(); ++i) {
    std::size_t good = 0;
    StatusCode worst = status::Good;
    for (std::size_t at = 0; at < values[i].size() && !asked.dryRun; at += kBatch) {
      UpdateDataDetails details;
      details.nodeId = (*kept)[i].node.nodeId;
      details.performInsertReplace = PerformUpdateType::Update;
      for (std::size_t k = at; k < std::min(values[i].size(), at + kBatch); ++k)
        details.updateValues.push_back(values[i][k]);
      auto done = co_await updatePast(session, ExtensionObject::of(details));
      if (!done) co_return fail(done.error());
      if (done->statusCode.isBad()) worst = done->statusCode;
      for (const auto outcome : done->operationResults) {
        good += !outcome.isBad();
        if (outcome.isBad()) worst = outcome;
      }
      if (!options.quiet && ::isatty(STDERR_FILENO) != 0) std::fputs(progressText(at).c_str(), stderr);
    }
    if (worst.isBad()) code = exitCodeOf(worst);
    const std::size_t count = asked.dryRun ? values[i].size() : good;
    records.add({(*kept)[i].node.path, Cell(std::to_string(count), Json(count)),
                 worst.isBad()  ? std::string(worst.name())
                 : asked.dryRun ? "would be taken"
                                : "taken"});
  }
  std::fputs(records.text(options.format, isTerminal(), {1}).c_str(), stdout);
  co_return code;
}

void addRange(const Verb& verb, HistoryWish& wish) {
  verb.option("--from", wish.from, "Begin: -2h, yesterday 06:00, 2026-11-28").called("WHEN").showsDefault();
  verb.option("--to", wish.to, "End, not included").called("WHEN").showsDefault();
  verb.option("--every", wish.every, "One value for each interval: 1min, 1h").called("LENGTH");
  verb.option("--aggregate", wish.function, "What an interval comes to: average, maximum, count, ... (TimeAverage)")
      .called("NAME");
}

}  // namespace

void addHistory(Program program) {
  const auto verb = addVerb(program, "history", "What was kept of variables: read it, draw it, correct it.",
                            "zunth history Hatchery/Intake/DF1/pressure --from -2h --every 5min");
  auto wish = std::make_shared<HistoryWish>();
  verb.option("NODE", wish->nodes, "Paths (with * and **) or NodeIds").required();
  addRange(verb, *wish);
  verb.option("--last", wish->last, "The newest values, so many of each").called("COUNT");
  verb.option("--moment", wish->at, "The values at these moments").called("WHEN");
  verb.flag("--chart", wish->chart, "Draw it");
  verb.flag("--modified", wish->modified, "What was changed by hand, and by whom");
  verb.option("--import", wish->import, "Put in what a CSV file has: time, value, status, node").called("FILE");
  verb.flag("--delete", wish->remove, "Delete what was kept from --from to --to");
  verb.flag("--dry-run", wish->dryRun, "Only tell what would be changed");
  verb.runs([program, verb, wish] {
    if (wish->remove && (wish->from == "-1h" || !wish->every.empty() || wish->last != 0)) {
      program.exitCode = wrongUse("what is deleted has a begin that is said", "--from WHEN --to WHEN");
      return;
    }
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      if (wish->remove) return removeRange(session, program.options, *wish);
      if (!wish->import.empty()) return import(session, program.options, *wish);
      if (wish->modified) return showModified(session, program.options, *wish);
      if (wish->chart) return chart(session, program.options, *wish, {});
      return show(session, program.options, *wish);
    });
  });
}

void addPlot(Program program) {
  const auto verb = addVerb(program, "plot", "Draw what was kept of variables as a picture (SVG).",
                            "zunth plot Hatchery/Intake/DF1/pressure --from -2h --into pressure.svg");
  auto wish = std::make_shared<HistoryWish>();
  auto file = std::make_shared<std::string>();
  verb.option("NODE", wish->nodes, "Paths (with * and **) or NodeIds").required();
  addRange(verb, *wish);
  verb.option("--into", *file, "The file to be written").called("FILE.svg").required();
  verb.runs([program, wish, file] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return chart(session, program.options, *wish, *file);
    });
  });
}

}  // namespace zunth::cli
