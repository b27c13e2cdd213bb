#pragma once

#include "core/model/yaml_source.hpp"
#include "core/ua/result.hpp"

#include <filesystem>
#include <string>

namespace zunth::device {

/// A serial port and how it is spoken over.
struct SerialSettings {
  std::string path;  // "/dev/ttyS0"; empty for none
  int baud = 19'200, dataBits = 8, stopBits = 1;
  char parity = 'E';  // N, E or O

  /// "/dev/ttyS0 19200 8E1".
  std::string text() const;
};

/// Reads "PATH [BAUD] [8E1]", the path as seen from `folder`; a finding, and no path, when it is not sound.
SerialSettings parseSerial(const model::Text& text, const std::filesystem::path& folder, model::Findings& findings);

/// Opens the port for octets as they are, not blocking; the caller closes it. BadNoCommunication;
/// BadResourceUnavailable when somebody has it, as two would hear each other's answers.
ua::Result<int> openSerial(const SerialSettings& settings);

}  // namespace zunth::device
