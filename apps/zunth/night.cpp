#include "apps/zunth/night.hpp"

#include "core/history/kept_event.hpp"
#include "core/history/variables.hpp"
#include "core/space/namespace0.hpp"
#include "service/history/embedded_store.hpp"

#include <cmath>
#include <numbers>
#include <random>

#include <fmt/format.h>

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

constexpr const char* kUri = "http://fernhollow.example/hatchery";
constexpr const char* kStuffy = "Hatchery/Hall1/Tank A2/oxygen";

std::string storedName(const std::string& path) { return fmt::format("nsu={};s={}", kUri, path); }

/// What the alarm of the tank without air would have said of its night.
std::vector<history::KeptEvent> alarmsOf(const std::vector<DataValue>& samples) {
  constexpr double kLimit = 7, kDeadband = 0.2;
  space::Space space("urn:fernhollow.example:hatchery");
  space::loadNamespace0(space);
  space::NewNode made;
  made.nodeId = NodeId(space.addNamespace(kUri), String(kStuffy));
  made.nodeClass = NodeClass::Variable;
  made.browseName = {made.nodeId.namespaceIndex(), String("oxygen")};
  const auto variable = space.add(std::move(made));
  std::vector<history::KeptEvent> out;
  bool isActive = false;
  for (const auto& sample : samples) {
    double oxygen = kLimit;
    if (!variable || !sample.value.toDouble(oxygen)) continue;
    if (isActive ? oxygen < kLimit + kDeadband : oxygen >= kLimit) continue;
    isActive = !isActive;
    const DateTime time = sample.sourceTimestamp;
    monitor::Event event(space.at(id::ExclusiveLevelAlarmType), *variable);
    event.set("EventId", Variant(ByteString(&time.ticks, sizeof time.ticks)))
        .set("EventType", Variant(NodeId(id::ExclusiveLevelAlarmType)))
        .set("SourceNode", Variant(space.nodeId(*variable)))
        .set("SourceName", Variant(String(kStuffy)))
        .set("Time", Variant(time))
        .set("ReceiveTime", Variant(time))
        .set("Message", Variant(LocalizedText(
                            String(isActive ? fmt::format("Tank A2/oxygen is too low: {:.4g}, the limit is 7", oxygen)
                                            : fmt::format("Tank A2/oxygen is normal: {:.4g}", oxygen)),
                            "en")))
        .set("Severity", Variant(std::uint16_t{600}))
        .set("ConditionName", Variant(String("stuffy")))
        .set("ActiveState/Id", Variant(isActive))
        .set("ActiveState/TransitionTime", Variant(time));
    out.push_back({time, history::encodeEvent(space, event)});
  }
  return out;
}

/// Why that was, in the words of who was there.
Edit remarkOn(DateTime moment, DateTime now) {
  Annotation remark;
  remark.message = String("A2's blower was off while its hose was changed");
  remark.userName = String("made up for the demo");
  remark.annotationTime = now;
  Edit edit{Edit::Kind::Insert};
  edit.user = remark.userName;
  edit.now = now;
  edit.samples.push_back(DataValue(Variant(ExtensionObject::of(remark)), moment));
  return edit;
}

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
    if (std::string_view(tale.path) == kStuffy) (*store)->append(alarmsOf(edit.samples));
    const auto id = (*store)->variable(storedName(tale.path));
    if (auto done = (*store)->edit(id, edit); !done) return done.error();
  }
  const auto remarks =
      (*store)->variable("nsu=urn:fernhollow.example:hatchery;s=" + history::annotationsOf(storedName(kStuffy)));
  const DateTime moment{end - static_cast<std::int64_t>(3.8 * 3600) * kTicksPerSecond};
  if (auto done = (*store)->edit(remarks, remarkOn(moment, now)); !done) return done.error();
  return (*store)->flush(now);
}

}  // namespace zunth::cli
