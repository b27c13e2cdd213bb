#include "service/admin/history_settings.hpp"

#include "core/history/variables.hpp"
#include "core/ua/text.hpp"
#include "service/device/driver_kinds.hpp"
#include "service/history/postgres_store.hpp"

#include <algorithm>
#include <sstream>

#include <fmt/format.h>

namespace zunth::admin {

using history::Rule;
using model::Entry;
using model::Findings;
using model::Text;

namespace {

std::optional<double> positive(const std::string& text) {
  const auto number = ua::parse(text, ua::BuiltInType::Double);
  if (!number || !(*number->get<double>() > 0)) return std::nullopt;
  return *number->get<double>();
}

/// "2 years", in days; 0 for what is no such time.
double daysIn(std::istream& words) {
  std::string number, unit;
  words >> number >> unit;
  const auto count = positive(number);
  const double days = unit.starts_with("day") ? 1 : unit.starts_with("month") ? 31 : unit.starts_with("year") ? 366 : 0;
  return count ? *count * days : 0;
}

double readKeep(const Entry& entry, Findings& findings) {
  const Text* text = entry.textOf("keep");
  if (!text) return 0;
  std::istringstream words(text->text);
  if (const double days = daysIn(words); days > 0) return days;
  findings.error(text->place, fmt::format("'{}' is no time for history to be kept", text->text),
                 "write a number of days, months or years: keep: 2 years");
  return 0;
}

double readSize(const Entry& entry, Findings& findings) {
  const Text* text = entry.textOf("size");
  if (!text) return 0;
  std::istringstream words(text->text);
  std::string number, unit;
  words >> number >> unit;
  const auto count = positive(number);
  if (count && (unit == "GB" || unit == "MB")) return unit == "GB" ? *count : *count / 1000;
  findings.error(text->place, fmt::format("'{}' is no size", text->text), "write a number of GB or MB: size: 20 GB");
  return 0;
}

std::string readDatabase(const Entry& entry, Findings& findings) {
  const Text* text = entry.textOf("database");
  if (!text) return {};
  if (auto fine = history::PostgresStore::check(text->text); !fine)
    findings.error(text->place, fmt::format("this is no address of a database: {}", fine.error().cause),
                   fine.error().next);
  if (const Text* size = entry.textOf("size"))
    findings.error(size->place, "how large a database may become is up to who keeps it",
                   "leave out 'size', and limit history by time: keep: 2 years");
  return text->text;
}

history::Choice readRule(const std::string& pattern, const Text& text, double keptFor, Findings& findings) {
  const auto wrong = [&](const std::string& what) {
    findings.error(text.place, what, "as in: deadband 0.05, pause 10 min, keep 90 days");
    return history::Choice{pattern, {}};
  };
  std::string spaced = text.text;
  for (char& c : spaced)
    if (c == ',') c = ' ';
  std::istringstream words(spaced);
  history::Choice out{pattern, {}};
  Rule& rule = out.rule;
  for (std::string word; words >> word;) {
    std::string number;
    if (word == "every-change") {
      rule.kind = Rule::Kind::EveryChange;
    } else if (word == "deadband" || word == "swinging-door") {
      rule.kind = word == "deadband" ? Rule::Kind::Deadband : Rule::Kind::SwingingDoor;
      const auto deviation = words >> number ? positive(number) : std::nullopt;
      if (!deviation) return wrong(fmt::format("'{}' is followed by a number, in the variable's unit", word));
      rule.deviation = *deviation;
    } else if (word == "pause") {
      std::string unit;
      words >> number;
      if (number.find_first_not_of("0123456789.") == std::string::npos) words >> unit;
      const auto pause = device::parseDuration(number + unit);
      if (!pause) return wrong("'pause' is followed by a time");
      rule.longestPause = *pause;
    } else if (word == "keep") {
      out.days = daysIn(words);
      if (!(out.days > 0)) return wrong("'keep' is followed by a number of days, months or years");
      if (keptFor > 0 && out.days > keptFor)
        return wrong(fmt::format("nothing is kept for longer than {:g} days", keptFor));
    } else {
      return wrong(fmt::format("'{}' is no word of a rule of history", word));
    }
  }
  return out;
}

aggregate::Configuration readAggregation(const Text& text, Findings& findings) {
  const auto wrong = [&](const std::string& what, const char* next) {
    findings.error(text.place, what, next);
    return aggregate::Configuration();
  };
  std::string spaced = text.text;
  for (char& c : spaced)
    if (c == ',' || c == '%') c = ' ';
  std::istringstream words(spaced);
  aggregate::Configuration out;
  for (std::string word; words >> word;) {
    if (word == "uncertain-counts") {
      out.treatUncertainAsBad = false;
    } else if (word == "extrapolated") {
      out.useSlopedExtrapolation = true;
    } else if (word == "good" || word == "bad") {
      std::string number;
      const auto percent = words >> number ? ua::parse(number, ua::BuiltInType::Byte) : ua::Error{};
      if (!percent || *percent->get<std::uint8_t>() > 100)
        return wrong(fmt::format("'{}' is followed by a percentage, as a whole number", word),
                     "as in: good 80, bad 50");
      (word == "good" ? out.percentDataGood : out.percentDataBad) = *percent->get<std::uint8_t>();
    } else {
      return wrong(fmt::format("'{}' says nothing of aggregates", word),
                   "as in: uncertain-counts, good 80, bad 50, extrapolated");
    }
  }
  if (out.percentDataGood + out.percentDataBad < 100)
    return wrong(fmt::format("an interval could be good and bad at once: {} % and {} %", out.percentDataGood,
                             out.percentDataBad),
                 "both together are 100 at least (Part 13, 4.2.1.2)");
  return out;
}

}  // namespace

HistorySettings readHistory(const Entry& root, Findings& findings) {
  HistorySettings out;
  const Entry* entry = root.find("history");
  if (!entry) return out;
  if (entry->value) {
    if (entry->value->text != "on" && entry->value->text != "off")
      findings.error(entry->value->place, fmt::format("'{}' is neither on nor off", entry->value->text),
                     "write off, or a map of keep and rules");
    out.isOn = entry->value->text != "off";
    return out;
  }
  checkKeys(*entry, {"keep", "size", "database", "rules", "aggregates"}, findings);
  out.days = readKeep(*entry, findings);
  out.gigabytes = readSize(*entry, findings);
  out.database = readDatabase(*entry, findings);
  if (const Entry* rules = entry->find("rules"))
    for (const Entry& rule : rules->entries) {
      if (rule.value)
        out.choices.push_back(readRule(rule.key.text, *rule.value, out.days, findings));
      else
        findings.error(rule.key.place, "a rule of history is a line of words", "as in: deadband 0.05, pause 10 min");
    }
  if (const Entry* aggregates = entry->find("aggregates"))
    for (const Entry& each : aggregates->entries) {
      if (each.value)
        out.aggregates.push_back({each.key.text, readAggregation(*each.value, findings)});
      else
        findings.error(each.key.place, "how aggregates are calculated is a line of words",
                       "as in: uncertain-counts, good 80, bad 50, extrapolated");
    }
  return out;
}

void warnOfIdleRules(const Entry& root, const space::Space& space, Findings& findings) {
  const Entry* entry = root.find("history");
  if (!entry) return;
  std::vector<std::string> paths;
  for (space::NodeIndex node = 0; node < space.rows(); ++node)
    if (history::isHistorized(space, node)) paths.push_back(space.path(node));
  for (const char* key : {"rules", "aggregates"}) {
    const Entry* rules = entry->find(key);
    if (!rules) continue;
    for (const Entry& rule : rules->entries) {
      const auto isMeant = [&](const std::string& path) { return history::matchesPath(rule.key.text, path); };
      if (std::ranges::none_of(paths, isMeant))
        findings.warn(
            rule.key.place, fmt::format("'{}' means no variable with a history", rule.key.text),
            "give variables the word 'history' in the model, or write another pattern, as in: Hatchery/**/oxygen");
    }
  }
}

}  // namespace zunth::admin
