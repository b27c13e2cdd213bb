#include "service/logs/logs.hpp"

#include <algorithm>
#include <memory>
#include <string>

namespace zunth::logs {

namespace {

constexpr std::array<std::string_view, kParts.size()> kNames{"site", "clients", "devices", "history", "console"};

}  // namespace

std::string_view nameOf(Part part) { return kNames[static_cast<std::size_t>(part)]; }

std::optional<Part> partNamed(std::string_view name) {
  const auto found = std::ranges::find(kNames, name);
  return found == kNames.end() ? std::nullopt : std::optional(kParts[static_cast<std::size_t>(found - kNames.begin())]);
}

spdlog::logger& of(Part part) {
  static const auto all = [] {
    std::array<std::shared_ptr<spdlog::logger>, kParts.size()> out;
    for (std::size_t i = 0; i < out.size(); ++i) {
      out[i] = spdlog::default_logger()->clone(std::string(kNames[i]));
      spdlog::initialize_logger(out[i]);  // with the level that goes for all
    }
    return out;
  }();
  return *all[static_cast<std::size_t>(part)];
}

}  // namespace zunth::logs
