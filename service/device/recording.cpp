#include "service/device/recording.hpp"

#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <cmath>
#include <fstream>

#include <fmt/format.h>

namespace zunth::device::simulation {

using namespace ua;

namespace {

/// The cells of a line of CSV, with quotes taken off.
std::vector<std::string> cellsOf(const std::string& line) {
  std::vector<std::string> out(1);
  bool isQuoted = false;
  for (const char c : line) {
    if (c == '"')
      isQuoted = !isQuoted;
    else if (c == ',' && !isQuoted)
      out.emplace_back();
    else if (c != '\r')
      out.back() += c;
  }
  return out;
}

}  // namespace

const Recording::Row& Recording::at(double seconds) const {
  const auto after = std::ranges::upper_bound(rows, seconds, {}, &Row::seconds);
  return after == rows.begin() ? *after : *std::prev(after);
}

Result<Recording> readRecording(const std::filesystem::path& file, const std::string& column) {
  constexpr std::size_t kMostRows = 10'000'000;
  std::ifstream in(file);
  if (!in) return Error{status::BadNotFound, fmt::format("the table {} can't be read", file.string()), {}};
  std::string line;
  std::getline(in, line);
  const auto head = cellsOf(line);
  const auto columnAt = std::ranges::find(head, column) - head.begin();
  const auto timeAt = std::ranges::find(head, "time") - head.begin(),
             statusAt = std::ranges::find(head, "status") - head.begin();
  const auto count = static_cast<std::ptrdiff_t>(head.size());
  if (columnAt == count || timeAt == count)
    return Error{status::BadNotFound,
                 fmt::format("{} has no column '{}'", file.string(), columnAt == count ? column : "time"),
                 fmt::format("its columns are {}", fmt::join(head, ", "))};
  Recording out;
  std::optional<DateTime> first;
  for (std::size_t number = 2; std::getline(in, line) && out.rows.size() < kMostRows; ++number) {
    if (trimmed(line).empty()) continue;
    const auto cells = cellsOf(line);
    const auto cell = [&](std::ptrdiff_t i) {
      return i < static_cast<std::ptrdiff_t>(cells.size()) ? cells[static_cast<std::size_t>(i)] : std::string();
    };
    const auto wrong = [&](std::string what) {
      return Error{status::BadDecodingError, fmt::format("{}, line {}: {}", file.string(), number, what), {}};
    };
    const std::string time = cell(timeAt);
    double seconds = 0;
    const auto relative = parse(time, BuiltInType::Double);
    if (relative) {
      seconds = *relative->get<double>();
    } else if (const auto absolute = DateTime::parse(time)) {
      if (!first) first = *absolute;
      seconds = static_cast<double>(absolute->ticks - first->ticks) / 1e7;
    } else {
      return wrong(fmt::format("'{}' is no time", time));
    }
    if (!std::isfinite(seconds) || (!out.rows.empty() && seconds < out.rows.back().seconds))
      return wrong("times go on, and never back");
    StatusCode status;
    if (const std::string name = cell(statusAt); !name.empty()) {
      const auto code = statusNamed(name);
      if (!code) return wrong(fmt::format("there is no status '{}'", name));
      status = *code;
    }
    out.rows.push_back({seconds, plainValue(cell(columnAt)), status});
  }
  if (out.rows.empty()) return Error{status::BadNoData, fmt::format("the table {} has no rows", file.string()), {}};
  return out;
}

}  // namespace zunth::device::simulation
