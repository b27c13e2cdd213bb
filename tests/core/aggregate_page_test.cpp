// docs/aggregates.md: what each aggregate makes of the same samples. The page is what comes out of the aggregates, and
// holds nothing that a second implementation doesn't come to, too. ZUNTH_WRITE_PAGES=1 writes it anew.
#include <cmath>
#include <cstdlib>
#include <fstream>
#include <iterator>

#include "tests/core/aggregate_series.hpp"
#include <catch2/catch.hpp>
#include <fmt/format.h>

namespace zunth::aggregate_page_test {

using namespace aggregate_test;

struct Series {
  const char* name;
  Samples samples;
  Manner manner;
};

/// As in Part 13, A.1: times that are even and uneven, lines and steps, a bad sample and an uncertain one.
std::vector<Series> series() {
  const Samples uneven{sample(2, 10),
                       sample(25, 20),
                       sample(28, 25),
                       sample(39, 30),
                       sample(42, 0, status::Bad),
                       sample(48, 40),
                       sample(52, 50),
                       sample(72, 60),
                       sample(77, 70, status::Uncertain),
                       sample(83, 70),
                       sample(86, 80),
                       sample(90, 90)};
  Samples states;
  bool isOn = false;
  for (const auto& each : uneven) {
    states.push_back(each);
    if (each.status.isBad()) continue;
    const double value = numberOf(each.value);
    isOn = value == 10 || value == 25 || value == 30 || value == 40 || value == 70 || value == 90;
    states.back().value = Variant(isOn);
  }
  return {{"A", kSteady, kSteadyManner},
          {"B", uneven, {{true, 100, 100, false}, false}},
          {"C", uneven, {{true, 50, 50, false}, true}},
          {"D", states, {{true, 100, 100, false}, true}}};
}

std::string secondsOf(DateTime time) {
  const auto tenths = (time.ticks - kNoon) / (kSecond / 10);
  const auto seconds = tenths / 10;
  const std::string fraction = tenths % 10 ? fmt::format(".{}", tenths % 10) : "";
  return fmt::format("12:{:02}:{:02}{}", seconds / 60, seconds % 60, fraction);
}

std::string wordsOf(const Variant& value) {
  if (const auto* is = value.get<bool>()) return *is ? "true" : "false";
  if (const auto* code = value.get<StatusCode>()) return std::string(code->name());
  std::string text = fmt::format("{:.3f}", numberOf(value));
  text.erase(text.find_last_not_of('0') + 1);
  if (text.ends_with('.')) text.pop_back();
  return text;
}

/// 13 ? CP
std::string cellOf(const DataValue& told, DateTime begin) {
  std::string out = told.value.isNull() ? std::string(told.status.name()) : wordsOf(told.value);
  if (!told.value.isNull() && told.sourceTimestamp != begin) out += " at " + secondsOf(told.sourceTimestamp);
  if (told.status.isBad()) return out;
  if (told.status.isUncertain()) out += " ?";
  std::string bits;
  if (told.status.value & kCalculated) bits += 'C';
  if (told.status.value & kInterpolated) bits += 'I';
  if (told.status.value & kPartial) bits += 'P';
  if (told.status.value & kMultiValue) bits += 'M';
  return bits.empty() ? out : out + " " + bits;
}

void checkBySecond(const Series& each, const Function& function, const Grid& grid, const Samples& told) {
  const ByTheText second(each.samples, each.manner);
  REQUIRE(told.size() == grid.size());
  for (std::size_t i = 0; i < told.size(); ++i) {
    CAPTURE(each.name, function.name, i, told[i].status.name());
    const auto wanted = second.judge(function.kind, grid.interval(i), false);
    CHECK(told[i].status.condition() == wanted.status.condition());
    REQUIRE(told[i].value.isNull() != wanted.value.has_value());
    if (!wanted.value) continue;
    const auto* code = told[i].value.get<StatusCode>();
    CHECK((code ? code->value >> 30 : numberOf(told[i].value)) == Approx(*wanted.value).margin(1e-9));
    if (wanted.time) CHECK(told[i].sourceTimestamp == *wanted.time);
  }
}

std::string page() {
  const auto all = series();
  std::string out = R"(# What aggregates make of samples

Each aggregate of Part 13 of the same four series of samples, interval by interval; but AnnotationCount, which counts remarks. This page is
written by the aggregates themselves, and each value, status and time on it is what a second implementation, made from the text of the
standard alone, comes to as well ([the test](../tests/core/aggregate_page_test.cpp)).

| series | between samples | uncertain | good / bad |
|---|---|---|---|
)";
  for (const auto& each : all)
    out += fmt::format("| {} | {} | {} | {} % / {} % |\n", each.name, each.manner.isStepped ? "steps" : "a line",
                       each.manner.configuration.treatUncertainAsBad ? "counts as bad" : "counts",
                       each.manner.configuration.percentDataGood, each.manner.configuration.percentDataBad);
  out += "\n| series | time | value |\n|---|---|---|\n";
  for (const auto& each : all)
    for (const auto& one : each.samples)
      out +=
          fmt::format("| {} | {} | {}{} |\n", each.name, secondsOf(one.sourceTimestamp),
                      one.value.isNull() ? "bad" : wordsOf(one.value), one.status.isUncertain() ? " (uncertain)" : "");
  out += R"(
In the tables below `?` stands for UncertainDataSubNormal or, where an uncertain sample itself is the answer, for Uncertain. Letters are the
bits of the status code: `C` calculated, `I` interpolated, `P` a part of the interval only, `M` several samples have the value. Where the
time of an answer is another than the beginning of its interval, it is told. Where there is no value, its status code stands alone. Durations
are in milliseconds.
)";
  for (const auto& function : functions()) {
    if (function.kind == Kind::AnnotationCount) continue;  // counts remarks, not samples
    const bool isAtMoments = function.kind == Kind::Interpolative;
    const Grid grid(at(0), at(isAtMoments ? 100 : 96), (isAtMoments ? 5 : 16) * kSecond);
    out += fmt::format("\n## {}\n\n| {} |", function.name, isAtMoments ? "at" : "16 s from");
    std::string line = "|---|";
    std::vector<Samples> columns;
    for (const auto& each : all) {
      out += fmt::format(" {} |", each.name);
      line += "---|";
      columns.push_back(judged(each.samples, function.name, grid, each.manner));
      checkBySecond(each, function, grid, columns.back());
    }
    out += "\n" + line + "\n";
    for (std::size_t i = 0; i < grid.size(); ++i) {
      const auto begin = grid.interval(i).from;
      out += fmt::format("| {} |", secondsOf(begin));
      for (const auto& column : columns) out += fmt::format(" {} |", cellOf(column[i], begin));
      out += "\n";
    }
  }
  return out;
}

TEST_CASE("the page of aggregates shows what they make of samples, and a second implementation agrees", "[aggregate]") {
  const std::string file = std::string(ZUNTH_SOURCE_DIR) + "/docs/aggregates.md";
  const std::string made = page();
  if (std::getenv("ZUNTH_WRITE_PAGES")) std::ofstream(file) << made;
  std::ifstream in(file);
  const std::string kept{std::istreambuf_iterator<char>(in), {}};
  INFO("ZUNTH_WRITE_PAGES=1 core_tests '[aggregate]' writes it anew");
  CHECK((made == kept));
}

}  // namespace zunth::aggregate_page_test
