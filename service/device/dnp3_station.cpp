#include "service/device/dnp3_station.hpp"

#include "core/ua/text.hpp"
#include "service/device/polled.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::device::dnp3 {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

constexpr unsigned kEvents = 0b1110, kAllClasses = 0b1111;
constexpr std::size_t kMostFragments = 1'000, kMostPoints = 100'000, kMostSamples = 100'000;
constexpr int kMostTimeouts = 10;  // that one answer may take

BuiltInType typeOf(Kind kind) {
  switch (kind) {
    case Kind::Binary:
    case Kind::BinaryOutput: return BuiltInType::Boolean;
    case Kind::DoubleBit: return BuiltInType::Byte;
    case Kind::Counter:
    case Kind::Frozen: return BuiltInType::UInt32;
    case Kind::OctetString: return BuiltInType::String;
    default: return BuiltInType::Double;
  }
}

/// The kind of this name, or nothing and a finding.
std::optional<Kind> kindOf(const Text& word, Findings& findings) {
  if (const auto kind = kindNamed(word.text)) return kind;
  std::vector<std::string> kinds;
  for (const Kind kind : allKinds()) kinds.emplace_back(nameOf(kind));
  const auto near = nearest(word.text, kinds);
  findings.error(
      word.place, fmt::format("there is no kind of point '{}'", word.text),
      near.empty() ? fmt::format("the kinds are {}", fmt::join(kinds, ", ")) : fmt::format("did you mean '{}'?", near));
  return std::nullopt;
}

std::string describe(const Indications& indications) {
  std::string out;
  const auto say = [&](bool is, const char* words) {
    if (is) out += fmt::format("{}{}", out.empty() ? "" : ", ", words);
  };
  say(indications.hasRestarted(), "restarted");
  say(indications.hasTrouble(), "in trouble");
  say(indications.isLocal(), "switched to local");
  say(indications.needsTime(), "needs the time");
  say(indications.hasEvents(), "has events");
  say(indications.hasOverflown(), "lost events");
  return out.empty() ? "well" : out;
}

}  // namespace

StationSettings readSettings(const DeviceText& text, Findings& findings) {
  StationSettings out;
  const auto& root = text.root;
  if (const Text* serial = root.textOf("serial"))
    out.at.serial = parseSerial(*serial, text.folder, findings);
  else if (const Text* host = root.textOf("host"))
    out.at.host = host->text;
  out.at.port = static_cast<std::uint16_t>(numberOf(root, "port", 20'000, 1, 65535, findings));
  out.master = static_cast<std::uint16_t>(numberOf(root, "master", out.master, 0, 65519, findings));
  out.outstation = static_cast<std::uint16_t>(numberOf(root, "outstation", out.outstation, 0, 65519, findings));
  out.timeout = milliseconds(durationOf(root, "timeout", 2'000, findings));
  out.integrity = milliseconds(durationOf(root, "integrity", 3'600'000, findings));
  const auto onOff = [&](const char* key, bool& value) {
    const Text* word = root.textOf(key);
    if (!word) return;
    if (word->text == "on" || word->text == "off")
      value = word->text == "on";
    else
      findings.error(word->place, fmt::format("'{}' is neither on nor off", word->text), "write on or off");
  };
  onOff("unsolicited", out.wantsUnsolicited);
  onOff("sets-clock", out.setsClock);
  onOff("link-confirm", out.isConfirmed);
  out.keepAlive = milliseconds(durationOf(root, "keep-alive", 60'000, findings));
  if (const auto* discover = root.find("discover")) {
    std::vector<Text> words;
    for (const Text& text : root.textsOf("discover"))
      for (Text& word : wordsOf(text)) words.push_back(std::move(word));
    for (Text& word : words) {
      if (word.text.ends_with(',')) word.text.pop_back();
      if (word.text == "everything")
        out.discovers.insert(allKinds().begin(), allKinds().end());
      else if (const auto kind = kindOf(word, findings))
        out.discovers.insert(*kind);
    }
    if (words.empty())
      findings.error(discover->key.place, "'discover' names no kind",
                     "as in: discover: everything, or: analog, counter");
  }
  return out;
}

std::optional<StationPoint> parsePoint(const DeviceText::PointText& text, Conversion& conversion, Findings& findings) {
  StationPoint out;
  out.point.name = text.name.text;
  out.point.where = text.words.text;
  const auto words = wordsOf(text.words);
  const auto fail = [&](const Text& at, std::string message, std::string hint) {
    findings.error(at.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  constexpr const char* kHelp = "as in: analog 3, or binary-output 0 select pulse 500 ms";
  if (words.size() < 2) return fail(text.words, "a point is a kind and an index", kHelp);
  const auto kind = kindOf(words[0], findings);
  if (!kind) return std::nullopt;
  const auto index = parse(words[1].text, BuiltInType::UInt16);
  if (!index) return fail(words[1], fmt::format("'{}' is no index", words[1].text), "indexes count from 0 to 65535");
  out.kind = *kind;
  out.index = *index->get<std::uint16_t>();
  out.point.type = typeOf(out.kind);
  out.point.isWritable = out.kind == Kind::BinaryOutput || out.kind == Kind::AnalogOutput;
  for (std::size_t i = 2; i < words.size();) {
    const auto isConversion = readConversion(words, i, conversion, findings);
    if (!isConversion) return std::nullopt;
    if (*isConversion) continue;
    const std::string& word = words[i].text;
    const std::vector<std::string> types{"", "Int32", "Int16", "Float", "Double"};
    const auto type = std::ranges::find(types, word);
    if (word == "read-only") {
      out.point.isWritable = false;
    } else if (word == "select" && out.point.isWritable) {
      out.isSelected = true;
    } else if (word == "pulse" && out.kind == Kind::BinaryOutput) {
      std::string time = i + 1 < words.size() ? words[i + 1].text : std::string();
      if (time.find_first_not_of("0123456789.") == std::string::npos && i + 2 < words.size())
        time += " " + words[++i + 1].text;
      const auto ms = parseDuration(time);
      if (!ms || *ms < 1 || *ms > 86'400'000) return fail(words[i], "'pulse' needs a time", "as in: pulse 500 ms");
      out.pulse = static_cast<std::uint32_t>(*ms);
      ++i;
    } else if (out.kind == Kind::AnalogOutput && !word.empty() && type != types.end()) {
      out.variation = static_cast<std::uint8_t>(type - types.begin());
    } else {
      return fail(words[i], fmt::format("'{}' means nothing here", word), kHelp);
    }
    ++i;
  }
  if (!checkConversion(conversion, out.point.type, text.words, findings)) return std::nullopt;
  return out;
}

DriverSetup readDevice(const DeviceText& text, Findings& findings) {
  const StationSettings settings = readSettings(text, findings);
  DriverSetup setup;
  setup.line = settings.at.text();
  setup.address = fmt::format("{} outstation {}", setup.line, settings.outstation);
  auto points = readPoints<StationPoint>(text, setup, findings, parsePoint);
  setup.make = [settings, points = std::move(points)](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<OutstationStation>(settings, points));
  };
  return setup;
}

Result<std::vector<FoundPoint>> scanOutstation(const DeviceText& text, const ScanWish& wish, Findings& findings) {
  StationSettings settings = readSettings(text, findings);
  settings.setsClock = settings.wantsUnsolicited = false;
  if (wish.progress) wish.progress(fmt::format("reading all classes of outstation {}", settings.outstation));
  OutstationStation station(settings, {});
  if (auto connected = station.connect(); !connected) return connected.error();
  std::vector<FoundPoint> out;
  for (const auto& [place, measurement] : station.shown())
    out.push_back({fmt::format("{}{}", nameOf(place.first), place.second),
                   fmt::format("{} {}", nameOf(place.first), place.second),
                   DataValue(measurement.value, measurement.time.value_or(wallClock()), statusOf(measurement))});
  return out;
}

OutstationStation::OutstationStation(StationSettings settings, std::vector<StationPoint> points)
    : settings_(std::move(settings)), line_(Line::to(settings_.at)) {
  for (auto& point : points) add(std::move(point));
}

void OutstationStation::add(StationPoint point) {
  names_.push_back(point.point);
  byPlace_.emplace(std::pair(point.kind, point.index), points_.size());
  points_.push_back(std::move(point));
}

std::optional<DevicePoint> OutstationStation::add(const Discovered& point) {
  Findings findings;
  Conversion conversion;
  auto made = room_ > 0 ? parsePoint({{point.name, {}}, {point.words, {}}}, conversion, findings) : std::nullopt;
  if (!made || byPlace_.contains({made->kind, made->index})) return std::nullopt;
  --room_;
  DevicePoint out{made->point, std::move(conversion)};
  add(std::move(*made));
  return out;
}

std::vector<DevicePoint> OutstationStation::remember(const std::vector<Discovered>& points) {
  std::vector<DevicePoint> out;
  for (const auto& point : points)
    if (auto made = add(point)) out.push_back(std::move(*made));
  return out;
}

/// Makes a point of what nobody named, as "analog/3".
void OutstationStation::discover(const Measurement& measurement) {
  const Kind kind = measurement.kind;
  if (!settings_.discovers.contains(kind) || byPlace_.contains({kind, measurement.index})) return;
  std::string words = fmt::format("{} {}", nameOf(kind), measurement.index);
  // It is told its number as it shows it.
  if (kind == Kind::AnalogOutput) words += fmt::format(" {}", nameOf(measurement.sentAs));
  if (auto made = add(Discovered{fmt::format("{}/{}", nameOf(kind), measurement.index), words, typeOf(kind)}))
    discovered_.push_back(std::move(*made));
}

Instant OutstationStation::deadline() const { return std::chrono::steady_clock::now() + settings_.timeout; }

Result<void> OutstationStation::connect() {
  if (auto connected = line_->connect(deadline()); !connected) return connected;
  generation_ = line_->generation();
  lastUnsolicited_.reset();
  isConnected_ = true;
  auto outcome = [&]() -> Result<void> {
    // Events wait until all points are known.
    if (auto off = ask([&](auto sequence) { return unsolicited(sequence, false, kEvents); }); !off) return off.error();
    if (auto looked = lookAtAll(); !looked) return looked;
    if (!settings_.wantsUnsolicited) return {};
    auto on = ask([&](auto sequence) { return unsolicited(sequence, true, kEvents); });
    return on ? Result<void>() : Result<void>(on.error());
  }();
  if (!outcome) disconnect();
  return outcome;
}

void OutstationStation::disconnect() {
  isConnected_ = false;
  came_.clear();
  // Others on the line go on; a line that broke is closed already.
  if (!settings_.at.isSerial() && line_.use_count() == 1) line_->giveUp();
}

template <class Make>
Result<Fragment> OutstationStation::ask(Make request) {
  if (line_->generation() != generation_)
    return Error{status::BadNoCommunication, line_->text() + " was connected to anew", {}};
  sequence_ = static_cast<std::uint8_t>((sequence_ + 1) & 0x0F);
  const std::uint8_t sequence = sequence_;
  if (auto sent =
          line_->send(settings_.master, settings_.outstation, request(sequence), deadline(), settings_.isConfirmed);
      !sent)
    return sent.error();
  return answerTo(sequence);
}

Result<void> OutstationStation::confirmTo(const Fragment& fragment) {
  if (!fragment.control.wantsConfirm) return {};
  return line_->send(settings_.master, settings_.outstation,
                     confirm(fragment.control.sequence, fragment.control.isUnsolicited), deadline(),
                     settings_.isConfirmed);
}

/// The response to the request of this number, in one fragment or several; what comes by itself meanwhile is taken,
/// too.
Result<Fragment> OutstationStation::answerTo(std::uint8_t sequence) {
  Fragment whole;
  bool isBegun = false;
  // Each part of the answer has its time, and all of it has one, too: what else is said meanwhile is no answer.
  const Instant last = deadline() + settings_.timeout * kMostTimeouts;
  Instant until = deadline();
  for (std::size_t count = 0; count < kMostFragments; ++count) {
    const Instant late = std::min(until, last);
    auto octets = std::chrono::steady_clock::now() > late
                      ? Result<std::optional<Bytes>>(std::nullopt)
                      : line_->receive(settings_.master, settings_.outstation, late);
    if (!octets) return octets.error();
    if (!*octets)
      return Error{status::BadTimeout,
                   fmt::format("outstation {} at {} does not answer", settings_.outstation, line_->text()),
                   "look whether it is on, and at the addresses 'outstation' and 'master'"};
    heardAt_ = std::chrono::steady_clock::now();
    auto fragment = readFragment(**octets);
    if (!fragment) continue;  // nonsense, or another master's
    if (fragment->function == Function::Unsolicited) {
      if (auto taken = take(std::move(*fragment)); !taken) return taken.error();
      continue;
    }
    if (fragment->control.sequence != sequence || fragment->control.isFirst == isBegun) continue;  // an old one
    isBegun = true;
    until = deadline();
    sequence = static_cast<std::uint8_t>((sequence + 1) & 0x0F);
    if (auto confirmed = confirmTo(*fragment); !confirmed) return confirmed.error();
    whole.indications = fragment->indications;
    whole.control = fragment->control;
    whole.delay = fragment->delay ? fragment->delay : whole.delay;
    whole.unknownObject = fragment->unknownObject ? fragment->unknownObject : whole.unknownObject;
    const auto append = [](auto& to, auto& from) { to.insert(to.end(), from.begin(), from.end()); };
    append(whole.measurements, fragment->measurements);
    append(whole.controlStatuses, fragment->controlStatuses);
    if (whole.measurements.size() > kMostPoints * 10)
      return Error{status::BadEncodingLimitsExceeded, "the outstation's answer has no end", {}};
    if (!fragment->control.isFinal) continue;
    sequence_ = fragment->control.sequence;
    whole.function = Function::Response;
    if (auto taken = take(whole); !taken) return taken.error();
    return whole;
  }
  return Error{status::BadDecodingError, "the outstation's answer has no end", {}};
}

/// Remembers what came, and hands events on as samples.
Result<void> OutstationStation::take(Fragment fragment) {
  const bool isUnsolicited = fragment.function == Function::Unsolicited;
  if (isUnsolicited) {
    if (auto confirmed = confirmTo(fragment); !confirmed) return confirmed;
    // One that comes again as its confirmation was lost brings nothing new.
    if (lastUnsolicited_ == fragment.control.sequence && !fragment.measurements.empty()) return {};
    lastUnsolicited_ = fragment.control.sequence;
  }
  indications_ = fragment.indications;
  const DateTime now = wallClock();
  for (auto& measurement : fragment.measurements) {
    const std::pair place(measurement.kind, measurement.index);
    const auto known = shown_.find(place);
    if (known == shown_.end() && shown_.size() >= kMostPoints) continue;
    discover(measurement);
    const DateTime when = measurement.time.value_or(now);
    const StatusCode code = statusOf(measurement);
    const bool isNews = measurement.isEvent || known == shown_.end() || !(known->second.value == measurement.value) ||
                        known->second.flags != measurement.flags;
    if (isNews) {
      shownAt_[place] = when;
      const auto [from, to] = byPlace_.equal_range(place);
      for (auto each = from; each != to && came_.size() < kMostSamples; ++each)
        came_.push_back({each->second, DataValue(measurement.value, when, code)});
    }
    shown_.insert_or_assign(place, std::move(measurement));
  }
  return isUnsolicited ? heed(indications_) : Result<void>();
}

/// Does what the outstation asks for by its indications.
Result<void> OutstationStation::heed(const Indications& indications) {
  if (std::exchange(isHeeding_, true)) return {};
  const auto outcome = [&]() -> Result<void> {
    if (indications.hasRestarted()) {
      if (auto cleared = ask([](auto sequence) { return clearRestart(sequence); }); !cleared) return cleared.error();
      if (auto looked = lookAtAll(); !looked) return looked;
      if (settings_.wantsUnsolicited)
        if (auto on = ask([](auto sequence) { return unsolicited(sequence, true, kEvents); }); !on) return on.error();
    } else if (indications.hasOverflown()) {
      if (auto looked = lookAtAll(); !looked) return looked;
    }
    if (indications.needsTime() && settings_.setsClock) return synchronize();
    return {};
  }();
  isHeeding_ = false;
  return outcome;
}

Result<void> OutstationStation::lookAtAll() {
  lookedAt_ = std::chrono::steady_clock::now();
  auto answer = ask([](auto sequence) { return readClasses(sequence, kAllClasses); });
  if (!answer) return answer.error();
  outputs_.clear();
  for (const Kind kind : {Kind::BinaryOutput, Kind::AnalogOutput})
    if (std::ranges::any_of(points_, [&](const auto& point) {
          return point.kind == kind && shown_.contains({kind, point.index});
        }))
      outputs_.push_back(kind);
  return heed(answer->indications);
}

Result<void> OutstationStation::askForEvents() {
  // Outputs seldom have events of their own.
  auto answer = ask([this](auto sequence) { return readClasses(sequence, kEvents, outputs_); });
  if (!answer) return answer.error();
  return heed(answer->indications);
}

/// By the time that a request takes one way (10.3).
Result<void> OutstationStation::synchronize() {
  const auto begun = std::chrono::steady_clock::now();
  auto measured = ask([](auto sequence) { return measureDelay(sequence); });
  if (!measured) return measured.error();
  const auto taken = std::chrono::steady_clock::now() - begun;
  const auto turnaround = std::chrono::milliseconds(measured->delay.value_or(0));
  const auto oneWay = std::max<Duration>((taken - turnaround) / 2, Duration::zero());
  const DateTime there = DateTime::from(std::chrono::system_clock::now() +
                                        std::chrono::duration_cast<std::chrono::system_clock::duration>(oneWay));
  auto written = ask([there](auto sequence) { return writeTime(sequence, there); });
  return written ? Result<void>() : Result<void>(written.error());
}

DataValue OutstationStation::valueOf(PointIndex point) const {
  const std::pair place(points_[point].kind, std::uint32_t{points_[point].index});
  const auto known = shown_.find(place);
  // It has been asked for all of its points.
  if (known == shown_.end()) return DataValue(Variant(), wallClock(), status::BadConfigurationError);
  return DataValue(known->second.value, shownAt_.at(place), statusOf(known->second));
}

Result<std::vector<DataValue>> OutstationStation::read(std::span<const PointIndex> points) {
  if (!isConnected_) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const bool isDue = std::chrono::steady_clock::now() - lookedAt_ > settings_.integrity;
  if (auto asked = isDue ? lookAtAll() : askForEvents(); !asked) return asked.error();
  std::vector<DataValue> out;
  for (const PointIndex point : points) out.push_back(valueOf(point));
  return out;
}

Result<std::vector<Sample>> OutstationStation::listen(Duration patience) {
  if (came_.empty()) {
    auto octets = line_->receive(settings_.master, settings_.outstation, std::chrono::steady_clock::now() + patience);
    if (!octets) return octets.error();
    if (*octets) heardAt_ = std::chrono::steady_clock::now();
    if (*octets)
      if (auto fragment = readFragment(**octets); fragment && fragment->function == Function::Unsolicited)
        if (auto taken = take(std::move(*fragment)); !taken) return taken.error();
  }
  // One that has nothing to say is silent as one that has gone.
  if (std::chrono::steady_clock::now() - heardAt_ > settings_.keepAlive) {
    if (auto there = line_->test(settings_.master, settings_.outstation, deadline()); !there) return there.error();
    heardAt_ = std::chrono::steady_clock::now();
  }
  return std::exchange(came_, {});
}

Result<Station::Explained> OutstationStation::explain(PointIndex index) {
  if (!isConnected_) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const StationPoint& point = points_[index];
  auto answer = ask([&](auto sequence) { return readPoints(sequence, point.kind, point.index, point.index); });
  if (!answer) return answer.error();
  Explained out;
  out.value = valueOf(index);
  out.trace.push_back({"outstation", describe(answer->indications)});
  if (answer->indications.lacksObject() || answer->measurements.empty())
    out.trace.push_back({"refused", "it has no such point"});
  for (const auto& measurement : answer->measurements) {
    if (measurement.kind != point.kind || measurement.index != point.index) continue;
    out.trace.push_back({"flags", fmt::format("{:02X}", measurement.flags)});
    out.trace.push_back({fmt::format("as {}", nameOf(measurement.value.type())), format(measurement.value)});
  }
  return out;
}

Result<Station::Outcome> OutstationStation::write(const PointWrite& write) {
  if (!isConnected_) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const StationPoint& point = points_[write.point];
  if (!point.point.isWritable || write.bit >= 0)
    return Outcome{{status::BadNotWritable, fmt::format("the point {} can't be written", point.point.name), {}}};
  Command wanted;
  wanted.index = point.index;
  wanted.isBinary = point.kind == Kind::BinaryOutput;
  wanted.variation = point.variation;
  if (wanted.isBinary) {
    const auto* on = write.value.get<bool>();
    if (!on) return Outcome{{status::BadTypeMismatch, "an output is on or off", {}}};
    wanted.code = static_cast<std::uint8_t>((point.pulse ? 1 : 3) + (*on ? 0 : 1));
    wanted.onTime = point.pulse;
  } else {
    if (!write.value.toDouble(wanted.number)) return Outcome{{status::BadTypeMismatch, "an output takes a number", {}}};
    constexpr double kMost[] = {0, 2147483647, 32767, 3.4e38, 1.7e308};
    if (!(std::abs(wanted.number) <= kMost[wanted.variation]))
      return Outcome{{status::BadOutOfRange, fmt::format("the point can't hold {:g}", wanted.number), {}}};
  }
  for (const Function function : {Function::Select, Function::Operate}) {
    if (function == Function::Select && !point.isSelected) continue;
    const Function sent = function == Function::Operate && !point.isSelected ? Function::DirectOperate : function;
    auto answer = ask([&](auto sequence) { return command(sequence, sent, wanted); });
    if (!answer) return answer.error();
    if (answer->indications.lacksFunction() || answer->indications.lacksObject() || answer->controlStatuses.empty())
      return Outcome{{status::BadNotSupported, "the outstation has no such output", {}}};
    if (const auto outcome = controlOutcome(answer->controlStatuses[0]); outcome.code.isBad()) return Outcome{outcome};
  }
  return Outcome{};
}

}  // namespace zunth::device::dnp3
