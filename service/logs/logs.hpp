#pragma once

#include <array>
#include <optional>
#include <string_view>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

// The library has it: each room that logs would otherwise make another, with all that formats numbers.
#if FMT_VERSION < 100000
extern template void fmt::detail::vformat_to<char>(fmt::detail::buffer<char>&, fmt::string_view,
                                                   fmt::basic_format_args<fmt::buffer_context<char>>,
                                                   fmt::detail::locale_ref);
#endif

/// What the service tells of what it does. Each part can be asked to tell more by itself; all write to one place.
namespace zunth::logs {

enum class Part { Site, Clients, Devices, History, Console };
inline constexpr std::array kParts{Part::Site, Part::Clients, Part::Devices, Part::History, Part::Console};

/// "devices"; in logs, on command lines and in requests.
std::string_view nameOf(Part part);
std::optional<Part> partNamed(std::string_view name);

/// Writes to where the default logger did when it was first asked for; spdlog::set_level() goes for all of them.
spdlog::logger& of(Part part);

/// Models, bindings, users, certificates, ways in.
inline spdlog::logger& site() { return of(Part::Site); }
/// Connections, sessions, what they ask for and what they are refused.
inline spdlog::logger& clients() { return of(Part::Clients); }
inline spdlog::logger& devices() { return of(Part::Devices); }
inline spdlog::logger& history() { return of(Part::History); }
/// Browsers and scripts.
inline spdlog::logger& console() { return of(Part::Console); }

}  // namespace zunth::logs
