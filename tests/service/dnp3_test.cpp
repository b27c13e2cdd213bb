// DNP3: octets against those of the standard, a master against an outstation that was written apart from it, and both
// against a third reader.
#include "core/ua/text.hpp"
#include "service/device/dnp3_station.hpp"
#include "service/device/polled.hpp"

#include <condition_variable>
#include <set>
#include <thread>

#include "tests/hex.hpp"
#include "tests/service/process.hpp"
#include <arpa/inet.h>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <sys/socket.h>

namespace zunth::dnp3_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::device::dnp3;

namespace {

Bytes octets(const std::string& text) {
  std::string packed = text;
  std::erase(packed, ' ');
  return test::unhex(packed);
}
std::string shown(BytesView bytes) {
  std::string out;
  for (const auto octet : bytes) {
    char digits[4];
    std::snprintf(digits, sizeof digits, "%02X ", std::to_integer<unsigned>(octet));
    out += digits;
  }
  if (!out.empty()) out.pop_back();
  return out;
}

}  // namespace

TEST_CASE("frames carry their checksums, and what is no frame is passed over", "[device][dnp3]") {
  // The check value of this checksum, as catalogues of them give it.
  CHECK(crcOf(std::as_bytes(std::span("123456789", 9))) == 0xEA82);
  dnp3::Frame frame;
  frame.destination = 10;
  frame.source = 1;
  for (int i = 0; i < 40; ++i) frame.data.push_back(static_cast<std::byte>(i));
  const Bytes whole = encode(frame);
  CHECK(whole.size() == 10 + 40 + 3 * 2);
  CHECK(shown(BytesView(whole).first(8)) == "05 64 2D C4 0A 00 01 00");

  FrameReader reader;
  reader.feed(octets("00 05 05 64"));
  reader.feed(whole);
  std::optional<dnp3::Frame> found = reader.next();
  REQUIRE(found);
  CHECK(found->data == frame.data);
  CHECK(found->destination == 10);
  CHECK(found->isFromMaster);
  // In any pieces.
  for (const auto octet : whole) {
    CHECK_FALSE(reader.next());
    reader.feed(std::span(&octet, 1));
  }
  CHECK(reader.next());
  // A damaged octet costs its frame, and no other one.
  for (std::size_t at = 0; at < whole.size(); ++at) {
    FrameReader damaged;
    Bytes bad = whole;
    bad[at] ^= std::byte{0x10};
    bad.insert(bad.end(), whole.begin(), whole.end());
    bad.insert(bad.end(), 300, std::byte{0});
    damaged.feed(bad);
    int frames = 0;
    while (const auto next = damaged.next()) {
      CHECK(next->data == frame.data);
      ++frames;
    }
    CHECK(frames == 1);
  }
}

TEST_CASE("fragments go in segments, and come together in their order alone", "[device][dnp3]") {
  Bytes fragment(600);
  for (std::size_t i = 0; i < fragment.size(); ++i) fragment[i] = static_cast<std::byte>(i);
  std::uint8_t sequence = 62;
  const auto segments = segmentsOf(fragment, sequence);
  REQUIRE(segments.size() == 3);
  CHECK(std::to_integer<int>(segments[0][0]) == (0x40 | 62));
  CHECK(std::to_integer<int>(segments[1][0]) == 63);
  CHECK(std::to_integer<int>(segments[2][0]) == 0x80);
  CHECK(sequence == 1);
  SegmentReader reader;
  CHECK_FALSE(reader.feed(segments[0]));
  CHECK_FALSE(reader.feed(segments[1]));
  CHECK(reader.feed(segments[2]) == fragment);
  CHECK_FALSE(reader.feed(segments[0]));
  CHECK_FALSE(reader.feed(segments[2]));  // one is missing
  CHECK_FALSE(reader.feed(segments[1]));
  CHECK_FALSE(reader.feed({}));
  // One without end is dropped.
  Bytes part(249);
  part[0] = std::byte{0x40};
  CHECK_FALSE(reader.feed(part));
  for (std::size_t i = 1; i < 1'000; ++i) {
    part[0] = static_cast<std::byte>(i & 0x3F);
    CHECK_FALSE(reader.feed(part));
  }
}

TEST_CASE("requests are the octets of the standard", "[device][dnp3]") {
  Command latch, pulse, number;
  latch.index = 3;
  pulse.index = 1;
  pulse.code = 1;
  pulse.onTime = 500;
  number.isBinary = false;
  number.index = 2;
  number.number = 1.5;
  number.variation = 3;
  auto whole = number;
  whole.number = -2;
  whole.variation = 2;
  struct Row {
    Bytes made;
    const char* expected;
  };
  for (const Row& row : std::vector<Row>{
           {readClasses(1, 0b1111), "C1 01 3C 02 06 3C 03 06 3C 04 06 3C 01 06"},
           {readClasses(2, 0b1110), "C2 01 3C 02 06 3C 03 06 3C 04 06"},
           {readPoints(3, Kind::Analog, 4, 5), "C3 01 1E 00 01 04 00 05 00"},
           {confirm(4, false), "C4 00"},
           {confirm(5, true), "D5 00"},
           {unsolicited(6, true, 0b1110), "C6 14 3C 02 06 3C 03 06 3C 04 06"},
           {unsolicited(7, false, 0b0010), "C7 15 3C 02 06"},
           {clearRestart(8), "C8 02 50 01 00 07 07 00"},
           {measureDelay(9), "C9 17"},
           // 2026-05-04T07:30:00Z is 1777879800000 ms after 1970, in hexadecimal 019DF1E4D8C0.
           {writeTime(10, *DateTime::parse("2026-05-04T07:30:00Z")), "CA 02 32 01 07 01 C0 D8 E4 F1 9D 01"},
           {freezeCounters(11), "CB 07 14 00 06"},
           {command(12, Function::DirectOperate, latch), "CC 05 0C 01 28 01 00 03 00 03 01 00 00 00 00 00 00 00 00 00"},
           {command(13, Function::Select, pulse), "CD 03 0C 01 28 01 00 01 00 01 01 F4 01 00 00 00 00 00 00 00"},
           {command(14, Function::Operate, number), "CE 04 29 03 28 01 00 02 00 00 00 C0 3F 00"},
           {command(15, Function::DirectOperate, whole), "CF 05 29 02 28 01 00 02 00 FE FF 00"},
       })
    CHECK(shown(row.made) == row.expected);
}

TEST_CASE("objects of all common variations are read", "[device][dnp3]") {
  struct Row {
    const char *what, *objects, *expected;  // "kind index value flags time;"
  };
  for (const Row& row : {
           Row{"packed inputs", "01 01 00 03 06 0A",
               "binary 3 false 01;binary 4 true 01;binary 5 false 01;binary 6 true 01;"},
           Row{"inputs with flags", "01 02 00 00 01 81 02", "binary 0 true 81;binary 1 false 02;"},
           Row{"an input's event", "02 01 17 01 05 81", "binary 5 true 81;"},
           Row{"one with its time", "02 02 28 01 00 05 00 81 C0 D8 E4 F1 9D 01",
               "binary 5 true 81 2026-05-04T07:30:00Z;"},
           Row{"one with a relative time", "33 01 07 01 C0 D8 E4 F1 9D 01 02 03 17 01 05 01 F4 01",
               "binary 5 false 01 2026-05-04T07:30:00.5Z;"},
           Row{"double bits, packed", "03 01 00 00 02 1B", "double-bit 0 3 01;double-bit 1 2 01;double-bit 2 1 01;"},
           Row{"double bits", "03 02 00 00 00 81", "double-bit 0 2 81;"},
           Row{"counters", "14 01 00 00 00 01 78 56 34 12", "counter 0 305419896 01;"},
           Row{"short counters", "14 06 01 0A 00 0B 00 01 00 FF FF", "counter 10 1 01;counter 11 65535 01;"},
           Row{"frozen ones with time", "15 05 00 00 00 01 05 00 00 00 C0 D8 E4 F1 9D 01",
               "frozen 0 5 01 2026-05-04T07:30:00Z;"},
           Row{"a counter's event", "16 02 17 01 07 01 05 00", "counter 7 5 01;"},
           Row{"analogues", "1E 01 00 00 00 01 FE FF FF FF", "analog 0 -2 01;"},
           Row{"short analogues", "1E 04 00 00 00 00 80", "analog 0 -32768 01;"},
           Row{"analogue floats", "1E 05 00 01 01 21 00 00 C0 3F", "analog 1 1.5 21;"},
           Row{"analogue doubles", "1E 06 00 01 01 01 00 00 00 00 00 00 F8 3F", "analog 1 1.5 01;"},
           Row{"an analogue's event", "20 07 28 01 00 02 01 01 00 00 C0 3F C0 D8 E4 F1 9D 01",
               "analog 258 1.5 01 2026-05-04T07:30:00Z;"},
           Row{"outputs", "0A 02 00 00 00 81", "binary-output 0 true 81;"},
           Row{"analogue outputs", "28 03 00 00 00 01 00 00 C0 3F", "analog-output 0 1.5 01;"},
           Row{"several headers", "01 01 00 00 00 01 1E 04 00 00 00 05 00", "binary 0 true 01;analog 0 5 01;"},
           Row{"frozen analogues", "1F 07 00 00 00 01 00 00 C0 3F 1F 03 00 01 01 01 FE FF FF FF C0 D8 E4 F1 9D 01",
               "frozen-analog 0 1.5 01;frozen-analog 1 -2 01 2026-05-04T07:30:00Z;"},
           Row{"a frozen analogue's event", "21 08 28 01 00 02 01 01 00 00 00 00 00 00 F8 3F C0 D8 E4 F1 9D 01",
               "frozen-analog 258 1.5 01 2026-05-04T07:30:00Z;"},
           Row{"texts, padded", "6E 06 00 02 03 44 46 31 00 00 00 62 72 6F 6F 6B 20",
               "octet-string 2 DF1 01;octet-string 3 brook 01;"},
           Row{"a text's event", "6F 03 17 01 07 61 FF 0A", "octet-string 7 a\\xff\\n 01;"},
           Row{"an empty text", "6E 01 00 00 00 00", "octet-string 0  01;"},
           Row{"a text without a length", "6E 00 00 00 00", "unknown 110 0"},
           Row{"a text that is cut off", "6E 05 00 00 00 61 62", "unknown 110 5"},
           Row{"what says nothing here, and what follows",
               "0D 02 17 01 03 00 C0 D8 E4 F1 9D 01 2B 07 17 01 04 00 00 00 C0 3F C0 D8 E4 F1 9D 01 "
               "65 02 00 00 00 12 34 56 78 66 01 00 00 00 07 01 02 00 00 00 81",
               "binary 0 true 81;"},
           Row{"a command's event that is cut off", "2B 08 17 01 04 00", "unknown 43 8"},
           Row{"nothing", "", ""},
           Row{"an object that isn't known", "01 01 00 00 00 01 78 01 00 00 00 01", "binary 0 true 01;unknown 120 1"},
           Row{"more objects than octets", "01 02 01 00 00 FF FF 81", "unknown 1 2"},
           Row{"four thousand million objects", "1E 05 02 00 00 00 00 FF FF FF FF", "unknown 30 5"},
           Row{"four thousand million packed ones", "01 01 09 FF FF FF FF 01", "unknown 1 1"},
           Row{"a range that goes back", "01 01 00 05 04 01", "unknown 1 1"},
           Row{"an object that is cut off", "1E 05 00 00 00 01 00", "unknown 30 5"},
           Row{"a header that is cut off", "1E 05", "unknown 30 5"},
       }) {
    INFO(row.what);
    const auto read = readFragment(octets(std::string("C0 81 00 00 ") + row.objects));
    REQUIRE(read);
    std::string found;
    for (const auto& each : read->measurements) {
      char flags[4];
      std::snprintf(flags, sizeof flags, "%02X", each.flags);
      found += std::string(nameOf(each.kind)) + " " + std::to_string(each.index) + " " + format(each.value) + " " +
               flags + (each.time ? " " + each.time->text() : "") + ";";
    }
    if (read->unknownObject)
      found +=
          "unknown " + std::to_string(read->unknownObject->first) + " " + std::to_string(read->unknownObject->second);
    CHECK(found == row.expected);
  }
  CHECK(readFragment(octets("C0 81 00")).code() == status::BadDecodingError);
  CHECK(readFragment(octets("C0 01 3C 01 06")).code() == status::BadDecodingError);
  const auto echo = readFragment(octets("C0 81 00 00 0C 01 28 01 00 03 00 03 01 00 00 00 00 00 00 00 00 07"));
  CHECK(echo->controlStatuses == std::vector<std::uint8_t>{7});
  CHECK(readFragment(octets("C0 81 00 00 34 02 07 01 F4 01"))->delay == 500);
  CHECK(readFragment(octets("F3 82 90 08"))->indications.hasRestarted());
}

TEST_CASE("flags are the quality of a value", "[device][dnp3]") {
  struct Row {
    Kind kind;
    std::uint8_t flags;
    StatusCode status;
  };
  for (const Row& row :
       {Row{Kind::Analog, 0x01, status::Good}, Row{Kind::Analog, 0x00, status::BadOutOfService},
        Row{Kind::Analog, 0x03, status::UncertainInitialValue},
        Row{Kind::Analog, 0x05, status::UncertainNoCommunicationLastUsableValue},
        Row{Kind::Analog, 0x09, status::GoodLocalOverride}, Row{Kind::Analog, 0x11, status::GoodLocalOverride},
        Row{Kind::Analog, 0x21, status::UncertainEngineeringUnitsExceeded},
        Row{Kind::Analog, 0x41, status::UncertainSensorNotAccurate},
        Row{Kind::Binary, 0x21, status::UncertainSubNormal}, Row{Kind::Binary, 0x81, status::Good},
        Row{Kind::Counter, 0x41, status::UncertainSubNormal}, Row{Kind::Counter, 0x21, status::Good}}) {
    Measurement measurement{row.kind};
    measurement.flags = row.flags;
    CHECK(statusOf(measurement) == row.status);
  }
}

namespace {

/// The simulated intake station, and a master of it.
struct Intake {
  Intake() {
    process = std::make_unique<test::Process>(
        std::vector<std::string>{test::program("zunth-sim"), "outstation", "--port", "0", "--speedup", "10"});
    const std::string line = process->line();
    settings.at.port = static_cast<std::uint16_t>(std::stoi(line.substr(line.rfind(':') + 1)));
  }
  static StationPoint point(const std::string& words) {
    model::Findings findings;
    Conversion conversion;
    return *dnp3::parsePoint({{words, {}}, {words, {"d.yaml", 1, 1, 1}}}, conversion, findings);
  }
  std::unique_ptr<test::Process> process;
  StationSettings settings;
};

/// Keeps what a driver brings, in order.
struct Keeper final : Sink {
  bool samples(std::vector<Sample> batch) override {
    const std::lock_guard lock(mutex);
    for (auto& sample : batch) came.push_back(std::move(sample));
    changed.notify_all();
    return true;
  }
  void discovered(std::vector<DevicePoint>) override {}
  void link(bool is, const Error&) override {
    const std::lock_guard lock(mutex);
    isConnected = is;
    connections += is;
    changed.notify_all();
  }
  bool isTraced(PointIndex) const override { return false; }
  template <class Condition>
  bool wait(Condition condition) {
    std::unique_lock lock(mutex);
    return changed.wait_for(lock, std::chrono::seconds(20), condition);
  }
  std::mutex mutex;
  std::condition_variable changed;
  std::vector<Sample> came;
  bool isConnected = false;
  int connections = 0;
};

}  // namespace

TEST_CASE("an outstation shows all that it has, and takes commands", "[device][dnp3]") {
  Intake intake;
  OutstationStation station(
      intake.settings,
      {Intake::point("analog 0"), Intake::point("binary-output 0"), Intake::point("analog-output 0 Float"),
       Intake::point("binary-output 1 select pulse 500 ms"), Intake::point("binary-output 1 pulse 500 ms"),
       Intake::point("double-bit 0"), Intake::point("binary-output 7"), Intake::point("analog 9")});
  REQUIRE(station.connect());
  CHECK(station.shown().size() == 9);
  const PointIndex all[] = {0, 1, 2, 3, 5, 7};
  auto values = station.read(all);
  REQUIRE(values);
  CHECK((*values)[0].status == status::Good);
  CHECK((*values)[2].value == Variant(60.0));
  CHECK((*values)[4].value == Variant(std::uint8_t{2}));
  CHECK((*values)[5].status == status::BadConfigurationError);
  CHECK(station.explain(0)->trace.front().shows.find("restarted") == std::string::npos);  // it was taken note of

  CHECK(station.write({2, Variant(42.5)})->error.code.isGood());
  CHECK(station.write({2, Variant(420.0)})->error.code == status::BadOutOfRange);
  CHECK(station.write({1, Variant(false)})->error.code.isGood());
  CHECK(station.write({3, Variant(false)})->error.code.isGood());
  CHECK(station.write({4, Variant(true)})->error.code == status::BadNotSupported);  // this one wants a select
  CHECK(station.write({6, Variant(true)})->error.code == status::BadNotSupported);
  CHECK(station.write({0, Variant(1.0)})->error.code == status::BadNotWritable);
  values = station.read(all);
  CHECK((*values)[1].value == Variant(false));
  const auto asked = station.explain(1);
  CHECK(asked->value.value == Variant(false));
  CHECK(station.explain(5)->value.value == Variant(std::uint8_t{1}));
}

TEST_CASE("events come by themselves, each once and in order, with the outstation's times", "[device][dnp3]") {
  Intake intake;
  Keeper keeper;
  Polled driver("intake",
                std::make_unique<OutstationStation>(
                    intake.settings, std::vector<StationPoint>{Intake::point("counter 0"), Intake::point("analog 1")}));
  driver.want({{0, std::chrono::seconds(30)}, {1, std::chrono::seconds(30)}});
  driver.start(keeper);
  REQUIRE(keeper.wait([&] { return keeper.came.size() > 60; }));
  const auto checkOrder = [&] {
    const std::lock_guard lock(keeper.mutex);
    std::map<PointIndex, DateTime> last;
    std::set<std::uint32_t> counts;
    for (const auto& sample : keeper.came) {
      CHECK(sample.value.sourceTimestamp >= last[sample.point]);
      last[sample.point] = sample.value.sourceTimestamp;
      if (const auto* count = sample.value.value.get<std::uint32_t>()) counts.insert(*count);
    }
    // Every cubic metre is counted.
    for (const auto count : counts) CHECK((count == *counts.begin() || counts.contains(count - 1)));
    return counts.size();
  };
  CHECK(checkOrder() > 2);
  // It goes and comes back: what happens then is in order, too.
  const int port = intake.settings.at.port;
  intake.process->stop();
  REQUIRE(keeper.wait([&] { return !keeper.isConnected; }));
  intake.process = std::make_unique<test::Process>(std::vector<std::string>{
      test::program("zunth-sim"), "outstation", "--port", std::to_string(port), "--speedup", "10"});
  REQUIRE(keeper.wait([&] { return keeper.connections == 2; }));
}

TEST_CASE("an outstation that says nothing, or nonsense, is away", "[device][dnp3]") {
  boost::asio::io_context loop;
  boost::asio::ip::tcp::acceptor acceptor(loop, {boost::asio::ip::address_v4::loopback(), 0});
  for (const std::string& says :
       {std::string(), std::string(3'000, '\x05'), std::string("\x05\x64\x05\x44\x01\x00\x0A\x00zz", 10)}) {
    std::thread peer([&] {
      boost::asio::ip::tcp::socket socket(loop);
      boost::system::error_code error;
      acceptor.accept(socket, error);
      boost::asio::write(socket, boost::asio::buffer(says), error);
      char heard[1024];
      while (!error) socket.read_some(boost::asio::buffer(heard), error);
    });
    {
      StationSettings settings;
      settings.at.port = acceptor.local_endpoint().port();
      settings.timeout = std::chrono::milliseconds(200);
      OutstationStation station(settings, {Intake::point("analog 0")});
      CHECK(station.connect().code() == status::BadTimeout);
    }
    peer.join();
  }
}

TEST_CASE("an outstation that says everything but the answer holds nobody up for long", "[device][dnp3]") {
  boost::asio::io_context loop;
  boost::asio::ip::tcp::acceptor acceptor(loop, {boost::asio::ip::address_v4::loopback(), 0});
  std::thread peer([&] {
    boost::asio::ip::tcp::socket socket(loop);
    boost::system::error_code error;
    acceptor.accept(socket, error);
    // Empty unsolicited responses without end, in its own name and in those of all others.
    for (std::uint16_t source = 0; !error; ++source) {
      dnp3::Frame frame;
      frame.isFromMaster = false;
      frame.destination = 1;
      frame.source = source % 2 ? source : 10;
      frame.data = octets("C0 D0 82 00 00");
      const Bytes said = encode(frame);
      boost::asio::write(socket, boost::asio::buffer(said.data(), said.size()), error);
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
  });
  {
    StationSettings settings;
    settings.at.port = acceptor.local_endpoint().port();
    settings.timeout = std::chrono::milliseconds(100);
    OutstationStation station(settings, {Intake::point("analog 0")});
    const auto begun = std::chrono::steady_clock::now();
    CHECK(station.connect().code() == status::BadTimeout);
    CHECK(std::chrono::steady_clock::now() - begun < settings.timeout * 20);
  }
  peer.join();
}

TEST_CASE("a third reader finds nothing wrong with what master and outstation say", "[device][dnp3]") {
  Intake intake;
  boost::asio::io_context loop;
  boost::asio::ip::tcp::socket socket(loop);
  socket.connect({boost::asio::ip::address_v4::loopback(), intake.settings.at.port});
  std::string recorded;
  const auto record = [&](char way, BytesView said) {
    recorded += std::string(1, way) + " 0000 " + shown(said) + "\n";
  };
  std::uint8_t sequence = 0;
  FrameReader reader;
  const auto exchange = [&](const Bytes& fragment) {
    for (const auto& segment : segmentsOf(fragment, sequence)) {
      dnp3::Frame frame;
      frame.destination = 10;
      frame.source = 1;
      frame.data = segment;
      const Bytes sent = encode(frame);
      boost::asio::write(socket, boost::asio::buffer(sent.data(), sent.size()));
      record('O', sent);
    }
    if (fragment.size() == 2 && fragment[1] == std::byte{0}) return;  // a confirm
    for (bool isWhole = false; !isWhole;) {
      std::byte piece[2048];
      const auto size = socket.read_some(boost::asio::buffer(piece));
      record('I', BytesView(piece, size));
      reader.feed(BytesView(piece, size));
      while (const auto frame = reader.next())
        isWhole = !frame->data.empty() && (std::to_integer<int>(frame->data[0]) & 0x80);
    }
  };
  Command output, number;
  output.index = 1;
  output.code = 1;
  output.onTime = 500;
  number.isBinary = false;
  number.variation = 3;
  number.number = 55;
  exchange(unsolicited(1, false, 0b1110));
  exchange(readClasses(2, 0b1111));
  exchange(confirm(2, false));
  exchange(clearRestart(3));
  exchange(measureDelay(4));
  exchange(writeTime(5, *DateTime::parse("2026-05-04T07:30:00Z")));
  exchange(command(6, Function::Select, output));
  exchange(command(6, Function::Operate, output));
  exchange(command(7, Function::DirectOperate, number));
  exchange(readPoints(8, Kind::Analog, 0, 1));
  exchange(freezeCounters(9));
  const test::TemporaryFolder folder;
  folder.write("said.txt", recorded);
  const auto packed = test::run("text2pcap -q -D -T 40000,20000 said.txt said.pcap", folder.path);
  INFO(packed.error);
  REQUIRE(packed.code == 0);
  const auto read = test::run("tshark -n -r said.pcap -d tcp.port==20000,dnp3 -V", folder.path);
  REQUIRE(read.code == 0);
  CHECK(read.out.find("Malformed") == std::string::npos);
  CHECK(read.out.find("incorrect") == std::string::npos);
  CHECK(read.out.find("[Bad]") == std::string::npos);
  for (const char* said :
       {"Select", "Operate", "Direct Operate", "Delay Measurement", "Class 0 Data", "Read", "Freeze"}) {
    INFO(said);
    CHECK(read.out.find(said) != std::string::npos);
  }
}

TEST_CASE("mistakes in points of outstations are named", "[device][dnp3]") {
  struct Row {
    const char *words, *mistake;
  };
  for (const Row& row :
       {Row{"analog", "a point is a kind and an index"}, Row{"anlog 1", "there is no kind of point 'anlog'"},
        Row{"analog x", "'x' is no index"}, Row{"analog 1 select", "'select' means nothing here"},
        Row{"binary-output 1 pulse soon", "'pulse' needs a time"},
        Row{"analog-output 1 Int64", "'Int64' means nothing here"}}) {
    INFO(row.words);
    model::Findings findings;
    Conversion conversion;
    CHECK_FALSE(dnp3::parsePoint({{"x", {}}, {row.words, {"d.yaml", 1, 1, 1}}}, conversion, findings));
    CHECK(findings.list().at(0).message == row.mistake);
  }
}

namespace {

/// An outstation's link layer that answers as it is told to, on one connection.
class LinkPeer {
 public:
  using Manner = std::function<std::optional<LinkFunction>(const dnp3::Frame&)>;  // nothing: it is silent
  /// What it answers to a fragment.
  using Outstation = std::function<Bytes(const Bytes& fragment)>;
  explicit LinkPeer(Manner manner, Outstation outstation = {})
      : manner_(std::move(manner)), outstation_(std::move(outstation)) {
    listener_ = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    ::bind(listener_, reinterpret_cast<sockaddr*>(&address), size);
    ::listen(listener_, 1);
    ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
    at.host = "127.0.0.1";
    at.port = ntohs(address.sin_port);
    thread_ = std::thread([this] { run(); });
  }
  ~LinkPeer() {
    ::shutdown(listener_, SHUT_RDWR);
    thread_.join();
    ::close(listener_);
  }
  LinkAddress at;

 private:
  void run() {
    const int client = ::accept(listener_, nullptr, nullptr);
    FrameReader frames;
    SegmentReader segments;
    std::uint8_t sequence = 0;
    std::byte octets[512];
    for (ssize_t size = 0; client >= 0 && (size = ::read(client, octets, sizeof octets)) > 0;) {
      frames.feed(BytesView(octets, static_cast<std::size_t>(size)));
      while (const auto frame = frames.next()) {
        dnp3::Frame answer;
        answer.isFromMaster = false;
        answer.source = frame->destination;
        answer.destination = frame->source;
        const auto say = [&] {
          const Bytes sent = encode(answer);
          (void)!::write(client, sent.data(), sent.size());
        };
        if (outstation_ && frame->function == LinkFunction::UnconfirmedData) {
          const auto fragment = segments.feed(frame->data);
          if (!fragment) continue;
          for (auto& segment : segmentsOf(outstation_(*fragment), sequence)) {
            answer.data = std::move(segment);
            say();
          }
        } else if (const auto function = manner_(*frame)) {
          answer.function = *function;
          say();
        }
      }
    }
    if (client >= 0) ::close(client);
  }
  const Manner manner_;
  const Outstation outstation_;
  int listener_ = -1;
  std::thread thread_;
};

Instant soon(int ms) { return std::chrono::steady_clock::now() + std::chrono::milliseconds(ms); }

}  // namespace

TEST_CASE("what an outstation says of itself is heeded", "[device][dnp3]") {
  struct Row {
    const char* what;
    std::uint8_t first, second;  // octets of its indications, once
    std::string asked;           // functions from then on: 1 reads, 2 writes
  };
  for (const Row& row : {Row{"it says nothing of itself", 0, 0, "1"},
                         Row{"it restarted, which is taken note of, and all is read", 0x80, 0, "121"},
                         Row{"it lost events, and all is read", 0, 0x08, "11"}}) {
    INFO(row.what);
    std::mutex guard;
    std::string asked;
    std::uint8_t first = 0, second = 0;
    LinkPeer peer([](const dnp3::Frame&) { return std::nullopt; },
                  [&](const Bytes& fragment) {
                    const std::lock_guard lock(guard);
                    asked += static_cast<char>('0' + std::to_integer<int>(fragment[1]));
                    const auto control = static_cast<std::byte>(0xC0 | (std::to_integer<int>(fragment[0]) & 0x0F));
                    return Bytes{control, std::byte{0x81}, std::byte{std::exchange(first, 0)},
                                 std::byte{std::exchange(second, 0)}};
                  });
    StationSettings settings;
    settings.at = peer.at;
    settings.wantsUnsolicited = false;
    OutstationStation station(settings, {Intake::point("analog 0")});
    REQUIRE(station.connect());
    {
      const std::lock_guard lock(guard);
      asked.clear();
      first = row.first;
      second = row.second;
    }
    const PointIndex points[] = {0};
    CHECK(station.read(points));
    CHECK(asked == row.asked);
  }
}

TEST_CASE("who commands is told why an outstation would not", "[device][dnp3]") {
  // The control statuses of IEEE 1815, table 11-12.
  const std::pair<std::uint8_t, StatusCode> kOutcomes[] = {{0, status::Good},
                                                           {1, status::BadTimeout},
                                                           {2, status::BadInvalidState},
                                                           {3, status::BadOutOfRange},
                                                           {4, status::BadNotSupported},
                                                           {5, status::BadInvalidState},
                                                           {6, status::BadDeviceFailure},
                                                           {7, status::BadNotWritable},
                                                           {8, status::BadTooManyOperations},
                                                           {9, status::BadUserAccessDenied},
                                                           {10, status::BadNotWritable},
                                                           {126, status::BadDeviceFailure}};
  for (const auto& [outcome, code] : kOutcomes) {
    INFO(int(outcome));
    CHECK(controlOutcome(outcome).code == code);
    CHECK(controlOutcome(outcome).cause.empty() == code.isGood());
  }
}

TEST_CASE("a link that confirms is reset first, and takes nothing twice", "[device][dnp3]") {
  struct Row {
    const char* what;
    std::vector<std::optional<LinkFunction>> answers;
    const char* heard;  // 'R' a reset, '0' and '1' data with that bit
    bool isSent;
  };
  const auto ack = LinkFunction::Ack, nack = LinkFunction::Nack;
  for (const Row& row : std::vector<Row>{{"all is well", {ack, ack, ack}, "R10", true},
                                         {"a confirmation is lost", {ack, {}, ack, ack}, "R110", true},
                                         {"it was restarted between", {ack, nack, ack, ack, ack}, "R1R10", true},
                                         {"it confirms no data", {ack, {}, {}, {}}, "R111", false},
                                         {"it confirms nothing", {{}, {}, {}}, "RRR", false}}) {
    INFO(row.what);
    std::string heard;
    std::size_t next = 0;
    std::mutex mutex;
    LinkPeer peer([&](const dnp3::Frame& frame) {
      const std::lock_guard lock(mutex);
      heard += frame.function == LinkFunction::ResetLink ? 'R' : frame.countBit ? '1' : '0';
      if (frame.countValid != (frame.function == LinkFunction::ConfirmedData)) heard += '!';
      return next < row.answers.size() ? row.answers[next++] : std::nullopt;
    });
    const auto line = dnp3::Line::to(peer.at);
    REQUIRE(line->connect(soon(1'000)));
    const Bytes fragment(4);
    const auto first = line->send(1, 10, fragment, soon(600), true);
    CHECK(static_cast<bool>(first) == row.isSent);
    if (first)
      CHECK(line->send(1, 10, fragment, soon(600), true));
    else
      CHECK(first.error().code == status::BadNoCommunication);
    line->giveUp();
    const std::lock_guard lock(mutex);
    CHECK(heard == row.heard);
  }
}

TEST_CASE("an outstation with nothing to say is asked whether it is there", "[device][dnp3]") {
  {
    std::atomic<bool> isThere{true};
    LinkPeer peer([&](const dnp3::Frame& frame) -> std::optional<LinkFunction> {
      const bool answers = frame.function == LinkFunction::RequestStatus && isThere;
      return answers ? std::optional(LinkFunction::LinkStatus) : std::nullopt;
    });
    const auto line = dnp3::Line::to(peer.at);
    REQUIRE(line->connect(soon(1'000)));
    CHECK(line->test(1, 10, soon(1'000)));
    isThere = false;
    CHECK(line->test(1, 10, soon(50)).error().code == status::BadTimeout);
    line->giveUp();
  }
  // Through the driver: one that stands still, as does its connection.
  Intake intake;
  intake.settings.keepAlive = std::chrono::milliseconds(50);
  intake.settings.timeout = std::chrono::milliseconds(300);
  intake.settings.wantsUnsolicited = false;
  intake.settings.isConfirmed = true;
  OutstationStation station(intake.settings, {Intake::point("counter 0")});
  REQUIRE(station.connect());
  for (const Instant end = soon(200); std::chrono::steady_clock::now() < end;)
    REQUIRE(station.listen(std::chrono::milliseconds(20)));
  intake.process->signal(SIGSTOP);
  Result<std::vector<Sample>> heard{std::vector<Sample>()};
  for (const Instant end = soon(5'000); heard && std::chrono::steady_clock::now() < end;)
    heard = station.listen(std::chrono::milliseconds(20));
  CHECK(heard.code() == status::BadTimeout);
  intake.process->signal(SIGCONT);
}

}  // namespace zunth::dnp3_test
