#include "service/device/modbus_scan.hpp"

#include "core/ua/text.hpp"

#include <bit>
#include <cmath>

#include <fmt/format.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

constexpr std::uint16_t kAtOnce = 100;

/// What is there of a table, by address. A refused run is halved until what isn't there is known.
Result<std::map<std::uint16_t, std::uint16_t>> readTable(Line& line, const Settings& settings, Table table,
                                                         const ScanWish& wish) {
  std::map<std::uint16_t, std::uint16_t> out;
  std::vector<std::pair<int, int>> runs;
  // The lowest addresses are at the back, and looked at first: there is most likely something.
  for (int from = wish.first; from <= wish.last; from += kAtOnce)
    runs.insert(runs.begin(), {from, std::min(wish.last, from + kAtOnce - 1)});
  std::size_t refusals = 0;
  while (!runs.empty()) {
    const auto [from, to] = runs.back();
    runs.pop_back();
    const auto request =
        readRequest(table, static_cast<std::uint16_t>(from), static_cast<std::uint16_t>(to - from + 1));
    auto octets = line.exchange(settings.unit, request, milliseconds(settings.timeout));
    if (!octets) return octets.error();
    const auto answer = answerTo(request, *octets);
    if (!answer) return answer.error();
    if (answer->refusal == status::BadNotSupported) break;  // it has no such table
    if (answer->refusal.isBad()) {
      // A table of which nothing is there costs a few questions, not one for each address.
      if (out.empty() && ++refusals > 32) break;
      if (from == to) continue;
      const int middle = (from + to) / 2;
      runs.emplace_back(middle + 1, to);
      runs.emplace_back(from, middle);
      continue;
    }
    for (int i = from; i <= to; ++i)
      out[static_cast<std::uint16_t>(i)] = answer->registers[static_cast<std::size_t>(i - from)];
  }
  return out;
}

bool isLetter(unsigned octet) { return octet >= 0x20 && octet < 0x7F; }

/// Two registers that would be a number as people measure it.
bool looksLikeFloat(std::uint16_t high, std::uint16_t low) {
  const float value = std::bit_cast<float>(static_cast<std::uint32_t>(high) << 16 | low);
  const float size = std::abs(value);
  return std::isfinite(value) && size >= 1e-3f && size < 1e5f;
}

FoundPoint found(Table table, std::uint16_t address, std::string_view type, Variant value) {
  const std::string place = fmt::format("{} {}", nameOf(table), address);
  return {fmt::format("{}{}", nameOf(table), address), type.empty() ? place : fmt::format("{} {}", place, type),
          DataValue(std::move(value), wallClock())};
}

Result<std::vector<FoundPoint>> scanDevice(const Settings& settings, const ScanWish& wish) {
  const auto line = Line::to(settings.at);
  if (auto connected = line->connect(milliseconds(settings.timeout)); !connected) return connected.error();
  std::vector<FoundPoint> out;
  std::size_t silent = 0;
  std::optional<Error> last;
  for (const Table table : {Table::InputRegister, Table::HoldingRegister, Table::DiscreteInput, Table::Coil}) {
    if (wish.progress) wish.progress(fmt::format("{} {} to {}", nameOf(table), wish.first, wish.last));
    auto there = readTable(*line, settings, table, wish);
    if (!there) {
      last = there.error();
      ++silent;
      continue;
    }
    for (auto& point : propose(table, *there)) out.push_back(std::move(point));
  }
  if (silent == 4) return *last;
  return out;
}

}  // namespace

std::vector<FoundPoint> propose(Table table, const std::map<std::uint16_t, std::uint16_t>& registers) {
  std::vector<FoundPoint> out;
  if (isBits(table)) {
    // Of bits that are all off nobody can tell whether they are anything.
    std::uint16_t last = 0;
    bool isAny = false;
    for (const auto& [address, bit] : registers)
      if (bit) last = address, isAny = true;
    for (const auto& [address, bit] : registers)
      if (isAny && address <= last) out.push_back(found(table, address, {}, Variant(bit != 0)));
    return out;
  }
  const auto at = [&](std::uint32_t address) -> std::optional<std::uint16_t> {
    const auto there = registers.find(static_cast<std::uint16_t>(address));
    return address > 0xFFFF || there == registers.end() ? std::nullopt : std::optional(there->second);
  };
  for (auto each = registers.begin(); each != registers.end();) {
    const auto [address, first] = *each;
    std::uint16_t taken = 1;
    // Four letters and more are text.
    std::string text;
    for (std::uint32_t i = address; at(i) && isLetter(*at(i) >> 8) && isLetter(*at(i) & 0xFF); ++i) {
      text += static_cast<char>(*at(i) >> 8);
      text += static_cast<char>(*at(i) & 0xFF);
    }
    const auto next = at(address + 1u);
    // Two registers that are a likely number are no word of four letters: 10.77 is "A,Rx".
    const bool isRatherFloat = text.size() == 4 && next && looksLikeFloat(first, *next);
    if (text.size() >= 4 && !isRatherFloat && text.find_first_not_of(' ') != std::string::npos) {
      taken = static_cast<std::uint16_t>(text.size() / 2);
      text.erase(text.find_last_not_of(' ') + 1);
      out.push_back(found(table, address, fmt::format("String {}", taken), Variant(String(text))));
    } else if (next && looksLikeFloat(first, *next)) {
      taken = 2;
      out.push_back(found(table, address, "Float",
                          Variant(std::bit_cast<float>(static_cast<std::uint32_t>(first) << 16 | *next))));
    } else if (first != 0) {
      const bool isNegative = first > 0xF000;
      out.push_back(found(table, address, isNegative ? "Int16" : "UInt16",
                          isNegative ? Variant(static_cast<std::int16_t>(first)) : Variant(first)));
    }
    for (; taken > 0 && each != registers.end(); --taken) ++each;
  }
  return out;
}

std::vector<std::string> waysToRead(const std::string& words) {
  const auto space = words.find(' ');
  const bool isPlace = space != std::string::npos && words.find(' ', space + 1) == std::string::npos;
  if (!isPlace || (!words.starts_with("input ") && !words.starts_with("holding "))) return {};
  std::vector<std::string> out;
  for (const char* type : {"UInt16", "Int16", "BCD"}) out.push_back(fmt::format("{} {}", words, type));
  out.push_back(words + " UInt16 low-byte-first");
  for (const char* type : {"Float", "Int32", "UInt32", "Double", "Int64"})
    for (const char* order : {"", " low-word-first", " low-byte-first", " low-word-first low-byte-first"})
      out.push_back(fmt::format("{} {}{}", words, type, order));
  out.push_back(words + " String 4");
  return out;
}

Result<std::vector<FoundPoint>> scanTcp(const DeviceText& text, const ScanWish& wish, model::Findings& findings) {
  return scanDevice(readSettings(text, false, findings), wish);
}

Result<std::vector<FoundPoint>> scanSerial(const DeviceText& text, const ScanWish& wish, model::Findings& findings) {
  const Settings settings = readSettings(text, true, findings);
  if (findings.hasErrors())
    return Error{status::BadConfigurationError, findings.list().front().message, findings.list().front().hint};
  return scanDevice(settings, wish);
}

}  // namespace zunth::device::modbus
