#include "service/device/recording.hpp"

#include "core/model/table.hpp"
#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <cmath>
#include <fstream>

#include <fmt/format.h>

namespace zunth::device::simulation {

using namespace ua;

const Recording::Row& Recording::at(double seconds) const {
  const auto after = std::ranges::upper_bound(rows, seconds, {}, &Row::seconds);
  return after == rows.begin() ? *after : *std::prev(after);
}

Result<Recording> readRecording(const std::filesystem::path& file, const std::string& column) {
  constexpr std::size_t kMostOctets = 256u << 20;
  std::error_code failure;
  const auto size = std::filesystem::file_size(file, failure);
  std::ifstream in(file);
  if (failure || !in) return Error{status::BadNotFound, fmt::format("the table {} can't be read", file.string()), {}};
  if (size > kMostOctets)
    return Error{
        status::BadEncodingLimitsExceeded, fmt::format("the table {} has more than 256 MiB", file.string()), {}};
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  model::Findings findings;
  const auto rows = model::readCsv(file.string(), text, findings);
  const auto wrong = [&](std::size_t line, const std::string& what) {
    return Error{status::BadDecodingError, fmt::format("{}, line {}: {}", file.string(), line, what), {}};
  };
  if (findings.hasErrors()) return wrong(findings.list().front().place.line, findings.list().front().message);
  const auto head = rows.empty() ? std::vector<model::Text>() : rows.front();
  const auto columnOf = [&](const std::string& name) {
    return static_cast<std::size_t>(std::ranges::find(head, name, &model::Text::text) - head.begin());
  };
  const std::size_t valueAt = columnOf(column), timeAt = columnOf("time"), statusAt = columnOf("status");
  if (valueAt == head.size() || timeAt == head.size()) {
    std::vector<std::string> names;
    for (const auto& cell : head) names.push_back(cell.text);
    return Error{status::BadNotFound,
                 fmt::format("{} has no column '{}'", file.string(), valueAt == head.size() ? column : "time"),
                 fmt::format("its columns are {}", fmt::join(names, ", "))};
  }
  Recording out;
  std::optional<DateTime> first;
  for (std::size_t i = 1; i < rows.size(); ++i) {
    const auto& row = rows[i];
    const auto cell = [&](std::size_t at) { return at < row.size() ? row[at].text : std::string(); };
    const std::size_t line = row.empty() ? 0 : row.front().place.line;
    const std::string time = cell(timeAt);
    double seconds = 0;
    if (const auto relative = parse(time, BuiltInType::Double)) {
      seconds = *relative->get<double>();
    } else if (const auto absolute = DateTime::parse(time)) {
      if (!first) first = *absolute;
      seconds = static_cast<double>(absolute->ticks - first->ticks) / 1e7;
    } else {
      return wrong(line, fmt::format("'{}' is no time", time));
    }
    if (!std::isfinite(seconds) || (!out.rows.empty() && seconds < out.rows.back().seconds))
      return wrong(line, "times go on, and never back");
    StatusCode status;
    if (const std::string name = cell(statusAt); !name.empty()) {
      const auto code = statusNamed(name);
      if (!code) return wrong(line, fmt::format("there is no status '{}'", name));
      status = *code;
    }
    out.rows.push_back({seconds, plainValue(cell(valueAt)), status});
  }
  if (out.rows.empty()) return Error{status::BadNoData, fmt::format("the table {} has no rows", file.string()), {}};
  return out;
}

}  // namespace zunth::device::simulation
