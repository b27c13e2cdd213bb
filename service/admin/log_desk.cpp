#include "service/admin/log_desk.hpp"

#include "core/ua/foreign.hpp"

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using logs::Part;

namespace {

std::string textOf(spdlog::level::level_enum level) {
  const auto name = spdlog::level::to_string_view(level);
  return {name.data(), name.size()};
}

/// The newest lines, the oldest of them first.
Json linesOf(LogDesk::Kept& kept, std::size_t most) {
  Json lines = Json::array();
  for (const auto& message : kept.last_raw(most)) {
    const std::string_view name(message.logger_name.data(), message.logger_name.size());
    lines.push_back({{"time", DateTime::from(message.time).text()},
                     {"level", textOf(message.level)},
                     {"part", std::string(logs::partNamed(name) ? name : logs::nameOf(Part::Site))},
                     {"text", shown({message.payload.data(), message.payload.size()}, 2'000)}});
  }
  return lines;
}

}  // namespace

void LogDesk::tell(std::optional<Part> part, spdlog::level::level_enum level) const {
  if (part) return logs::of(*part).set_level(level);
  spdlog::default_logger()->set_level(level);
  for (const Part each : logs::kParts)
    if (!raised_.contains(each)) logs::of(each).set_level(level);
}

void LogDesk::tellUsually(const std::string& level) {
  now_ = level.empty() ? usual_ : spdlog::level::from_str(level);
  if (!raised_.contains(std::nullopt)) tell(std::nullopt, now_);
}

void LogDesk::raise(const Actor& actor, const Json& asked, const Control::Answer& answer) {
  constexpr double kLongest = 24 * 60;
  const std::string level = asked.value("level", ""), name = asked.value("part", "");
  const double minutes = asked.value("minutes", 15.0);
  const auto part = logs::partNamed(name);
  const bool isKnown = level == "debug" || level == "info" || level == "warn" || level == "error";
  if (!isKnown || !(minutes > 0) || minutes > kLongest)
    return answer(
        {{"error", jsonOf(Error{status::BadInvalidArgument, "a level is debug, info, warn or error, for a day at most",
                                "level debug for 15 minutes"})}});
  if (!name.empty() && !part)
    return answer({{"error", jsonOf(Error{status::BadInvalidArgument, fmt::format("'{}' is no part", shown(name)),
                                          "site, clients, devices, history or console; all of them without it"})}});
  auto [timer, isNew] = raised_.try_emplace(part, executor_);
  tell(part, spdlog::level::from_str(level));
  audit_.write({DateTime::from(std::chrono::system_clock::now()),
                "log level changed",
                actor.name,
                {},
                {},
                status::Good,
                fmt::format("{}{}{} for {:g} min", name, name.empty() ? "" : ": ", level, minutes)});
  timer->second.expires_after(std::chrono::duration_cast<std::chrono::steady_clock::duration>(
      std::chrono::duration<double, std::ratio<60>>(minutes)));
  timer->second.async_wait([this, part, alive = std::weak_ptr(alive_)](const boost::system::error_code& cancelled) {
    if (cancelled || alive.expired()) return;
    raised_.erase(part);
    tell(part, now_);
  });
  answer(Json::object());
}

void LogDesk::open(Control& control, std::shared_ptr<Kept> kept) {
  control.on("log", [this, kept](const Actor&, const Json& asked, const Control::Answer& answer) {
    const auto most = std::min<std::size_t>(asked.value("most", std::size_t{500}), 1'000);
    Json parts = Json::object();
    for (const Part part : logs::kParts) parts[std::string(logs::nameOf(part))] = textOf(logs::of(part).level());
    answer({{"level", textOf(spdlog::get_level())}, {"parts", std::move(parts)}, {"lines", linesOf(*kept, most)}});
  });
  control.on("log level", [this](const Actor& actor, const Json& asked, const Control::Answer& answer) {
    raise(actor, asked, answer);
  });
}

}  // namespace zunth::admin
