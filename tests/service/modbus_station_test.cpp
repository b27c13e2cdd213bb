// What a Modbus station does with units that refuse, are busy, are silent, or answer in another's name.
#include "service/device/modbus_station.hpp"

#include "service/device/scan.hpp"
#include "service/device/serial_port.hpp"

#include <atomic>
#include <cstdlib>
#include <thread>

#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/read.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace zunth::modbus_station_test {

using namespace zunth::ua;
using namespace zunth::device::modbus;
using device::PointIndex;
namespace asio = boost::asio;

namespace {

using Octets = std::vector<std::uint8_t>;

/// A gateway on loopback, with units behind it that answer as the test says: function code and data, and the unit in
/// whose name; nothing for silence.
class Gateway {
 public:
  struct Said {
    std::uint8_t unit;
    Octets answer;
  };
  using Units = std::function<std::optional<Said>(std::uint8_t unit, const Octets& request)>;

  explicit Gateway(Units units) : units_(std::move(units)), acceptor_(loop_, {asio::ip::address_v4::loopback(), 0}) {
    accept();
    thread_ = std::thread([this] { loop_.run(); });
  }
  ~Gateway() {
    loop_.stop();
    thread_.join();
  }
  Settings settings(std::uint8_t unit) const {
    Settings out;
    out.at.port = acceptor_.local_endpoint().port();
    out.unit = unit;
    out.timeout = 300;
    return out;
  }
  std::atomic<int> connections{0}, requests{0};

 private:
  using Socket = asio::ip::tcp::socket;
  void accept() {
    acceptor_.async_accept([this](const auto& error, Socket socket) {
      if (error) return;
      ++connections;
      serve(std::make_shared<Socket>(std::move(socket)), std::make_shared<Octets>(7));
      accept();
    });
  }
  void serve(std::shared_ptr<Socket> socket, std::shared_ptr<Octets> header) {
    asio::async_read(*socket, asio::buffer(*header), [this, socket, header](const auto& error, std::size_t) {
      if (error) return;
      const auto request = std::make_shared<Octets>(static_cast<std::size_t>((*header)[4] << 8 | (*header)[5]) - 1);
      asio::async_read(
          *socket, asio::buffer(*request), [this, socket, header, request](const auto& broken, std::size_t) {
            if (broken) return;
            ++requests;
            if (const auto said = units_((*header)[6], *request)) {
              Octets answer{(*header)[0], (*header)[1], 0, 0, 0, static_cast<std::uint8_t>(said->answer.size() + 1),
                            said->unit};
              answer.insert(answer.end(), said->answer.begin(), said->answer.end());
              asio::write(*socket, asio::buffer(answer));
            }
            serve(socket, header);
          });
    });
  }

  Units units_;
  asio::io_context loop_;
  asio::ip::tcp::acceptor acceptor_;
  std::thread thread_;
};

std::uint16_t word(const Octets& octets, std::size_t at) {
  return static_cast<std::uint16_t>(octets[at] << 8 | octets[at + 1]);
}

/// As many registers as are asked for, each with its own address as value.
Octets addresses(const Octets& request) {
  Octets out{request[0], static_cast<std::uint8_t>(word(request, 3) * 2)};
  for (unsigned i = 0; i < word(request, 3); ++i) {
    out.push_back(static_cast<std::uint8_t>((word(request, 1) + i) >> 8));
    out.push_back(static_cast<std::uint8_t>(word(request, 1) + i));
  }
  return out;
}
Octets refusal(const Octets& request, std::uint8_t exception) {
  return {static_cast<std::uint8_t>(request[0] | 0x80), exception};
}

std::vector<ModbusPoint> holdings(std::uint16_t count, const char* words = "holding {}") {
  std::vector<ModbusPoint> out;
  for (std::uint16_t i = 0; i < count; ++i) {
    model::Findings findings;
    std::string text = words;
    text.replace(text.find("{}"), 2, std::to_string(i));
    device::Conversion conversion;
    out.push_back(*parsePoint({"p" + std::to_string(i), {}}, {text, {"d.yaml", 1, 1, 1}}, conversion, findings));
  }
  return out;
}
std::vector<PointIndex> all(std::size_t count) {
  std::vector<PointIndex> out(count);
  for (std::size_t i = 0; i < count; ++i) out[i] = i;
  return out;
}

}  // namespace

TEST_CASE("who is busy once is asked in the same way again", "[modbus]") {
  std::atomic<bool> isBusy{false};
  Gateway gateway([&](std::uint8_t unit, const Octets& request) {
    return Gateway::Said{unit, isBusy ? refusal(request, 6) : addresses(request)};
  });
  ModbusStation driver(gateway.settings(1), holdings(40));
  REQUIRE(driver.connect());
  isBusy = true;
  auto values = driver.read(all(40));
  REQUIRE(values);
  CHECK((*values)[39].status == status::BadResourceUnavailable);
  isBusy = false;
  const int before = gateway.requests;
  values = driver.read(all(40));
  REQUIRE(values);
  CHECK((*values)[39].value == Variant(std::uint16_t{39}));
  CHECK(gateway.requests == before + 1);
}

TEST_CASE("each exception of a unit has its status, and passes with it", "[modbus]") {
  struct Row {
    std::uint8_t exception;
    StatusCode status;
  };
  for (const Row& row :
       {Row{1, status::BadNotSupported}, Row{2, status::BadConfigurationError}, Row{3, status::BadOutOfRange},
        Row{4, status::BadDeviceFailure}, Row{5, status::BadResourceUnavailable},
        Row{6, status::BadResourceUnavailable}, Row{8, status::BadDeviceFailure}, Row{10, status::BadNoCommunication},
        Row{11, status::BadNoCommunication}, Row{99, status::BadDeviceFailure}}) {
    INFO(int(row.exception));
    std::atomic<bool> refuses{false};
    Gateway gateway([&](std::uint8_t unit, const Octets& request) {
      if (refuses && unit == 1) return Gateway::Said{unit, refusal(request, row.exception)};
      if (request[0] < 5) return Gateway::Said{unit, addresses(request)};
      return Gateway::Said{unit, {request.begin(), request.begin() + 5}};
    });
    ModbusStation unit(gateway.settings(1), holdings(1)), neighbour(gateway.settings(2), holdings(1));
    REQUIRE(unit.connect());
    REQUIRE(neighbour.connect());
    refuses = true;
    auto values = unit.read(all(1));
    REQUIRE(values);
    CHECK(values->front().status == row.status);
    const auto written = unit.write({0, Variant(std::uint16_t{5})});
    REQUIRE(written);
    CHECK(written->error.code == row.status);
    CHECK(neighbour.read(all(1))->front().status.isGood());
    refuses = false;
    values = unit.read(all(1));
    REQUIRE(values);
    CHECK(values->front().status.isGood());
  }
}

TEST_CASE("one address that a unit doesn't have is found by halves, and the others are read in runs", "[modbus]") {
  Gateway gateway([&](std::uint8_t unit, const Octets& request) {
    const unsigned first = word(request, 1), end = first + word(request, 3);
    return Gateway::Said{unit, first <= 13 && 13 < end ? refusal(request, 2) : addresses(request)};
  });
  ModbusStation driver(gateway.settings(1), holdings(64));
  REQUIRE(driver.connect());
  REQUIRE(driver.read(all(64)));
  const int before = gateway.requests;
  const auto values = driver.read(all(64));
  REQUIRE(values);
  CHECK((*values)[13].status == status::BadConfigurationError);
  for (const PointIndex point : {0u, 12u, 14u, 63u}) CHECK((*values)[point].status.isGood());
  CHECK(gateway.requests - before <= 7);  // a run for each half, and the one that is refused
}

TEST_CASE("digits that are none are no value", "[modbus]") {
  std::atomic<std::uint16_t> held{0x1234};
  Gateway gateway([&](std::uint8_t unit, const Octets& request) {
    const std::uint16_t now = held;
    return Gateway::Said{unit, {request[0], 2, static_cast<std::uint8_t>(now >> 8), static_cast<std::uint8_t>(now)}};
  });
  ModbusStation driver(gateway.settings(1), holdings(1, "holding {} BCD"));
  REQUIRE(driver.connect());
  CHECK(driver.read(all(1))->front().value == Variant(std::uint16_t{1234}));
  for (const std::uint16_t none : {0x00AF, 0xA000, 0x0F00, 0xFFFF}) {
    held = none;
    CHECK(driver.read(all(1))->front().status == status::BadOutOfRange);
  }
}

TEST_CASE("an answer in another unit's name is not believed", "[modbus]") {
  std::atomic<std::uint8_t> speaker{1};
  Gateway gateway([&](std::uint8_t, const Octets& request) { return Gateway::Said{speaker, addresses(request)}; });
  ModbusStation driver(gateway.settings(1), holdings(2));
  REQUIRE(driver.connect());
  speaker = 7;
  const auto values = driver.read(all(2));
  REQUIRE(!values);
  CHECK(values.error().cause.find("answered in the name of unit 7, and unit 1 was asked") != std::string::npos);
}

TEST_CASE("a unit that lacks one function for writing is written by the other", "[modbus]") {
  struct Row {
    const char* words;
    std::uint8_t lacking;
    Variant value;
    std::vector<std::uint8_t> functions;  // of the second write
    int bit = -1;
  };
  for (const Row& row :
       {Row{"holding {}", 6, Variant(std::uint16_t{5}), {16}}, Row{"holding {} Float", 16, Variant(1.5f), {6, 6}},
        Row{"coil {}", 5, Variant(true), {15}}, Row{"holding {}", 0, Variant(std::uint16_t{5}), {6}},
        Row{"holding {}", 0, Variant(true), {22}, 3}, Row{"holding {}", 22, Variant(true), {3, 6}, 3}}) {
    INFO(row.words << " without function " << int(row.lacking));
    std::mutex guard;
    std::vector<std::uint8_t> seen;
    Gateway gateway([&](std::uint8_t unit, const Octets& request) {
      const std::lock_guard lock(guard);
      seen.push_back(request[0]);
      if (request[0] == row.lacking) return Gateway::Said{unit, refusal(request, 1)};
      if (request[0] == 1) return Gateway::Said{unit, {1, 1, 1}};
      if (request[0] < 5) return Gateway::Said{unit, addresses(request)};
      return Gateway::Said{unit, {request.begin(), request.begin() + (request[0] == 22 ? 7 : 5)}};
    });
    ModbusStation driver(gateway.settings(1), holdings(1, row.words));
    REQUIRE(driver.connect());
    for (int i = 0; i < 2; ++i) {
      {
        const std::lock_guard lock(guard);
        seen.clear();
      }
      const auto written = driver.write({0, row.value, row.bit});
      REQUIRE(written);
      CHECK(written->error.code.isGood());
    }
    CHECK(seen == row.functions);
  }
}

TEST_CASE("units behind one gateway share a connection, and a silent one leaves the others theirs", "[modbus]") {
  Gateway gateway([&](std::uint8_t unit, const Octets& request) {
    return unit == 3 ? std::nullopt : std::optional(Gateway::Said{unit, addresses(request)});
  });
  ModbusStation one(gateway.settings(1), holdings(4)), two(gateway.settings(2), holdings(4)),
      silent(gateway.settings(3), holdings(4));
  REQUIRE(one.connect());
  REQUIRE(two.connect());
  CHECK(one.read(all(4)));
  CHECK(two.read(all(4)));
  CHECK(gateway.connections == 1);
  CHECK(silent.connect().code() == status::BadNoCommunication);  // the gateway is there, the unit is not
  CHECK(one.read(all(4)));
  CHECK(two.read(all(4)));
  CHECK(gateway.connections == 2);  // whose answer would have come next, nobody could tell
}

TEST_CASE("answers that are none to the request are refused", "[modbus]") {
  const auto request = readRequest(Table::HoldingRegister, 5, 2);
  struct Row {
    std::vector<int> answer;
    bool isFine;
  };
  for (const auto& row : std::vector<Row>{{{3, 4, 0, 1, 0, 2}, true},
                                          {{0x83, 2}, true},
                                          {{3, 4, 0, 1, 0}, false},
                                          {{3, 2, 0, 1, 0, 2}, false},
                                          {{4, 4, 0, 1, 0, 2}, false},
                                          {{3}, false},
                                          {{}, false}}) {
    Bytes answer;
    for (const int octet : row.answer) answer.push_back(static_cast<std::byte>(octet));
    CHECK(static_cast<bool>(answerTo(request, answer)) == row.isFine);
  }
  const auto write = writeOne(Table::HoldingRegister, 5, 7);
  CHECK(answerTo(write, write));
  CHECK(!answerTo(write, writeOne(Table::HoldingRegister, 5, 8)));
}

TEST_CASE("a unit that says what it is is listened to", "[modbus]") {
  const auto bytesOf = [](const Octets& octets) {
    Bytes out;
    for (const auto octet : octets) out.push_back(static_cast<std::byte>(octet));
    return out;
  };
  SECTION("as the protocol's text shows it") {  // 6.21, its example of one answer, with lengths that fit its texts
    CHECK(identifyRequest(false) == bytesOf({0x2B, 0x0E, 0x01, 0x00}));
    const auto told = identificationIn(bytesOf(
        {0x2B, 0x0E, 0x01, 0x01, 0x00, 0x00, 0x03, 0x00, 0x16, 'C', 'o', 'm',  'p',  'a',  'n',  'y', ' ', 'i',
         'd',  'e',  'n',  't',  'i',  'f',  'i',  'c',  'a',  't', 'i', 'o',  'n',  0x01, 0x0E, 'P', 'r', 'o',
         'd',  'u',  'c',  't',  ' ',  'c',  'o',  'd',  'e',  'X', 'X', 0x02, 0x05, 'V',  '2',  '.', '1', '1'}));
    REQUIRE(told);
    CHECK(told->objects == std::vector<std::pair<std::uint8_t, std::string>>{
                               {0, "Company identification"}, {1, "Product codeXX"}, {2, "V2.11"}});
    CHECK(!told->next);
  }
  SECTION("what is no such answer") {
    for (const Octets& answer : {Octets{},
                                 {0x2B},
                                 {0x2B, 0x0E, 1, 1, 0, 0},
                                 {0x2B, 0x0E, 1, 1, 0, 0, 1},
                                 {0x2B, 0x0E, 1, 1, 0, 0, 1, 0, 9, 'x'},
                                 {0x03, 0x0E, 1, 1, 0, 0, 0}})
      CHECK(identificationIn(bytesOf(answer)).code() == status::BadDecodingError);
    CHECK(identificationIn(bytesOf({0xAB, 1})).code() == status::BadNotSupported);
  }
  SECTION("in as many answers as it takes, or the basics of one that knows no more") {
    struct Row {
      const char* what;
      std::function<Octets(const Octets&)> answer;
      std::string told;
    };
    const std::vector<Row> rows{
        {"two answers",
         [](const Octets& request) {
           return request[3] == 0 ? Octets{0x2B, 0x0E, 2, 2, 0xFF, 1, 1, 0, 2, 'F', 'H'}
                                  : Octets{0x2B, 0x0E, 2, 2, 0, 0, 1, 1, 2, 'D', 'F'};
         },
         "vendor=FH product code=DF "},
        {"the basics alone",
         [](const Octets& request) {
           return request[2] == 1 ? Octets{0x2B, 0x0E, 1, 1, 0, 0, 1, 2, 1, '7'} : Octets{0xAB, 3};
         },
         "revision=7 "},
        {"one that goes in circles", [](const Octets&) { return Octets{0x2B, 0x0E, 2, 2, 0xFF, 0, 1, 0, 2, 'F', 'H'}; },
         "vendor=FH "},
        {"marks that would paint a terminal",
         [](const Octets&) { return Octets{0x2B, 0x0E, 2, 2, 0, 0, 1, 0, 2, 0x1B, 'c'}; }, "vendor=\\x1bc "},
        {"none", [](const Octets& request) { return refusal(request, 1); }, ""}};
    for (const auto& row : rows) {
      CAPTURE(row.what);
      Gateway gateway([&](std::uint8_t unit, const Octets& request) -> std::optional<Gateway::Said> {
        return Gateway::Said{unit, request[0] == 0x2B ? row.answer(request) : addresses(request)};
      });
      model::Findings findings;
      const auto file = device::readDeviceFile(
          "drum", "drum.yaml",
          fmt::format("driver: modbus-tcp\nport: {}\npoints:\n  a: holding 1\n", gateway.settings(1).at.port),
          findings);
      REQUIRE(!findings.hasErrors());
      std::string told;
      for (const auto& line : device::nameplateOf(file)) told += line.what + "=" + line.shows + " ";
      CHECK(told == row.told);
    }
  }
}

TEST_CASE("a serial line that somebody has is left to them", "[devices]") {
  const int line = ::posix_openpt(O_RDWR | O_NOCTTY);
  REQUIRE(line >= 0);
  REQUIRE(::grantpt(line) == 0);
  REQUIRE(::unlockpt(line) == 0);
  device::SerialSettings settings;
  settings.path = ::ptsname(line);
  const auto first = device::openSerial(settings);
  REQUIRE(first);
  const auto second = device::openSerial(settings);
  CHECK(second.code() == status::BadResourceUnavailable);
  CHECK(second.error().cause.find(settings.path + " is in use") == 0);
  ::close(*first);
  const auto third = device::openSerial(settings);
  REQUIRE(third);
  ::close(*third);
  ::close(line);
}

}  // namespace zunth::modbus_station_test
