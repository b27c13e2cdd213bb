#include "service/registers/register_map.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"

#include <algorithm>
#include <limits>

namespace zunth::registers {

using namespace ua;
using device::modbus::isBits;

namespace {

/// The node's value in the type that its registers have.
Result<Variant> asRaw(const Register& one, const Variant& value) {
  auto raw = one.conversion.toDevice(value, one.point.place.raw);
  if (!raw) return raw;
  const BuiltInType wanted = one.conversion.bit >= 0 ? BuiltInType::Boolean : one.point.place.raw;
  return device::eachElement(*raw, [wanted](const Variant& element) { return convert(element, wanted, true); });
}

/// What stands for a value that is bad, where its type has something that can be told from any value.
std::optional<std::vector<std::uint16_t>> noNumber(const Register& one) {
  const auto& place = one.point.place;
  if (place.raw != BuiltInType::Float && place.raw != BuiltInType::Double) return std::nullopt;
  const Variant nan = place.raw == BuiltInType::Float ? Variant(std::numeric_limits<float>::quiet_NaN())
                                                      : Variant(std::numeric_limits<double>::quiet_NaN());
  Variant all = nan;
  if (place.length > 0) {
    const auto row = device::arrayOf(std::vector<Variant>(place.length, nan), place.raw);
    if (!row) return std::nullopt;
    all = *row;
  }
  auto words = device::modbus::encode(place, all);
  return words ? std::optional(std::move(*words)) : std::nullopt;
}

}  // namespace

std::optional<std::vector<std::uint16_t>> wordsOf(const Register& one, const DataValue& value) {
  if (!value.status.isBad()) {
    if (auto raw = asRaw(one, value.value)) {
      // Of a bit, the register that holds it and no other of its bits.
      if (one.conversion.bit >= 0) {
        std::vector<std::uint16_t> words(one.point.place.count, 0);
        const auto [address, bit] = device::modbus::bitAt(one.point.place, one.conversion.bit);
        const auto* isOn = raw->get<bool>();
        if (isOn && *isOn) words[static_cast<std::size_t>(address - one.point.place.address)] = 1u << bit;
        return words;
      }
      if (auto words = device::modbus::encode(one.point.place, *raw)) return std::move(*words);
    }
  }
  if (!one.substitute.empty()) return one.substitute;
  return noNumber(one);
}

RegisterMap::RegisterMap(std::vector<Register> registers) : registers_(std::move(registers)) {
  for (std::size_t i = 0; i < registers_.size(); ++i) {
    const auto& place = registers_[i].point.place;
    places_[static_cast<std::size_t>(place.table)].push_back({place.address, place.count, i, false});
    if (const auto goodAt = registers_[i].goodAt)
      places_[static_cast<std::size_t>(Table::DiscreteInput)].push_back({*goodAt, 1, i, true});
  }
  for (auto& places : places_) std::ranges::stable_sort(places, {}, &Place::first);
}

Outcome<std::vector<std::size_t>> RegisterMap::touched(Table table, std::uint16_t first, std::uint16_t count) const {
  const auto& places = placesOf(table);
  const int end = first + count;
  int last = 0;
  std::vector<std::size_t> out;
  for (const auto& place : places) {
    last = std::max(last, place.first + place.count);
    if (place.first < end && place.first + place.count > first) out.push_back(place.number);
  }
  if (out.empty() || end > last) return Exception::IllegalDataAddress;
  return out;
}

Outcome<std::vector<std::uint16_t>> RegisterMap::image(Table table, std::uint16_t first, std::uint16_t count,
                                                       std::span<const std::size_t> touched,
                                                       std::span<const DataValue> values) const {
  std::vector<std::uint16_t> out(count, 0);
  std::size_t next = 0;
  for (const auto& place : placesOf(table)) {
    if (place.first >= first + count || place.first + place.count <= first) continue;
    if (next >= touched.size() || touched[next] != place.number || next >= values.size())
      return Exception::ServerDeviceFailure;
    const auto& value = values[next++];
    std::optional<std::vector<std::uint16_t>> words;
    if (place.isGoodBit)
      words = std::vector<std::uint16_t>{static_cast<std::uint16_t>(value.status.isGood())};
    else
      words = wordsOf(registers_[place.number], value);
    if (!words || words->size() != place.count) return Exception::ServerDeviceFailure;
    for (int i = 0; i < place.count; ++i) {
      const int at = place.first + i - first;
      // Bits of one register come from several nodes.
      if (at >= 0 && at < count) out[static_cast<std::size_t>(at)] |= (*words)[static_cast<std::size_t>(i)];
    }
  }
  return out;
}

Outcome<std::vector<RegisterMap::NodeWrite>> RegisterMap::writes(Table table, std::uint16_t first,
                                                                 std::span<const std::uint16_t> words,
                                                                 std::uint16_t mask) const {
  const int end = first + static_cast<int>(words.size());
  std::vector<bool> isTaken(words.size(), false);
  std::vector<NodeWrite> out;
  for (const auto& place : placesOf(table)) {
    if (place.first >= end || place.first + place.count <= first) continue;
    const Register& one = registers_[place.number];
    if (!one.point.point.isWritable) return Exception::IllegalDataAddress;
    const int bit = one.conversion.bit;
    if (bit >= 0) {
      const auto [address, own] = device::modbus::bitAt(one.point.place, bit);
      if (address < first || address >= end) continue;
      const auto at = static_cast<std::size_t>(address - first);
      isTaken[at] = true;
      if (!(mask >> own & 1)) continue;
      out.push_back({place.number, Variant((words[at] >> own & 1) != 0)});
      continue;
    }
    // Half a number is none.
    if (place.first < first || place.first + place.count > end || mask != 0xFFFF) return Exception::IllegalDataValue;
    const auto at = static_cast<std::size_t>(place.first - first);
    for (std::size_t i = 0; i < place.count; ++i) isTaken[at + i] = true;
    auto value = one.conversion.toNode(device::modbus::decode(one.point.place, words.subspan(at, place.count)));
    if (!value || value->isNull()) return Exception::IllegalDataValue;
    if (one.type != BuiltInType::Variant) {
      value = device::convertedTo(one.type, *value);
      if (!value) return Exception::IllegalDataValue;
    }
    out.push_back({place.number, std::move(*value)});
  }
  // What nobody takes would be lost without a word.
  if (std::ranges::find(isTaken, false) != isTaken.end()) return Exception::IllegalDataAddress;
  return out;
}

}  // namespace zunth::registers
