#include "core/ua/status.hpp"

#include <algorithm>
#include <iterator>
#include <map>
#include <mutex>
#include <string>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

#include "core/ua/generated/status_names.inc"

/// Text for codes that the standard doesn't name; kept, since name() gives a view.
std::string_view unnamed(std::uint32_t code) {
  static std::mutex guard;
  static std::map<std::uint32_t, std::string> texts;
  std::lock_guard lock(guard);
  if (texts.size() > 1000) return code >> 31 ? "Bad" : "Uncertain";
  return texts.try_emplace(code, fmt::format("0x{:08X}", code)).first->second;
}

}  // namespace

std::string_view StatusCode::name() const {
  const std::uint32_t wanted = condition().value;
  const auto* found = std::ranges::lower_bound(kStatusNames, wanted, {}, &StatusName::code);
  return found != std::end(kStatusNames) && found->code == wanted ? found->name : unnamed(wanted);
}

std::optional<StatusCode> statusNamed(std::string_view name) {
  const auto* found = std::ranges::find(kStatusNames, name, &StatusName::name);
  if (found == std::end(kStatusNames)) return std::nullopt;
  return StatusCode{found->code};
}

}  // namespace zunth::ua
