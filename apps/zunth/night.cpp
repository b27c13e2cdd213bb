#include "apps/zunth/night.hpp"

#include "service/history/embedded_store.hpp"

#include <cmath>
#include <numbers>
#include <random>

namespace zunth::cli {

using namespace ua;
using history::Edit;

namespace {

constexpr std::int64_t kTicksPerSecond = 10'000'000;
constexpr int kHours = 12, kStep = 10;  // s

/// What a variable did, `t` hours after the night began.
struct Tale {
  const char* path;
  double (*value)(double t, double chance);  // chance: from -1 to 1
  double round;
  BuiltInType type = BuiltInType::Double;
  double lostFrom = 0, lostTo = 0;  // hours in which the device did not answer
};

double wave(double t, double period, double phase = 0) { return std::sin((t + phase) / period * 2 * std::numbers::pi); }

/// A screen clogs, and is washed free.
double pressure(double t, double chance, double period) {
  const double since = std::fmod(t, period) / period;
  return 8 + 26 * std::pow(since, 1.6) + 0.3 * chance;
}

const Tale kNight[] = {
    {"Hatchery/Intake/DF1/pressure", [](double t, double c) { return pressure(t, c, 1.4); }, 0.01, BuiltInType::Float},
    {"Hatchery/Intake/DF2/pressure", [](double t, double c) { return pressure(t + 0.5, c, 1.9); }, 0.01,
     BuiltInType::Float, 5.2, 5.7},
    {"Hatchery/Hall1/Tank A1/oxygen", [](double t, double c) { return 9.4 + 0.7 * wave(t, 12) + 0.05 * c; }, 0.01},
    {"Hatchery/Hall1/Tank A2/oxygen",
     [](double t, double c) {
       const double dip = 2.6 * std::exp(-std::pow((t - 8.2) / 0.7, 2));
       return 9.1 + 0.6 * wave(t, 12) - dip + 0.05 * c;
     },
     0.01},
    {"Hatchery/Hall1/Tank A1/temperature", [](double t, double c) { return 9.2 + 0.8 * wave(t, 24, 9) + 0.02 * c; },
     0.01},
    {"Hatchery/Brook/level", [](double t, double c) { return 0.62 + 0.015 * t + 0.004 * c; }, 0.001},
    {"Hatchery/Brook/flow", [](double t, double c) { return 38 + 1.6 * t + 0.8 * c; }, 0.1},
    {"Hatchery/Weather/air", [](double t, double c) { return 4.5 + 3.2 * wave(t, 24, 8) + 0.1 * c; }, 0.1},
};

}  // namespace

Result<void> makeUpNight(const std::filesystem::path& site) {
  auto store = history::EmbeddedStore::open(site / "state/history", [](const std::string&) {});
  if (!store) return store.error();
  const auto now = DateTime::from(std::chrono::system_clock::now());
  const std::int64_t end = now.ticks - now.ticks % kTicksPerSecond;
  std::mt19937 dice(7);
  std::uniform_real_distribution<double> chance(-1, 1);
  for (const auto& tale : kNight) {
    Edit edit{Edit::Kind::Insert};
    edit.user = String("made up for the demo");
    edit.now = now;
    const double places = 1 / tale.round;
    for (int second = 0; second < kHours * 3600; second += kStep) {
      const double t = second / 3600.0;
      DataValue sample;
      sample.sourceTimestamp.ticks = end - (static_cast<std::int64_t>(kHours) * 3600 - second) * kTicksPerSecond;
      sample.serverTimestamp = sample.sourceTimestamp;
      const bool isLost = t >= tale.lostFrom && t < tale.lostTo;
      const double value = std::round(tale.value(t, chance(dice)) * places) / places;
      if (isLost)
        sample.status = status::BadNoCommunication;
      else
        sample.value = tale.type == BuiltInType::Float ? Variant(static_cast<float>(value)) : Variant(value);
      // One word is enough of what goes on.
      if (isLost && !edit.samples.empty() && edit.samples.back().status == sample.status) continue;
      edit.samples.push_back(std::move(sample));
    }
    const auto id = (*store)->variable("nsu=http://fernhollow.example/hatchery;s=" + std::string(tale.path));
    if (auto done = (*store)->edit(id, edit); !done) return done.error();
  }
  return (*store)->flush(now);
}

}  // namespace zunth::cli
