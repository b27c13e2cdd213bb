#pragma once

#include "core/ua/data_value.hpp"

#include <optional>
#include <string>
#include <vector>

namespace zunth::cli {

/// A variable's values over time, to be drawn. Where the status was bad, or nothing is known, the line has a gap.
struct Series {
  std::string name, unit;
  std::vector<ua::DataValue> values;  // in order of time
  bool isStepped = false;
  std::vector<std::pair<double, std::string>> limits{};  // of its alarms, with their names
};

/// For a terminal: each series in a chart of its own, so many columns wide and lines high.
std::string textChart(const std::vector<Series>& series, ua::DateTime from, ua::DateTime to, std::size_t columns,
                      std::size_t lines);
/// The same as a picture for documents: SVG of 1200 by 300 for each series and a common axis of time.
std::string svgChart(const std::vector<Series>& series, ua::DateTime from, ua::DateTime to);

}  // namespace zunth::cli
