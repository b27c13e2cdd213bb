#include "apps/sim/site_plant.hpp"

#include "apps/sim/modbus_server.hpp"
#include "core/ua/json_type.hpp"
#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/device/line_station.hpp"
#include "service/device/modbus_station.hpp"
#include "service/device/mqtt_device.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <cmath>
#include <fstream>
#include <map>
#include <numbers>
#include <stdexcept>

#include <fmt/format.h>

namespace zunth::sim {

using namespace ua;

namespace {

constexpr double kPeriod = 90;  // s

/// The range of a variable's EURange property, or what a plant usually has.
std::pair<double, double> rangeOf(const space::Space& space, space::NodeIndex variable) {
  const auto property = space.child(variable, {0, "EURange"});
  if (property != space::kNoNode)
    if (const auto* object = space.value(property).value.get<ExtensionObject>())
      if (const auto range = object->as<Range>()) return {range->low, range->high};
  return {0, 100};
}

device::modbus::ModbusPoint modbusPoint(const device::DevicePoint& point) {
  model::Findings ignored;
  device::Conversion again;
  return *device::modbus::parsePoint({point.name(), {}}, {point.raw.where, {}}, again, ignored);
}

}  // namespace

Variant Guess::raw(double seconds) const {
  if (point_.raw.length == 0) return element(seconds);
  // Neighbours show nearly the same, one a little after the other.
  constexpr double kLag = kPeriod / 40;
  std::vector<Variant> elements;
  for (std::size_t i = 0; i < point_.raw.length; ++i)
    elements.push_back(element(seconds + kLag * static_cast<double>(i)));
  const auto array = device::arrayOf(elements, point_.raw.type);
  return array ? *array : Variant();
}

Variant Guess::element(double seconds) const {
  const double wave = 0.5 + 0.3 * std::sin(2 * std::numbers::pi * (seconds / kPeriod + phase_));
  Variant shown;
  const auto beat = static_cast<std::int64_t>(seconds);
  if (isHeart_)
    shown = point_.raw.type == BuiltInType::Boolean ? Variant(beat % 2 == 0) : Variant(static_cast<double>(beat % 100));
  else if (!point_.conversion.names.empty())
    shown = Variant(String(point_.conversion.names.front().second));
  else if (shown_ == BuiltInType::Boolean)
    shown = Variant(std::fmod(seconds / kPeriod + phase_, 1) < 0.5);
  else if (point_.conversion.countsOf > 0)
    shown = Variant(device::wallClock());
  else if (shown_ == BuiltInType::String || point_.type() == BuiltInType::String)
    shown = Variant(String(point_.name()));
  else
    shown = Variant(std::round((low_ + (high_ - low_) * wave) * 100) / 100);
  const auto raw = point_.conversion.toDevice(shown, point_.raw.type);
  return raw ? *raw : Variant(0.0);
}

std::vector<Guess> guessesFor(const admin::Site& site, std::size_t device) {
  std::vector<Guess> out;
  const auto& points = site.devices[device].points;
  const auto& heartbeat = site.devices[device].heartbeat;
  for (device::PointIndex i = 0; i < points.size(); ++i) {
    double low = 0, high = 100;
    BuiltInType shown = points[i].type() == BuiltInType::Variant ? BuiltInType::Double : points[i].type();
    for (const auto& binding : site.bindings.variables)
      if (binding.device == device && binding.point == i) {
        std::tie(low, high) = rangeOf(*site.space, binding.variable);
        shown =
            binding.part ? binding.part->type : site.space->builtInType(site.space->traits(binding.variable).dataType);
      }
    out.emplace_back(points[i], shown, low, high, 0.13 * static_cast<double>(i));
    if (heartbeat && heartbeat->point == i) out.back().beat();
  }
  return out;
}

SiteMachine::SiteMachine(std::string name, std::vector<Guess> guesses)
    : name_(std::move(name)), guesses_(std::move(guesses)) {
  for (const auto& guess : guesses_) {
    places_.push_back(modbusPoint(guess.point()).place);
    const std::size_t end = places_.back().address + std::size_t{places_.back().count};
    auto& size = isBits(places_.back().table) ? bits_ : registers_;
    size = std::max(size, end);
  }
}

void SiteMachine::put(const Tables& tables, std::size_t i) const {
  using device::modbus::Table;
  const auto& place = places_[i];
  const Variant raw = guesses_[i].raw(age_);
  if (guesses_[i].point().conversion.bit >= 0) {
    const auto [address, bit] = bitAt(place, guesses_[i].point().conversion.bit);
    auto& word = place.table == Table::InputRegister ? tables.input[address] : tables.holding[address];
    const auto mask = static_cast<std::uint16_t>(1u << bit);
    const bool on = raw == Variant(true);
    word = static_cast<std::uint16_t>(on ? word | mask : word & ~mask);
    return;
  }
  const auto registers = device::modbus::encode(place, raw);
  if (!registers) return;
  for (std::size_t k = 0; k < registers->size(); ++k) {
    const std::size_t at = place.address + k;
    switch (place.table) {
      case Table::Coil: tables.coils[at] = (*registers)[k] != 0; break;
      case Table::DiscreteInput: tables.discrete[at] = (*registers)[k] != 0; break;
      case Table::InputRegister: tables.input[at] = (*registers)[k]; break;
      case Table::HoldingRegister: tables.holding[at] = (*registers)[k]; break;
    }
  }
}

void SiteMachine::prepare(const Tables& tables) {
  for (std::size_t i = 0; i < guesses_.size(); ++i) put(tables, i);
}

/// What can be written stays as it is.
void SiteMachine::show(const Tables& tables) const {
  for (std::size_t i = 0; i < guesses_.size(); ++i)
    if (!canWrite(places_[i].table)) put(tables, i);
}

SiteMeter::SiteMeter(std::string name, const device::line::LineSettings& spoken, std::vector<Guess> guesses)
    : name_(std::move(name)), questions_(spoken.questions), checksum_(spoken.checksum), guesses_(std::move(guesses)) {}

std::string SiteMeter::text(const device::line::Question& question) const {
  std::string out = question.looks;
  const auto put = [&out](const std::string& field, const std::string& text) {
    const std::string place = "{" + field + "}";
    if (const auto at = out.find(place); at != std::string::npos) out.replace(at, place.size(), text);
  };
  for (const auto& guess : guesses_) {
    model::Findings ignored;
    device::Conversion again;
    const auto point =
        device::line::parsePoint({{guess.point().name(), {}}, {guess.point().raw.where, {}}}, again, ignored);
    if (!point || point->field.empty()) continue;
    put(point->field, device::plainText(guess.raw(age_)));
    if (!point->units.empty()) put(point->unitField, point->units.front().first);
  }
  // Fields that no point looks at.
  for (auto open = out.find('{'); open != std::string::npos; open = out.find('{'))
    out.replace(open, out.find('}', open) - open + 1, "0");
  return out + device::line::checksumOf(out, checksum_);
}

std::string SiteMeter::answer(const std::string& line) {
  for (const auto& question : questions_)
    if (line == device::trimmed(question.ask)) return text(question);
  return {};
}

SitePlant::SitePlant(const std::filesystem::path& folder, double speedup)
    : site_(admin::loadSite(folder)), speedup_(speedup) {
  if (site_.isSound()) return;
  std::string first = folder.string() + " is no sound site";
  for (const auto& line : site_.report()) first += "\n" + line;
  throw std::runtime_error(first);
}

std::vector<std::string> SitePlant::open() {
  std::vector<std::string> told;
  for (std::size_t i = 0; i < site_.devices.size(); ++i) {
    const auto& device = site_.devices[i];
    std::ifstream in(site_.folder / "devices" / (device.name + ".yaml"));
    const std::string text{std::istreambuf_iterator<char>(in), {}};
    model::Findings ignored;
    const auto root = model::readYaml(device.name, text, ignored);
    const device::DeviceText source{root, {}, device.name, site_.folder};
    auto guesses = guessesFor(site_, i);
    const auto serve = [&](auto server) {
      told.push_back(fmt::format("{} at {}", device.name, server->open()));
      stops_.push_back([server] { server->stop(); });
      runs_.push_back([server] { server->run(); });
    };
    try {
      if (device.driver.starts_with("modbus")) {
        const bool isSerial = device.driver == "modbus-rtu";
        const auto at = device::modbus::readSettings(source, isSerial, ignored);
        ModbusServer::Settings settings{at.at.host, at.at.port, at.at.serial.path, at.unit, speedup_};
        serve(std::make_shared<ModbusServer>(std::make_unique<SiteMachine>(device.name, std::move(guesses)), settings));
      } else if (device.driver == "line") {
        const auto spoken = device::line::readSettings(source, ignored);
        TextServer::Settings settings{spoken.at.host, spoken.at.port, spoken.at.serial.path, speedup_};
        serve(std::make_shared<TextServer>(std::make_unique<SiteMeter>(device.name, spoken, std::move(guesses)),
                                           settings));
      } else if (device.driver == "mqtt") {
        const auto settings = device::mqtt::readSettings(source, ignored);
        Publisher::Settings sends{settings.broker.host, settings.broker.port, settings.aliveTopic,
                                  settings.alivePayload};
        const auto started = std::chrono::steady_clock::now();
        auto publisher =
            std::make_shared<Publisher>(sends, [guesses = std::move(guesses), started, speedup = speedup_] {
              const double age =
                  std::chrono::duration<double>(std::chrono::steady_clock::now() - started).count() * speedup;
              std::map<std::string, ua::Json> topics;
              std::map<std::string, std::string> plain;
              for (const auto& guess : guesses) {
                model::Findings none;
                device::Conversion again;
                const auto point =
                    device::mqtt::parsePoint({{guess.point().name(), {}}, {guess.point().raw.where, {}}}, again, none);
                if (!point || point->topic.find_first_of("+#") != std::string::npos) continue;
                const Variant raw = guess.raw(age);
                if (point->path.empty()) {
                  plain[point->topic] = device::plainText(raw);
                  continue;
                }
                ua::Json* at = &topics[point->topic];
                for (const auto& part : point->path) at = &(*at)[part];
                double number = 0;
                if (raw.toDouble(number))
                  *at = number;
                else
                  *at = device::plainText(raw);
                if (!point->time.empty()) {
                  at = &topics[point->topic];
                  for (const auto& part : point->time) at = &(*at)[part];
                  *at = DateTime::from(std::chrono::system_clock::now()).text();
                }
              }
              for (const auto& [topic, json] : topics) plain[topic] = json.dump();
              return plain;
            });
        told.push_back(fmt::format("{} at broker {}:{}", device.name, sends.host, sends.port));
        stops_.push_back([publisher] { publisher->stop(); });
        runs_.push_back([publisher] { publisher->run(); });
      } else {
        told.push_back(device.driver == "dnp3"
                           ? fmt::format("{} is not simulated here: zunth-sim outstation", device.name)
                           : fmt::format("{} needs nobody ({})", device.name, device.driver));
      }
    } catch (const std::exception& wrong) {
      told.push_back(fmt::format("{} is not simulated: {}", device.name, wrong.what()));
    }
  }
  return told;
}

void SitePlant::run() {
  for (const auto& run : runs_) threads_.emplace_back(run);
  while (!stopping_) std::this_thread::sleep_for(std::chrono::milliseconds(50));
  for (const auto& stop : stops_) stop();
  threads_.clear();
}

void SitePlant::stop() { stopping_ = true; }

}  // namespace zunth::sim
