#include "service/device/simulation.hpp"

#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"
#include "service/device/polled.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

namespace zunth::device::simulation {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

struct ShapeName {
  std::string name;
  Signal::Shape shape;
};
const std::vector<ShapeName> kShapes{{"constant", Signal::Shape::Constant}, {"ramp", Signal::Shape::Ramp},
                                     {"sine", Signal::Shape::Sine},         {"square", Signal::Shape::Square},
                                     {"walk", Signal::Shape::Walk},         {"steps", Signal::Shape::Steps},
                                     {"lag", Signal::Shape::Lag},           {"table", Signal::Shape::Table}};
constexpr const char* kHelp = "as in: sine 2..8 every 60 s, or constant 5 writable";

/// Reads the words of one signal.
class SignalReader {
 public:
  SignalReader(const DeviceText::PointText& point, Conversion& conversion, Findings& findings)
      : text_(point), words_(wordsOf(point.words)), conversion_(conversion), findings_(findings) {}

  std::optional<Signal> read() {
    signal_.point.name = text_.name.text;
    signal_.point.where = text_.words.text;
    if (words_.empty() || !readShape()) return fail(text_.words, "a signal begins with its shape");
    while (isSound_ && at_ < words_.size()) readWord();
    if (!isSound_) return std::nullopt;
    signal_.point.type = typeOf();
    if (!checkConversion(conversion_, signal_.point.type, text_.words, findings_)) return std::nullopt;
    return std::move(signal_);
  }

 private:
  std::nullopt_t fail(const Text& where, std::string message, std::string hint = kHelp) {
    if (isSound_) findings_.error(where.place, std::move(message), std::move(hint));
    isSound_ = false;
    return std::nullopt;
  }
  const Text& here() const { return at_ < words_.size() ? words_[at_] : text_.words; }
  std::string next() { return at_ < words_.size() ? words_[at_++].text : std::string(); }

  bool readShape() {
    const auto found = std::ranges::find(kShapes, words_[0].text, &ShapeName::name);
    if (found == kShapes.end()) {
      std::vector<std::string> names;
      for (const auto& each : kShapes) names.push_back(each.name);
      const auto near = nearest(words_[0].text, names);
      fail(words_[0], fmt::format("there is no signal '{}'", words_[0].text),
           near.empty() ? fmt::format("the signals are {}", fmt::join(names, ", "))
                        : fmt::format("did you mean '{}'?", near));
      return true;
    }
    signal_.shape = found->shape;
    at_ = 1;
    switch (signal_.shape) {
      case Signal::Shape::Constant: signal_.constant = plainValue(next()); break;
      case Signal::Shape::Steps: readStays(); break;
      case Signal::Shape::Lag:
        signal_.of = next();
        signal_.period = readSeconds();
        break;
      case Signal::Shape::Table:
        signal_.table = next();
        signal_.column = next();
        if (signal_.column.empty()) fail(text_.words, "a table is a file and a column", "as in: table day.csv oxygen");
        break;
      default: readRange(); break;
    }
    return true;
  }
  void readRange() {
    const Text& where = here();
    const std::string range = next();
    const auto dots = range.find("..");
    const auto low = parse(range.substr(0, dots), BuiltInType::Double);
    const auto high = dots == std::string::npos ? low : parse(range.substr(dots + 2), BuiltInType::Double);
    if (dots == std::string::npos || !low || !high || !std::isfinite(*low->get<double>()) ||
        !std::isfinite(*high->get<double>()))
      return void(fail(where, fmt::format("'{}' is no range", range)));
    signal_.low = *low->get<double>();
    signal_.high = *high->get<double>();
    if (signal_.shape == Signal::Shape::Walk) signal_.step = std::abs(signal_.high - signal_.low) / 50;
  }
  /// "30 s" or "30s".
  double readSeconds() {
    const Text& where = here();
    std::string text = next();
    if (!text.empty() && text.find_first_not_of("0123456789.") == std::string::npos) text += " " + next();
    if (const auto ms = parseDuration(text); ms && *ms >= 1) return *ms / 1000;
    fail(where, fmt::format("'{}' is no time", text), "write a number and a unit, as: 250 ms, 2 s, 1 min");
    return 1;
  }
  double readNumber(const char* of) {
    const Text& where = here();
    const auto value = parse(next(), BuiltInType::Double);
    if (value && std::isfinite(*value->get<double>()) && *value->get<double>() >= 0) return *value->get<double>();
    fail(where, fmt::format("'{}' needs a number from 0", of));
    return 0;
  }
  /// "0 for 10 s, 5 for 20 s"
  void readStays() {
    while (isSound_ && at_ < words_.size()) {
      if (at_ + 2 >= words_.size() || words_[at_ + 1].text != "for") break;
      Signal::Stay stay{plainValue(next()), 0};
      ++at_;
      bool goesOn = false;
      for (auto i = at_; i < std::min(at_ + 2, words_.size()) && !goesOn; ++i) {
        goesOn = words_[i].text.ends_with(',');
        if (goesOn) words_[i].text.pop_back();
      }
      stay.seconds = readSeconds();
      signal_.stays.push_back(std::move(stay));
      if (!goesOn) break;
    }
    if (signal_.stays.empty()) fail(text_.words, "steps are values and times", "as in: steps 0 for 10 s, 5 for 20 s");
  }
  void readWord() {
    const auto isConversion = readConversion(words_, at_, conversion_, findings_);
    if (!isConversion) {
      isSound_ = false;
      return;
    }
    if (*isConversion) return;
    const Text& word = words_[at_];
    const std::string name = next();
    if (name == "every")
      signal_.period = readSeconds();
    else if (name == "noise")
      signal_.noise = readNumber("noise");
    else if (name == "step")
      signal_.step = readNumber("step");
    else if (name == "speed")
      signal_.speed = readNumber("speed");
    else if (name == "once")
      signal_.isLooped = false;
    else if (name == "writable")
      signal_.point.isWritable = true;
    else
      fail(word, fmt::format("'{}' means nothing here", name),
           "behind a signal come 'every TIME', 'noise X', 'step X', 'speed X', 'once', 'writable'");
  }
  BuiltInType typeOf() const {
    switch (signal_.shape) {
      case Signal::Shape::Constant: return signal_.noise > 0 ? BuiltInType::Double : BuiltInType::Variant;
      case Signal::Shape::Steps:
      case Signal::Shape::Table: return BuiltInType::Variant;
      default: return BuiltInType::Double;
    }
  }

  const DeviceText::PointText& text_;
  std::vector<Text> words_;
  Conversion& conversion_;
  Findings& findings_;
  Signal signal_;
  std::size_t at_ = 0;
  bool isSound_ = true;
};

}  // namespace

std::optional<Signal> parseSignal(const DeviceText::PointText& point, Conversion& conversion, Findings& findings) {
  return SignalReader(point, conversion, findings).read();
}

DriverSetup readDevice(const DeviceText& text, Findings& findings) {
  DriverSetup setup;
  setup.address = "simulated";
  auto signals = readPoints<Signal>(text, setup, findings, parseSignal);
  for (auto& signal : signals) {
    if (!signal.table.empty()) signal.table = text.folder / signal.table;
    const bool isKnown = signal.of.empty() || std::ranges::any_of(text.points, [&](const auto& point) {
                           return point.name.text == signal.of && signal.of != signal.point.name;
                         });
    if (!isKnown)
      findings.error(text.root.key.place, fmt::format("{} lags behind '{}', and there is no such other point",
                                                      signal.point.name, signal.of));
  }
  const auto seed = static_cast<std::uint64_t>(numberOf(
      text.root, "seed", static_cast<double>(std::hash<std::string>{}(text.name) & 0xFFFFFF), 0, 1e15, findings));
  setup.make = [signals = std::move(signals), seed](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<SimulatedStation>(signals, seed));
  };
  return setup;
}

SimulatedStation::SimulatedStation(std::vector<Signal> signals, std::uint64_t seed)
    : signals_(std::move(signals)),
      recordings_(signals_.size()),
      last_(signals_.size()),
      lookedAt_(signals_.size(), -1),
      random_(seed) {
  for (const auto& signal : signals_) names_.push_back(signal.point);
}

Result<void> SimulatedStation::connect() {
  for (std::size_t i = 0; i < signals_.size(); ++i) {
    if (signals_[i].shape != Signal::Shape::Table || !recordings_[i].rows.empty()) continue;
    auto recording = readRecording(signals_[i].table, signals_[i].column);
    if (!recording) return recording.error();
    recordings_[i] = std::move(*recording);
  }
  return {};
}

double SimulatedStation::shapeAt(PointIndex point, double seconds) {
  const Signal& signal = signals_[point];
  const double phase = std::fmod(seconds, signal.period) / signal.period, span = signal.high - signal.low;
  const bool isFirst = lookedAt_[point] < 0;
  const double passed = isFirst ? 0 : std::max(0.0, seconds - lookedAt_[point]);
  lookedAt_[point] = seconds;
  switch (signal.shape) {
    case Signal::Shape::Ramp: return signal.low + span * phase;
    case Signal::Shape::Sine: return signal.low + span * (1 + std::sin(2 * std::numbers::pi * phase)) / 2;
    case Signal::Shape::Square: return phase < 0.5 ? signal.low : signal.high;
    case Signal::Shape::Walk: {
      if (isFirst) return last_[point] = signal.low + span / 2;
      std::uniform_real_distribution<double> step(-signal.step, signal.step);
      const auto [low, high] = std::minmax(signal.low, signal.high);
      return last_[point] = std::clamp(last_[point] + step(random_), low, high);
    }
    case Signal::Shape::Lag: {
      const auto source = std::ranges::find(names_, signal.of, &Point::name) - names_.begin();
      double now = 0;
      // One that lags behind one that lags behind it is cut here.
      if (source == static_cast<std::ptrdiff_t>(names_.size()) ||
          lookedAt_[static_cast<std::size_t>(source)] == seconds)
        now = last_[point];
      else
        (void)at(static_cast<PointIndex>(source), seconds).value.toDouble(now);
      if (isFirst) return last_[point] = now;
      return last_[point] += (now - last_[point]) * (1 - std::exp(-passed / signal.period));
    }
    default: {
      double number = 0;
      (void)signal.constant.toDouble(number);
      return number;
    }
  }
}

DataValue SimulatedStation::at(PointIndex point, double seconds) {
  const Signal& signal = signals_[point];
  const DateTime now = wallClock();
  if (signal.shape == Signal::Shape::Constant && signal.noise == 0) return DataValue(signal.constant, now);
  if (signal.shape == Signal::Shape::Steps) {
    double whole = 0;
    for (const auto& stay : signal.stays) whole += stay.seconds;
    double left = std::fmod(seconds, whole);
    for (const auto& stay : signal.stays) {
      if (left < stay.seconds) return DataValue(stay.value, now);
      left -= stay.seconds;
    }
    return DataValue(signal.stays.back().value, now);
  }
  if (signal.shape == Signal::Shape::Table) {
    const Recording& recording = recordings_[point];
    if (recording.rows.empty()) return DataValue(Variant(), now, status::BadNoData);
    const double played = seconds * signal.speed, length = recording.length();
    const auto& row = recording.at(signal.isLooped && length > 0 ? std::fmod(played, length) : played);
    return DataValue(row.value, now, row.status);
  }
  double value = shapeAt(point, seconds);
  if (signal.noise > 0) value += std::normal_distribution<double>(0, signal.noise)(random_);
  return DataValue(Variant(value), now);
}

Result<std::vector<DataValue>> SimulatedStation::read(std::span<const PointIndex> points) {
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
  std::vector<DataValue> values;
  for (const PointIndex point : points) values.push_back(at(point, seconds));
  return values;
}

Result<Station::Explained> SimulatedStation::explain(PointIndex point) {
  auto values = read(std::span(&point, 1));
  Explained explained;
  explained.value = std::move((*values)[0]);
  explained.trace.push_back({"signal", names_[point].where});
  explained.trace.push_back({"at this moment", format(explained.value.value)});
  return explained;
}

Result<Station::Outcome> SimulatedStation::write(const PointWrite& write) {
  Signal& signal = signals_[write.point];
  if (!signal.point.isWritable)
    return Outcome{{status::BadNotWritable, fmt::format("the signal {} is not writable", signal.point.name),
                    "write 'writable' behind it"}};
  if (write.bit >= 0) return Outcome{{status::BadNotWritable, "a single bit of a signal can't be written", {}}};
  // From now on it stays as it was written.
  signal.shape = Signal::Shape::Constant;
  signal.constant = write.value;
  return Outcome{};
}

}  // namespace zunth::device::simulation
