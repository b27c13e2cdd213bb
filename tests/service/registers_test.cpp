#include "core/model/build.hpp"
#include "core/space/namespace0.hpp"
#include "core/ua/text.hpp"
#include "service/device/wire_log.hpp"
#include "service/registers/register_file.hpp"

#include <cmath>

#include "tests/hex.hpp"
#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>
#include <modbus.h>
#include <sys/socket.h>

namespace zunth::registers_test {

using namespace zunth::ua;
using namespace zunth::registers;
using namespace zunth::test;
using ua::Json;

namespace {

Bytes octets(const std::string& text) {
  std::string packed = text;
  std::erase(packed, ' ');
  return unhex(packed);
}

/// A space with a small model, and what a file of registers makes of it.
struct Bench {
  Bench() : space("urn:fernhollow.example:test") {
    space::loadNamespace0(space);
    model::Findings findings;
    const std::string text = R"(namespace: http://fernhollow.example/test
objects:
  Tank:
    level: Float m 0..5
    goal: Float m 0..5 writable
    count: UInt32
    small: Byte writable
    full: Boolean
    name: String writable
    far: Double writable
    mode: Mode = Auto writable
    row: Int16[3] = [1, -2, 3] writable
    pumpA: Boolean writable
    pumpB: Boolean writable
    cleaned: DateTime
  Hall:
    Tank1: {oxygen: Float}
    Tank2: {oxygen: Float}
types:
  Mode: enum Off | Auto
)";
    model::build(space, {{"model.yaml", text}}, findings);
    REQUIRE_FALSE(findings.hasErrors());
  }
  RegisterFile read(const std::string& lines) {
    findings = {};
    return readRegisterFile("plc", "registers/plc.yaml", "serve: modbus-tcp\nregisters:\n" + lines, space, findings);
  }
  std::string firstFinding() const { return findings.list().empty() ? std::string() : findings.list()[0].message; }

  space::Space space;
  model::Findings findings;
};

}  // namespace

TEST_CASE("requests and answers are those that the protocol's text prints", "[registers]") {
  // Modbus application protocol 1.1b3, chapter 6: the example of each function.
  struct Case {
    const char *asked, *answered;
    std::vector<std::uint16_t> words;
  };
  const auto bits = [](const std::string& text) {
    std::vector<std::uint16_t> out;
    for (const char c : text) out.push_back(c == '1');
    return out;
  };
  for (const auto& c : {
           Case{"01 00 13 00 13", "01 03 CD 6B 05", bits("1011001111010110101")},
           Case{"02 00 C4 00 16", "02 03 AC DB 35", bits("0011010111011011101011")},
           Case{"03 00 6B 00 03", "03 06 02 2B 00 00 00 64", {0x022B, 0, 0x64}},
           Case{"04 00 08 00 01", "04 02 00 0A", {10}},
           Case{"05 00 AC FF 00", "05 00 AC FF 00", {1}},
           Case{"06 00 01 00 03", "06 00 01 00 03", {3}},
           Case{"0F 00 13 00 0A 02 CD 01", "0F 00 13 00 0A", bits("1011001110")},
           Case{"10 00 01 00 02 04 00 0A 01 02", "10 00 01 00 02", {10, 0x0102}},
           Case{"16 00 04 00 F2 00 25", "16 00 04 00 F2 00 25", {}},
       }) {
    INFO(c.asked);
    const auto request = parseRequest(octets(c.asked));
    REQUIRE(request);
    const bool reads = request->kind == Request::Kind::Read;
    CHECK(device::hexOf(reads ? answerRead(*request, c.words) : answerWritten(*request)) == c.answered);
    if (reads)
      CHECK(request->read.count == c.words.size());
    else
      CHECK(request->words == c.words);
  }
  const auto both = parseRequest(octets("17 00 03 00 06 00 0E 00 03 06 00 FF 00 FF 00 FF"));
  REQUIRE(both);
  CHECK(both->written.first == 14);
  CHECK(both->words == std::vector<std::uint16_t>{255, 255, 255});
  const std::vector<std::uint16_t> six{0x00FE, 0x0ACD, 1, 3, 13, 255};
  CHECK(device::hexOf(answerRead(*both, six)) == "17 0C 00 FE 0A CD 00 01 00 03 00 0D 00 FF");
  const auto who = parseRequest(octets("2B 0E 01 00"));
  REQUIRE(who);
  const std::vector<std::string> texts{"Company identification", "Product code XX", "V2.11"};
  CHECK(device::hexOf(answerIdentity(*who, texts)).starts_with("2B 0E 01 81 00 00 03 00 16 43 6F 6D"));
  CHECK(device::hexOf(answerException(1, Exception::IllegalDataAddress)) == "81 02");
}

TEST_CASE("what is no sound request is refused with the exception that fits", "[registers]") {
  for (const auto& [asked, exception] : std::initializer_list<std::pair<const char*, Exception>>{
           {"", Exception::IllegalFunction},
           {"07", Exception::IllegalFunction},
           {"2B 0D 01 00", Exception::IllegalFunction},
           {"2B 0E 03 00", Exception::IllegalDataValue},
           {"03 00 00", Exception::IllegalDataValue},
           {"03 00 00 00 00", Exception::IllegalDataValue},
           {"03 00 00 00 7E", Exception::IllegalDataValue},
           {"01 00 00 07 D1", Exception::IllegalDataValue},
           {"03 00 00 00 01 00", Exception::IllegalDataValue},
           {"03 FF FF 00 02", Exception::IllegalDataAddress},
           {"05 00 00 12 34", Exception::IllegalDataValue},
           {"0F 00 00 00 09 01 FF", Exception::IllegalDataValue},
           {"10 00 00 00 02 04 00 01", Exception::IllegalDataValue},
           {"10 00 00 00 02 03 00 01 00", Exception::IllegalDataValue},
           {"10 00 00 00 7C F8", Exception::IllegalDataValue},
           {"17 00 00 00 01 00 00 00 7A F4", Exception::IllegalDataValue}}) {
    INFO(asked);
    const auto request = parseRequest(octets(asked));
    REQUIRE_FALSE(request);
    CHECK(request.exception() == exception);
  }
}

TEST_CASE("a file of registers says what is wrong, and where", "[registers]") {
  Bench bench;
  for (const auto& [lines, said] : std::initializer_list<std::pair<const char*, const char*>>{
           {"  Tank/levle: input 0", "the model has no 'levle' at Tank/levle"},
           {"  Tank: input 0", "Tank is no variable"},
           {"  Tank/level:", "'Tank/level' has no register"},
           {"  Tank/level: inputs 0", "there is no table 'inputs'"},
           {"  Tank/level: input 70000", "'70000' is no address"},
           {"  Tank/name: holding 0", "Tank/name is a String: say how registers hold it"},
           {"  Tank/cleaned: holding 0", "Tank/cleaned is a DateTime: say how registers hold it"},
           {"  Tank/name: holding 0 Float", "Tank/name is a String, the registers hold a Float"},
           {"  Tank/row: holding 0 Int16[4]\n  Tank/level: input 0 Int16[2]",
            "Tank/level is a Float, the registers hold an array of Int16"},
           {"  Tank/level: input 0\n  Tank/count: input 1", "input 1 is taken by Tank/level"},
           {"  Tank/pumpA: holding 0 bit 3\n  Tank/pumpB: holding 0 bit 3", "holding 0 is taken by Tank/pumpA"},
           {"  Tank/pumpA: holding 0 bit 3\n  Tank/small: holding 0", "holding 0 is taken by Tank/pumpA"},
           {"  Tank/full: discrete 7\n  Tank/level: input 0 good 7", "discrete 7 is taken by Tank/full"},
           {"  Tank/level: input 0 else", "'else' needs a word behind it"},
           {"  Tank/level: input 0 else many", "'many' can't stand in"},
           {"  Tank/small: input 0 else 300", "'300' can't stand in"},
           {"  Tank/level: input 0 good one", "'one' is no address"},
           {"  Hall/{t}/oxygen: input 0", "each of several nodes needs registers of its own"},
           {"", "no node has a register"}}) {
    INFO(lines);
    bench.read(lines);
    CHECK(bench.firstFinding().starts_with(said));
  }
  model::Findings findings;
  readRegisterFile("plc", "registers/plc.yaml",
                   "serve: bacnet\nport: 70000\nunit: 0\nclients: [10.1.2.3, everybody]\nregistres: {}\n", bench.space,
                   findings);
  std::string all;
  for (const auto& finding : findings.list()) all += finding.message + "\n";
  for (const char* said : {"nothing is served as 'bacnet'", "'everybody' is neither an address nor a network", "port",
                           "unit", "registres"})
    CHECK(all.find(said) != std::string::npos);
}

TEST_CASE("registers hold what their nodes do, in the form that the file says", "[registers]") {
  Bench bench;
  const auto file = bench.read(R"(  Tank/level: input 0 good 7
  Tank/count: input next low-word-first else 0
  Tank/small: holding 10 else 255
  Tank/full: discrete 0
  Tank/goal: holding 20 Int16 scale 0.1
  Tank/name: holding 30 String 3
  Tank/row: holding 40
  Tank/pumpA: holding 50 bit 0
  Tank/pumpB: holding 50 bit 9
  Tank/mode: holding 51
  Tank/cleaned: input 10 UInt32 time-in s
  Hall/{t}/oxygen: input next
)");
  INFO(bench.firstFinding());
  REQUIRE(bench.findings.list().empty());
  REQUIRE(file.registers.size() == 13);
  const RegisterMap map(file.registers);
  const auto shown = [&](const std::string& path, const DataValue& value) {
    for (const auto& one : file.registers)
      if (one.path == path) {
        const auto words = wordsOf(one, value);
        std::string out;
        if (!words) return std::string("nothing");
        for (const auto word : *words) {
          char text[8];
          std::snprintf(text, sizeof text, "%04X ", word);
          out += text;
        }
        return out.substr(0, out.size() - 1);
      }
    return std::string("no such node");
  };
  const DataValue bad(status::BadNoCommunication);
  CHECK(shown("Tank/level", DataValue(Variant(1.5f))) == "3FC0 0000");
  CHECK(shown("Tank/level", bad) == "7FC0 0000");  // no number
  CHECK(shown("Tank/count", DataValue(Variant(0x12345678u))) == "5678 1234");
  CHECK(shown("Tank/count", bad) == "0000 0000");
  CHECK(shown("Tank/small", bad) == "00FF");
  CHECK(shown("Tank/full", DataValue(Variant(true))) == "0001");
  CHECK(shown("Tank/full", bad) == "nothing");
  CHECK(shown("Tank/goal", DataValue(Variant(2.3f))) == "0017");
  CHECK(shown("Tank/goal", DataValue(Variant(99'999.0f))) == "nothing");  // no room for it
  CHECK(shown("Tank/name", DataValue(Variant(String("trout")))) == "7472 6F75 7400");
  CHECK(shown("Tank/row", DataValue(*parse("[1, -2, 3]", BuiltInType::Int16, true))) == "0001 FFFE 0003");
  CHECK(shown("Tank/pumpB", DataValue(Variant(true))) == "0200");
  CHECK(shown("Tank/mode", DataValue(Variant(std::int32_t{1}))) == "0000 0001");
  CHECK(shown("Tank/cleaned", DataValue(Variant(DateTime{116'444'736'000'000'000 + 10'000'000LL * 0x01020304}))) ==
        "0102 0304");
  CHECK(file.registers[11].point.place.address == 12);
  CHECK(file.registers[12].point.place.address == 14);

  // Two bits of one register, with a gap before them and a value that is uncertain.
  const auto touched = map.touched(Table::HoldingRegister, 49, 2);
  REQUIRE(touched);
  REQUIRE(touched->size() == 2);
  const std::vector<DataValue> on{DataValue(Variant(true)),
                                  DataValue(Variant(true), DateTime{}, status::UncertainLastUsableValue)};
  CHECK(*map.image(Table::HoldingRegister, 49, 2, *touched, on) == std::vector<std::uint16_t>{0, 0x0201});
  // Half of a number may be read.
  const auto half = map.touched(Table::InputRegister, 1, 1);
  const std::vector<DataValue> level{DataValue(Variant(1.1f))};
  CHECK(*map.image(Table::InputRegister, 1, 1, *half, level) == std::vector<std::uint16_t>{0xCCCD});
  const auto good = map.touched(Table::DiscreteInput, 7, 1);
  CHECK(map.image(Table::DiscreteInput, 7, 1, *good, level)->front() == 1);
  CHECK(map.image(Table::DiscreteInput, 7, 1, *good, std::vector<DataValue>{bad})->front() == 0);
  CHECK(map.touched(Table::Coil, 0, 1).exception() == Exception::IllegalDataAddress);
  CHECK(map.touched(Table::InputRegister, 15, 2).exception() == Exception::IllegalDataAddress);

  // What a write makes of the nodes.
  const auto written = [&](std::uint16_t first, std::vector<std::uint16_t> words, std::uint16_t mask = 0xFFFF) {
    const auto writes = map.writes(Table::HoldingRegister, first, words, mask);
    if (!writes) return "exception " + std::to_string(static_cast<int>(writes.exception()));
    std::string out;
    for (const auto& one : *writes) out += map.registers()[one.number].path.substr(5) + "=" + format(one.value) + " ";
    return out;
  };
  CHECK(written(10, {7}) == "small=7 ");
  CHECK(written(10, {256}) == "exception 3");
  CHECK(written(20, {0x17}) == "goal=2.3 ");
  CHECK(written(30, {0x7472, 0x6F75, 0x7400}) == "name=trout ");
  CHECK(written(30, {0x7472}) == "exception 3");
  CHECK(written(40, {1, 0xFFFE, 3}) == "row=[1, -2, 3] ");
  CHECK(written(50, {0x0200, 0, 1}) == "pumpA=false pumpB=true mode=1 ");
  CHECK(written(50, {0x0001}, 0x0001) == "pumpA=true ");
  CHECK(written(49, {0, 1}) == "exception 2");  // nobody takes the first
  CHECK(map.writes(Table::InputRegister, 0, std::vector<std::uint16_t>{0, 0}).exception() ==
        Exception::IllegalDataAddress);
}

TEST_CASE("addresses are looked for among those that may connect", "[registers]") {
  for (const auto& [address, list, may] :
       std::initializer_list<std::tuple<const char*, const char*, bool>>{{"10.1.2.3", "10.1.2.3", true},
                                                                         {"10.1.2.4", "10.1.2.3", false},
                                                                         {"10.1.2.4", "10.1.0.0/16", true},
                                                                         {"10.2.2.4", "10.1.0.0/16", false},
                                                                         {"10.2.2.4", "0.0.0.0/0", true},
                                                                         {"::1", "::1", true},
                                                                         {"fd00::5", "fd00::/8", true},
                                                                         {"10.1.2.3", "fd00::/8", false},
                                                                         {"", "10.1.2.3", false}})
    CHECK(isAmong(address, {list}) == may);
}

namespace {

/// A Modbus client made of somebody else's library.
struct Plc {
  explicit Plc(const std::string& port, int unit = 1) : context(modbus_new_tcp("127.0.0.1", std::stoi(port))) {
    modbus_set_slave(context, unit);
    modbus_set_response_timeout(context, 10, 0);
    isConnected = modbus_connect(context) == 0;
  }
  ~Plc() {
    modbus_close(context);
    modbus_free(context);
  }
  Plc(const Plc&) = delete;
  Plc& operator=(const Plc&) = delete;

  float inputFloat(int address) const {
    std::uint16_t words[2];
    if (modbus_read_input_registers(context, address, 2, words) != 2) return -1;
    return modbus_get_float_abcd(words);
  }
  bool writeFloat(int address, float value) const {
    const auto bits = std::bit_cast<std::uint32_t>(value);
    const std::uint16_t words[2] = {static_cast<std::uint16_t>(bits >> 16), static_cast<std::uint16_t>(bits)};
    return modbus_write_registers(context, address, 2, words) == 2;
  }
  /// The exception of what went wrong last; 0 when it was none.
  static int exception() { return errno > MODBUS_ENOBASE ? errno - MODBUS_ENOBASE : 0; }

  modbus_t* context;
  bool isConnected = false;
};

struct ServingPlant : Plant {
  static constexpr const char* kFile = "site/registers/plc.yaml";
  ServingPlant() {
    REQUIRE(watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
    serve("as: Operator\n");
  }
  /// Applies a file with these lines at its top, and finds the port.
  void serve(const std::string& top, const std::string& more = {}) {
    folder.write(kFile, "serve: modbus-tcp\nport: 0\n" + top + R"(registers:
  DF1/pressure: input 0 good 0
  DF1/speedGoal: holding 0
  DF1/list: holding next
  DF1/serial: input next String 8
)" + more);
    const auto applied = zunthAlone("apply --site site");
    INFO(applied.out << applied.error);
    REQUIRE(applied.code == 0);
    const auto own = interfaceNamed("registers/plc");
    const std::string at = own["at"];
    port = at.substr(at.rfind(':') + 1);
  }
  Json interfaceNamed(const std::string& name) const {
    for (const auto& one : Json::parse(zunthAlone("interfaces --site site --output json").out))
      if (one["name"] == name) return one;
    return {};
  }
  std::string port;
};

}  // namespace

TEST_CASE("a controller reads and writes nodes as registers", "[registers][plant]") {
  const ServingPlant plant;
  const Plc plc(plant.port);
  REQUIRE(plc.isConnected);
  CHECK(plc.inputFloat(0) > 0);
  std::uint8_t good = 0;
  CHECK(modbus_read_input_bits(plc.context, 0, 1, &good) == 1);
  CHECK(good == 1);

  // What it writes reaches the device behind the node, and an OPC UA client sees it.
  CHECK(plc.writeFloat(0, 37.5f));
  CHECK(plant.watchUntil("DF1/speedGoal", [](const Json& j) { return j["value"] == 37.5; }));
  const std::uint16_t list[8] = {0, 9, 0, 8, 0, 7, 0xFFFF, 0xFFFF};
  CHECK(modbus_write_registers(plc.context, 2, 8, list) == 8);
  CHECK(Json::parse(plant.zunth("read DF1/list --output json").out)[0]["value"] == Json({9, 8, 7, -1}));
  std::uint16_t back[8];
  CHECK(modbus_read_registers(plc.context, 2, 8, back) == 8);
  CHECK(std::equal(list, list + 8, back));

  // Its sessions and what it wrote are on record, as everybody's.
  const auto clients = Json::parse(plant.zunthAlone("clients --site site --output json").out);
  CHECK(std::ranges::any_of(clients, [](const Json& one) { return one["client"] == "registers/plc"; }));
  CHECK(plant.interfaceNamed("registers/plc")["clients"] == 1);

  CHECK(plant.zunthAlone("explain DF1/pressure --site site").out.find("shown by registers/plc") != std::string::npos);

  // Half of a number, a register that is only read, one that isn't there, another unit.
  CHECK(modbus_write_register(plc.context, 0, 1) == -1);
  CHECK(Plc::exception() == 3);
  CHECK(modbus_read_registers(plc.context, 500, 1, back) == -1);
  CHECK(Plc::exception() == 2);
  const Plc stranger(plant.port, 9);
  CHECK(modbus_read_input_registers(stranger.context, 0, 2, back) == -1);
  CHECK(Plc::exception() == 11);
}

TEST_CASE("a dead device shows in its registers, too", "[registers][plant]") {
  ServingPlant plant;
  const Plc plc(plant.port);
  REQUIRE(plc.inputFloat(0) > 0);
  plant.simulator->stop(SIGTERM);
  REQUIRE(plant.watchUntil("DF1/pressure", [](const Json& j) { return j["status"] != "Good"; }));
  CHECK(std::isnan(plc.inputFloat(0)));
  std::uint8_t good = 1;
  CHECK(modbus_read_input_bits(plc.context, 0, 1, &good) == 1);
  CHECK(good == 0);
  CHECK_FALSE(plc.writeFloat(0, 12));
  const int exception = Plc::exception();
  CHECK((exception == 11 || exception == 4));
}

TEST_CASE("registers may do what their role may, and change while a controller stays", "[registers][plant]") {
  ServingPlant plant;
  const Plc plc(plant.port);
  REQUIRE(plc.writeFloat(0, 20));
  std::uint16_t words[2];
  CHECK(modbus_read_input_registers(plc.context, 100, 2, words) == -1);
  const std::string port = plant.port;
  // The same connection, another role and one register more.
  plant.serve("as: Observer\n", "  DF1/speed: input 100\n");
  CHECK(plant.port == port);
  CHECK(modbus_read_input_registers(plc.context, 100, 2, words) == 2);
  CHECK_FALSE(plc.writeFloat(0, 21));
  CHECK(Plc::exception() == 2);
  // Who is not among the clients is not heard.
  plant.serve("clients: [10.0.0.0/8]\nunit: 2\n");
  const Plc other(plant.port, 2);
  CHECK(modbus_read_input_registers(other.context, 0, 2, words) == -1);
  CHECK(Plc::exception() == 0);
}

TEST_CASE("each way in is inhibited and admitted by itself", "[registers][plant]") {
  const ServingPlant plant;
  const Plc plc(plant.port);
  REQUIRE(plc.inputFloat(0) > 0);
  CHECK(plc.inputFloat(900) == -1);
  const auto served = plant.interfaceNamed("registers/plc");
  CHECK(served["requests"] > 1);
  CHECK(served["refused"] == 1);
  CHECK(plant.interfaceNamed("opc.tcp://127.0.0.1:0")["requests"].is_null());
  Process watch({program("zunth"), "watch", "DF1/pressure", "--output", "json", "--at", plant.url});
  REQUIRE(!watch.line().empty());

  CHECK(plant.zunthAlone("interfaces --inhibit registers/plcs --site site").error.find("did you mean registers/plc?") !=
        std::string::npos);
  REQUIRE(plant.zunthAlone("interfaces --inhibit registers/plc --site site").code == 0);
  CHECK(plant.interfaceNamed("registers/plc")["state"] == "inhibited");
  CHECK(plant.zunthAlone("interfaces --inhibit registers/plc --site site").code != 0);
  CHECK(plc.inputFloat(0) == -1);
  CHECK_FALSE(Plc(plant.port).isConnected);
  CHECK(!watch.line().empty());  // nobody else notices
  // An apply doesn't open it.
  REQUIRE(plant.zunthAlone("apply --site site").code == 0);
  CHECK(plant.interfaceNamed("registers/plc")["state"] == "inhibited");
  REQUIRE(plant.zunthAlone("interfaces --admit registers/plc --site site").code == 0);
  const std::string at = plant.interfaceNamed("registers/plc")["at"];
  CHECK(Plc(at.substr(at.rfind(':') + 1)).inputFloat(0) > 0);

  // The same for the endpoint of OPC UA: who came by it is turned out.
  REQUIRE(plant.zunthAlone("interfaces --inhibit " + plant.url + " --site site").code == 0);
  CHECK(plant.zunth("read DF1/pressure --timeout 2").code == 3);
  const std::string name = Json::parse(plant.zunthAlone("interfaces --site site --output json").out)[0]["name"];
  for (const auto& one : Json::parse(plant.zunthAlone("clients --site site --output json").out))
    CHECK(one["client"] != "zunth");
  REQUIRE(plant.zunthAlone("interfaces --admit " + name + " --site site").code == 0);
  const std::string url = Json::parse(plant.zunthAlone("interfaces --site site --output json").out)[0]["at"];
  CHECK(plant.zunthAlone("read DF1/pressure --at " + url).code == 0);
  const auto audit = plant.zunthAlone("audit --site site --output json").out;
  CHECK(audit.find("interface inhibited") != std::string::npos);
  CHECK(audit.find("interface admitted") != std::string::npos);
}

TEST_CASE("no Modbus client keeps others out", "[registers][plant][attack]") {
  const ServingPlant plant;
  // Those who come and say nothing give way, the longest silent first; who asks stays.
  std::vector<std::unique_ptr<Plc>> crowd;
  for (int i = 0; i < 40; ++i) {
    crowd.push_back(std::make_unique<Plc>(plant.port));
    CHECK(crowd.front()->inputFloat(0) > 0);
  }
  CHECK(crowd.back()->inputFloat(0) > 0);
  CHECK(plant.interfaceNamed("registers/plc")["clients"] == 32);
  // What is no Modbus ends its own connection and no other.
  for (const char* noise : {"GET / HTTP/1.1\r\n\r\n", "\x16\x03\x01\x02", "zzzzzzzzzzzz"}) {
    Plc noisy(plant.port);
    const int fd = modbus_get_socket(noisy.context);
    REQUIRE(::send(fd, noise, std::strlen(noise), MSG_NOSIGNAL) > 0);
    if (std::strlen(noise) >= 7) {
      char end;
      CHECK(::recv(fd, &end, 1, 0) <= 0);
    }
  }
  CHECK(crowd.front()->inputFloat(0) > 0);
}

}  // namespace zunth::registers_test
