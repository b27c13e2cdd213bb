#include "core/model/findings.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

bool Findings::hasErrors() const {
  return std::ranges::any_of(list_, [](const Finding& f) { return f.severity == Finding::Severity::Error; });
}

void Findings::sort() {
  std::ranges::stable_sort(list_, [](const Finding& a, const Finding& b) {
    return std::tie(a.place.file, a.place.line, a.place.column) < std::tie(b.place.file, b.place.line, b.place.column);
  });
}

std::string format(const Finding& finding, std::string_view source) {
  const auto& place = finding.place;
  std::string out = fmt::format("{}:{}:{}: {}: {}", place.file, place.line, place.column,
                                finding.severity == Finding::Severity::Error ? "error" : "warning", finding.message);
  std::string_view line = source;
  for (std::size_t i = 1; i < place.line && !line.empty(); ++i) {
    const auto end = line.find('\n');
    line = end == std::string_view::npos ? std::string_view() : line.substr(end + 1);
  }
  line = line.substr(0, line.find('\n'));
  if (!line.empty() && place.column <= line.size() + 1) {
    const std::string number = fmt::format("{:>5} | ", place.line);
    const std::size_t length = std::max<std::size_t>(1, std::min(place.length, line.size() + 1 - place.column));
    out += fmt::format("\n{}{}\n{:>{}}{}{}", number, line, "| ", number.size(), std::string(place.column - 1, ' '),
                       std::string(length, '^'));
  }
  if (!finding.hint.empty()) out += "\n        " + finding.hint;
  return out;
}

}  // namespace zunth::model
