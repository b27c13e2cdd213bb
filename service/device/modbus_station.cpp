#include "service/device/modbus_station.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/device/polled.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

const Error kNotConnected{status::BadNoCommunication, "the device is not connected", {}};

/// What the registers say; BadOutOfRange for digits that are none.
DataValue valueOf(const Place& place, std::span<const std::uint16_t> registers, DateTime when) {
  Variant value = decode(place, registers);
  const StatusCode code = value.isNull() ? status::BadOutOfRange : status::Good;
  return DataValue(std::move(value), when, code);
}

bool isIllegalFunction(const Answer& answer) {
  return answer.refusal.isBad() && !answer.registers.empty() && answer.registers[0] == kIllegalFunction;
}

/// What a unit says that it is, by function 43/14; of old ones that know the basics alone, these.
Result<Trace> readNameplate(const Settings& settings) {
  constexpr std::size_t kMostObjects = 128, kLongest = 120;
  const auto line = Line::to(settings.at);
  Trace out;
  bool isRegular = true;
  for (std::uint8_t first = 0; out.size() < kMostObjects;) {
    const auto answer =
        line->exchange(settings.unit, identifyRequest(isRegular, first), milliseconds(settings.timeout));
    if (!answer) return answer.error();
    const auto told = identificationIn(*answer);
    if (!told && told.code() == status::BadNotSupported && std::exchange(isRegular, false)) continue;
    if (!told) return told.error();
    for (const auto& [number, text] : told->objects)
      if (!text.empty()) out.push_back({nameOfObject(number), shown(text, kLongest)});
    // Each answer begins behind the last one, or a unit could tell for ever.
    if (!told->next || *told->next <= first) break;
    first = *told->next;
  }
  return out;
}

DriverSetup readDevice(const DeviceText& text, bool isSerial, model::Findings& findings) {
  const Settings settings = readSettings(text, isSerial, findings);
  DriverSetup setup;
  setup.line = settings.at.text();
  setup.address = fmt::format("{} unit {}", setup.line, settings.unit);
  auto points = readPoints<ModbusPoint>(text, setup, findings, [](const auto& each, auto& conversion, auto& found) {
    return parsePoint(each.name, each.words, conversion, found);
  });
  setup.nameplate = [settings] { return readNameplate(settings); };
  setup.make = [settings, points = std::move(points)](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<ModbusStation>(settings, points));
  };
  return setup;
}

}  // namespace

Settings readSettings(const DeviceText& text, bool isSerial, model::Findings& findings) {
  Settings settings;
  if (isSerial) {
    if (const auto* serial = text.root.textOf("serial"))
      settings.at.serial = parseSerial(*serial, text.folder, findings);
    else
      findings.error(text.root.key.place, "the device names no serial port", "write: serial: /dev/ttyS0 19200 8E1");
  } else {
    if (const auto* host = text.root.textOf("host")) settings.at.host = host->text;
    settings.at.port = static_cast<std::uint16_t>(numberOf(text.root, "port", settings.at.port, 1, 65535, findings));
  }
  settings.unit = static_cast<std::uint8_t>(numberOf(text.root, "unit", settings.unit, 0, 255, findings));
  settings.gap = static_cast<std::uint16_t>(numberOf(text.root, "gap", settings.gap, 0, 100, findings));
  settings.timeout = durationOf(text.root, "timeout", settings.timeout, findings);
  return settings;
}

DriverSetup readTcpDevice(const DeviceText& text, model::Findings& findings) {
  return readDevice(text, false, findings);
}

DriverSetup readSerialDevice(const DeviceText& text, model::Findings& findings) {
  return readDevice(text, true, findings);
}

ModbusStation::ModbusStation(Settings settings, std::vector<ModbusPoint> points)
    : settings_(std::move(settings)), line_(Line::to(settings_.at)), points_(std::move(points)) {
  for (const auto& p : points_) names_.push_back(p.point);
}

Result<Answer> ModbusStation::exchange(BytesView request) {
  auto answer = line_->exchange(settings_.unit, request, milliseconds(settings_.timeout));
  if (!answer) return answer.error();
  return answerTo(request, *answer);
}

Result<void> ModbusStation::connect() {
  if (auto connected = line_->connect(milliseconds(settings_.timeout)); !connected) return connected;
  if (!points_.empty()) {
    const Place& place = points_.front().place;
    if (auto answer = exchange(readRequest(place.table, place.address, place.count)); !answer) return answer.error();
  }
  // It may be another one than before, or have learnt something.
  isConnected_ = true;
  lacksWriteOne_ = lacksWriteSeveral_ = lacksMask_ = false;
  plans_.clear();
  return {};
}

/// A run that was refused for one address in it, in two.
std::vector<ReadRequest> ModbusStation::halves(const ReadRequest& request) const {
  const auto middle = request.points.begin() + static_cast<std::ptrdiff_t>(request.points.size() / 2);
  std::vector<ReadRequest> out;
  for (const auto& half : {std::vector(request.points.begin(), middle), std::vector(middle, request.points.end())})
    for (auto& each : plan(points_, half, settings_.gap)) out.push_back(std::move(each));
  return out;
}

Result<std::vector<DataValue>> ModbusStation::read(std::span<const PointIndex> wanted) {
  if (!isConnected_) return kNotConnected;
  constexpr std::size_t kMostPlans = 16;  // that are kept: one a beat
  const std::vector<PointIndex> asked(wanted.begin(), wanted.end());
  const auto known = plans_.find(asked);
  std::vector<ReadRequest> requests = known == plans_.end() ? plan(points_, wanted, settings_.gap) : known->second;
  std::vector<DataValue> byPoint(points_.size());
  std::vector<ReadRequest> done;
  for (std::size_t i = 0; i < requests.size(); ++i) {
    ReadRequest next = std::move(requests[i]);
    const auto answer = exchange(readRequest(next.table, next.first, next.count));
    if (!answer) return answer.error();
    // Only an address is a reason to ask otherwise from now on; one who is busy is asked again at the next beat.
    if (answer->refusal == status::BadConfigurationError && next.points.size() > 1) {
      for (auto& half : halves(next)) requests.push_back(std::move(half));
      continue;
    }
    const DateTime now = wallClock();
    for (PointIndex point : next.points) {
      const Place& place = points_[point].place;
      byPoint[point] =
          answer->refusal.isBad()
              ? DataValue(Variant(), now, answer->refusal)
              : valueOf(place, std::span(answer->registers).subspan(place.address - next.first, place.count), now);
    }
    done.push_back(std::move(next));
  }
  if (asked.size() > 1) {
    if (known == plans_.end() && plans_.size() >= kMostPlans) plans_.clear();
    plans_[asked] = std::move(done);
  }
  std::vector<DataValue> values;
  for (PointIndex point : wanted) values.push_back(std::move(byPoint[point]));
  return values;
}

Result<Station::Explained> ModbusStation::explain(PointIndex index) {
  if (!isConnected_) return kNotConnected;
  const auto& [point, place] = points_[index];
  const Bytes request = readRequest(place.table, place.address, place.count);
  const auto octets = line_->exchange(settings_.unit, request, milliseconds(settings_.timeout));
  if (!octets) return octets.error();
  const auto answer = answerTo(request, *octets);
  if (!answer) return answer.error();
  Explained explained;
  explained.value.sourceTimestamp = wallClock();
  auto& out = explained.trace;
  out = {{"request", hexOf(request)}, {"answer", hexOf(*octets)}};
  if (answer->refusal.isBad()) {
    out.push_back({"refused", fmt::format("exception {}: {}", answer->registers.front(),
                                          exceptionName(static_cast<std::uint8_t>(answer->registers.front())))});
    explained.value.status = answer->refusal;
    return explained;
  }
  if (!isBits(place.table)) out.push_back({"registers", fmt::format("{:04X}", fmt::join(answer->registers, " "))});
  const std::string order =
      fmt::format("{}{}", place.lowWordFirst ? ", low word first" : "", place.lowByteFirst ? ", low octet first" : "");
  explained.value = valueOf(place, answer->registers, explained.value.sourceTimestamp);
  out.push_back({fmt::format("as {}{}{}{}", place.length > 0 ? fmt::format("{} elements, each a ", place.length) : "",
                             place.isDecimal ? "decimal digits, a " : "", nameOf(place.raw), order),
                 format(explained.value.value)});
  return explained;
}

/// One value, by the function for one or the one for several, whichever the unit has.
Result<Answer> ModbusStation::writeRegisters(const Place& place, std::span<const std::uint16_t> registers) {
  const bool isOne = registers.size() == 1;
  const auto asOne = [&]() -> Result<Answer> {
    Answer last;
    for (std::size_t i = 0; i < registers.size() && !last.refusal.isBad(); ++i) {
      auto answer = exchange(writeOne(place.table, static_cast<std::uint16_t>(place.address + i), registers[i]));
      if (!answer) return answer;
      last = std::move(*answer);
    }
    return last;
  };
  const auto asSeveral = [&] { return exchange(writeSeveral(place.table, place.address, registers)); };
  bool& lacks = isOne ? lacksWriteOne_ : lacksWriteSeveral_;
  if (!lacks) {
    auto answer = isOne ? asOne() : asSeveral();
    if (!answer || !isIllegalFunction(*answer)) return answer;
    lacks = true;
  }
  return isOne ? asSeveral() : asOne();
}

/// One bit of a number: by the function for it, or, where the unit lacks that, by reading and writing the register.
Result<Answer> ModbusStation::writeBit(const Place& place, int bit, bool on) {
  const auto [address, own] = bitAt(place, bit);
  if (!lacksMask_) {
    auto answer = exchange(modbus::writeBit(address, own, on));
    if (!answer || !isIllegalFunction(*answer)) return answer;
    lacksMask_ = true;
  }
  auto before = exchange(readRequest(place.table, address, 1));
  if (!before || before->refusal.isBad()) return before;
  const auto mask = static_cast<std::uint16_t>(1u << own);
  const auto after = static_cast<std::uint16_t>(on ? before->registers[0] | mask : before->registers[0] & ~mask);
  Place one;
  one.address = address;
  return writeRegisters(one, std::span(&after, 1));
}

Result<Station::Outcome> ModbusStation::write(const PointWrite& write) {
  if (!isConnected_) return kNotConnected;
  const auto& [point, place] = points_[write.point];
  if (!point.isWritable)
    return Outcome{{status::BadNotWritable, fmt::format("the point {} can't be written", point.name), {}}};
  Result<Answer> answer{Answer{}};
  if (write.bit >= 0) {
    const auto* on = write.value.get<bool>();
    if (!on) return Outcome{{status::BadTypeMismatch, "a bit is true or false", {}}};
    answer = writeBit(place, write.bit, *on);
  } else {
    const auto registers = encode(place, write.value);
    if (!registers) return Outcome{registers.error()};
    answer = writeRegisters(place, *registers);
  }
  if (!answer) return answer.error();
  if (!answer->refusal.isBad()) return Outcome{};
  return Outcome{{answer->refusal,
                  fmt::format("the device refuses {} for {}: {}", format(write.value), point.name,
                              exceptionName(static_cast<std::uint8_t>(answer->registers.front()))),
                  {}}};
}

}  // namespace zunth::device::modbus
