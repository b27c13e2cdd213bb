#pragma once

#include <string>

namespace zunth::sim {

/// A socket that takes TCP connections; the port becomes the one that was found when 0 was asked for. Throws
/// std::runtime_error.
int listenAt(const std::string& host, int& port);

}  // namespace zunth::sim
