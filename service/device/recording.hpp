#pragma once

#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace zunth::device::simulation {

/// Values with the time since the first, their status, and what they are; from CSV with the columns time, one for each
/// name, and maybe status.
struct Recording {
  struct Row {
    double seconds;
    ua::Variant value;
    ua::StatusCode status;
  };
  std::vector<Row> rows;
  double length() const { return rows.empty() ? 0 : rows.back().seconds; }
  /// The row that counts at a time; the last one after the end.
  const Row& at(double seconds) const;
};
/// BadNotFound for a file or a column that isn't there, BadDecodingError with the line for what is no such table.
ua::Result<Recording> readRecording(const std::filesystem::path& file, const std::string& column);

}  // namespace zunth::device::simulation
