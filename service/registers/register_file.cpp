#include "service/registers/register_file.hpp"

#include "core/ua/text.hpp"
#include "service/device/driver_kinds.hpp"
#include "service/device/elements.hpp"
#include "service/device/path_pattern.hpp"

#include <algorithm>
#include <array>
#include <map>

#include <boost/asio/ip/network_v4.hpp>
#include <boost/asio/ip/network_v6.hpp>
#include <fmt/format.h>

namespace zunth::registers {

using namespace ua;
using device::modbus::isBits;
using device::modbus::nameOf;
using model::Entry;
using model::Findings;
using model::Text;
using space::NodeIndex;
using space::Space;

namespace {

namespace ip = boost::asio::ip;

constexpr const char* kHelp = "as in: Hatchery/Intake/DF1/pressure: input 0 Float";

/// "10.1.2.3" or "10.1.0.0/16", of either family; nothing for what is neither.
template <class Address, class Network, class MakeAddress, class MakeNetwork>
std::optional<bool> fits(const std::string& pattern, const std::string& address, MakeAddress makeAddress,
                         MakeNetwork makeNetwork, unsigned bits) {
  boost::system::error_code none, wrong;
  const std::string whole = pattern.find('/') == std::string::npos ? fmt::format("{}/{}", pattern, bits) : pattern;
  const Network network = makeNetwork(whole, wrong);
  if (wrong) return std::nullopt;
  const Address at = makeAddress(address, none);
  if (none) return false;
  if (network.prefix_length() == bits) return at == network.address();
  return network.canonical() == Network(at, network.prefix_length()).canonical();
}

std::optional<bool> isIn(const std::string& pattern, const std::string& address) {
  using boost::system::error_code;
  const auto inFour = fits<ip::address_v4, ip::network_v4>(
      pattern, address, [](const std::string& text, error_code& wrong) { return ip::make_address_v4(text, wrong); },
      [](const std::string& text, error_code& wrong) { return ip::make_network_v4(text, wrong); }, 32);
  if (inFour) return inFour;
  return fits<ip::address_v6, ip::network_v6>(
      pattern, address, [](const std::string& text, error_code& wrong) { return ip::make_address_v6(text, wrong); },
      [](const std::string& text, error_code& wrong) { return ip::make_network_v6(text, wrong); }, 128);
}

/// In which form registers hold a node's values when the file doesn't say.
BuiltInType usualType(BuiltInType node) {
  switch (node) {
    case BuiltInType::SByte: return BuiltInType::Int16;
    case BuiltInType::Byte:
    case BuiltInType::Variant: return BuiltInType::UInt16;
    default: return node;
  }
}

class Reader {
 public:
  Reader(const Space& space, RegisterFile& out, Findings& findings)
      : space_(space), out_(out), findings_(findings), finder_(space) {}

  void read(const Entry& entry) {
    if (!entry.value)
      return findings_.error(entry.key.place, fmt::format("'{}' has no register", entry.key.text), kHelp);
    const auto matches = finder_.matchesOf(entry.key, NodeClass::Variable, findings_);
    const bool areAlike = matches.size() > 1 && entry.value->text.find('{') == std::string::npos;
    for (const auto& match : matches) {
      Text words = *entry.value;
      words.text = device::filledIn(words.text, match.captures);
      readOne(match.node, entry.key, words, areAlike);
    }
  }

 private:
  void readOne(NodeIndex node, const Text& path, const Text& words, bool isOneOfSeveral) {
    if (space_.nodeClass(node) != NodeClass::Variable)
      return findings_.error(path.place, fmt::format("{} is no variable", space_.path(node)),
                             "only variables have values to show");
    Register one;
    one.node = space_.nodeId(node);
    one.path = space_.path(node);
    one.words = words.text;
    one.type = space_.builtInType(space_.traits(node).dataType);
    Behind behind;
    auto point = readPoint(node, path, words, isOneOfSeveral, one, behind);
    if (!point) return;
    one.point = std::move(*point);
    const auto& traits = space_.traits(node);
    one.point.point.isWritable = one.point.point.isWritable && (traits.accessLevel & AccessLevelType::CurrentWrite);
    if (!fitsNode(one, node, words) || !readSubstitute(one, behind) || !readGood(one, behind)) return;
    if (!claim(one, words)) return;
    out_.registers.push_back(std::move(one));
  }

  /// The words of this kind of file that stand behind those of a point.
  struct Behind {
    std::optional<Text> substitute, goodAt;
  };

  std::optional<device::modbus::ModbusPoint> readPoint(NodeIndex node, const Text& path, const Text& words,
                                                       bool isOneOfSeveral, Register& one, Behind& behind) {
    Text own = words;
    auto parts = device::wordsOf(words);
    for (std::size_t i = parts.size(); i-- > 0;) {
      std::optional<Text>* const kept = parts[i].text == "else"   ? &behind.substitute
                                        : parts[i].text == "good" ? &behind.goodAt
                                                                  : nullptr;
      if (!kept) continue;
      if (i + 1 == parts.size()) {
        findings_.error(parts[i].place, fmt::format("'{}' needs a word behind it", parts[i].text),
                        "as in: input 0 Int16 else -1 good 7");
        return std::nullopt;
      }
      *kept = parts[i + 1];
      own = words.part(0, words.text.find_last_not_of(' ', words.text.find(" " + parts[i].text + " ")) + 1);
      parts.resize(i);
    }
    if (parts.size() > 1 && parts[1].text == "next")
      replaceNext(own, parts[0].text);
    else if (isOneOfSeveral) {
      findings_.error(words.place, "each of several nodes needs registers of its own", "write 'next' for the address");
      return std::nullopt;
    }
    device::modbus::Place usual;
    const bool isPart = std::ranges::any_of(parts, [](const Text& word) { return word.text == "bit"; });
    usual.raw = isPart ? BuiltInType::UInt16 : usualType(one.type);
    usual.length = usualLength(node);
    const bool isTyped = parts.size() > 2 && std::isupper(static_cast<unsigned char>(parts[2].text.front()));
    const bool isSomewhere = usual.raw == BuiltInType::Boolean || isNumeric(usual.raw);
    if (!isTyped && !isSomewhere && parts.size() > 1 && !isTableOfBits(parts[0].text)) {
      findings_.error(
          words.place, fmt::format("{} is a {}: say how registers hold it", space_.path(node), nameOfType(one.type)),
          one.type == BuiltInType::DateTime ? "as in: holding 0 UInt32 time-in s" : "as in: holding 0 String 8");
      return std::nullopt;
    }
    const Text name{one.path, path.place};
    return device::modbus::parsePoint(name, own, one.conversion, findings_, usual);
  }

  static bool isTableOfBits(const std::string& word) { return word == "coil" || word == "discrete"; }
  static std::string_view nameOfType(BuiltInType type) { return ua::nameOf(type); }

  std::uint16_t usualLength(NodeIndex node) const {
    if (space_.traits(node).valueRank < 0) return 0;
    const auto* rare = space_.rare(node);
    const auto length = rare && !rare->arrayDimensions.empty() ? rare->arrayDimensions.front() : 0u;
    return static_cast<std::uint16_t>(std::min(length, 2'000u));
  }

  /// "input next" as the address behind those that the table has so far.
  void replaceNext(Text& words, const std::string& table) {
    for (std::size_t i = 0; i < ends_.size(); ++i)
      if (nameOf(static_cast<Table>(i)) == table)
        words.text.replace(words.text.find("next"), 4, std::to_string(ends_[i]));
  }

  bool fitsNode(const Register& one, NodeIndex node, const Text& words) {
    const auto& place = one.point.place;
    const BuiltInType given = one.conversion.typeFrom(place.raw);
    const bool areNumbers = (isNumeric(one.type) || one.type == BuiltInType::Boolean) &&
                            (isNumeric(given) || given == BuiltInType::Boolean);
    const bool isRow = space_.traits(node).valueRank >= 0;
    if ((given == one.type || areNumbers || one.type == BuiltInType::Variant || given == BuiltInType::Variant) &&
        isRow == (place.length > 0))
      return true;
    findings_.error(words.place,
                    fmt::format("{} is {} {}, the registers hold {} {}", one.path, isRow ? "an array of" : "a",
                                nameOfType(one.type), place.length > 0 ? "an array of" : "a", nameOfType(given)),
                    isRow ? "write its length: holding 0 Float[10]" : "change the type of the registers");
    return false;
  }

  bool readSubstitute(Register& one, const Behind& behind) {
    if (!behind.substitute) return true;
    const auto fail = [&](const std::string& why) {
      findings_.error(behind.substitute->place, fmt::format("'{}' can't stand in: {}", behind.substitute->text, why),
                      "write a value that the registers can hold");
      return false;
    };
    auto value = parse(behind.substitute->text, one.type == BuiltInType::Variant ? BuiltInType::Double : one.type);
    if (!value) return fail(value.error().cause);
    const auto& place = one.point.place;
    if (place.length > 0) {
      auto row = device::arrayOf(std::vector<Variant>(place.length, *value), one.type);
      if (!row) return fail(row.error().cause);
      value = std::move(*row);
    }
    auto words = wordsOf(one, DataValue(*value));
    if (!words) return fail("it doesn't fit");
    one.substitute = std::move(*words);
    return true;
  }

  bool readGood(Register& one, const Behind& behind) {
    if (!behind.goodAt) return true;
    auto address = parse(behind.goodAt->text, BuiltInType::UInt16);
    if (behind.goodAt->text == "next") {
      const auto& place = one.point.place;
      const int own = place.table == Table::DiscreteInput ? place.address + place.count : 0;
      address =
          convert(Variant(std::max(own, ends_[static_cast<std::size_t>(Table::DiscreteInput)])), BuiltInType::UInt16);
    }
    if (!address) {
      findings_.error(behind.goodAt->place, fmt::format("'{}' is no address", behind.goodAt->text),
                      "as in: good 7, the discrete input that is 1 while the value is good");
      return false;
    }
    one.goodAt = *address->get<std::uint16_t>();
    return true;
  }

  /// Each address has one meaning; a register of bits one for each bit.
  bool claim(const Register& one, const Text& words) {
    const auto& place = one.point.place;
    const int bit = one.conversion.bit;
    const auto fail = [&](Table table, int address, const std::string& other) {
      findings_.error(words.place, fmt::format("{} {} is taken by {}", nameOf(table), address, other),
                      "'next' is the first address behind the others");
      return false;
    };
    auto& taken = taken_[static_cast<std::size_t>(place.table)];
    for (int address = place.address; address < place.address + place.count; ++address) {
      auto& of = taken[address];
      if (!of.path.empty() && (bit < 0 || !of.bits || *of.bits >> bit & 1)) return fail(place.table, address, of.path);
      of.path = one.path;
      if (bit >= 0) of.bits = of.bits.value_or(0) | std::uint64_t{1} << bit;
    }
    auto& end = ends_[static_cast<std::size_t>(place.table)];
    end = std::max(end, place.address + place.count);
    if (one.goodAt) {
      auto& of = taken_[static_cast<std::size_t>(Table::DiscreteInput)][*one.goodAt];
      if (!of.path.empty()) return fail(Table::DiscreteInput, *one.goodAt, of.path);
      of.path = one.path;
      auto& behind = ends_[static_cast<std::size_t>(Table::DiscreteInput)];
      behind = std::max(behind, *one.goodAt + 1);
    }
    return true;
  }

  struct Taken {
    std::string path;                   // by whom
    std::optional<std::uint64_t> bits;  // which of its bits, where it is not the whole
  };

  const Space& space_;
  RegisterFile& out_;
  Findings& findings_;
  device::PathFinder finder_;
  std::array<std::map<int, Taken>, 4> taken_;
  std::array<int, 4> ends_{};
};

}  // namespace

std::string RegisterFile::address() const { return fmt::format("{}:{}", host, port); }

bool isAmong(const std::string& address, const std::vector<std::string>& clients) {
  return std::ranges::any_of(clients, [&](const std::string& one) { return isIn(one, address).value_or(false); });
}

RegisterFile readRegisterFile(const std::string& name, const std::string& file, const std::string& text,
                              const Space& space, Findings& findings) {
  RegisterFile out;
  out.name = name;
  out.role.place = {file, 1, 1, 1};
  const Entry root = model::readYaml(file, text, findings);
  checkKeys(root, {"about", "serve", "host", "port", "unit", "as", "clients", "registers"}, findings);
  const Text* kind = root.textOf("serve");
  if (!kind || kind->text != "modbus-tcp")
    findings.error(kind ? kind->place : root.key.place,
                   kind ? fmt::format("nothing is served as '{}'", kind->text) : "the file doesn't say what it serves",
                   "write: serve: modbus-tcp");
  if (const Text* host = root.textOf("host")) out.host = host->text;
  out.port = static_cast<std::uint16_t>(device::numberOf(root, "port", out.port, 0, 65'535, findings));
  out.unit = static_cast<std::uint8_t>(device::numberOf(root, "unit", out.unit, 1, 247, findings));
  if (const Text* role = root.textOf("as")) out.role = *role;
  for (const Text& client : root.textsOf("clients")) {
    if (!isIn(client.text, "127.0.0.1"))
      findings.error(client.place, fmt::format("'{}' is neither an address nor a network", client.text),
                     "as in: 10.1.2.3, or 10.1.0.0/16");
    out.clients.push_back(client.text);
  }
  Reader reader(space, out, findings);
  if (const Entry* list = root.find("registers"))
    for (const Entry& entry : list->entries) reader.read(entry);
  if (out.registers.empty() && !findings.hasErrors())
    findings.error(root.key.place, "no node has a register", std::string("write them under 'registers:', ") + kHelp);
  return out;
}

}  // namespace zunth::registers
