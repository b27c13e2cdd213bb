// Devices that speak in lines: how their lines are read, and what they may do wrong.
#include "service/device/line_station.hpp"

#include "service/device/device_file.hpp"

#include <thread>

#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/read_until.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <fmt/format.h>

namespace zunth::line_station_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::device::line;
namespace asio = boost::asio;

namespace {

struct Made {
  std::optional<LinePoint> point;
  std::string mistake;
};
Made make(const std::string& words) {
  model::Findings findings;
  Conversion conversion;
  Made out{parsePoint({{"x", {}}, {words, {"d.yaml", 1, 1, words.size()}}}, conversion, findings), {}};
  if (!findings.list().empty()) out.mistake = findings.list()[0].message;
  return out;
}

/// A device on loopback that answers each line as the test says, once connected to says `greeting` by itself.
class Peer {
 public:
  using Answer = std::function<std::string(const std::string& line)>;
  explicit Peer(Answer answer, std::string greeting = {}) : acceptor_(loop_, {asio::ip::address_v4::loopback(), 0}) {
    thread_ = std::thread([this, answer = std::move(answer), greeting = std::move(greeting)] {
      while (true) {
        boost::system::error_code error;
        asio::ip::tcp::socket socket(loop_);
        acceptor_.accept(socket, error);
        if (error || isOver_) return;
        asio::write(socket, asio::buffer(greeting), error);
        std::string came;
        while (!error) {
          const auto size = asio::read_until(socket, asio::dynamic_buffer(came), "\r\n", error);
          if (error) break;
          const std::string line = came.substr(0, size - 2);
          came.erase(0, size);
          asio::write(socket, asio::buffer(answer(line)), error);
        }
      }
    });
  }
  ~Peer() {
    isOver_ = true;
    boost::system::error_code ignored;
    asio::ip::tcp::socket(loop_).connect(acceptor_.local_endpoint(), ignored);
    thread_.join();
  }
  LineSettings settings(const char* answer, const char* ask = "W\r\n") const {
    LineSettings out;
    out.at.host = "127.0.0.1";
    out.at.port = acceptor_.local_endpoint().port();
    out.questions = {{"", ask, {*TextPattern::parse(answer)}}};
    out.timeout = std::chrono::milliseconds(300);
    return out;
  }

 private:
  asio::io_context loop_;
  asio::ip::tcp::acceptor acceptor_;
  std::atomic<bool> isOver_{false};
  std::thread thread_;
};

const PointIndex kFirst[] = {0};

}  // namespace

TEST_CASE("patterns pick fields out of lines", "[device][line]") {
  struct Row {
    const char *pattern, *line, *fields;  // "a=1;b=2;", or nothing for a line that looks otherwise
  };
  for (const Row& row : {
           Row{"{stable},{kind},{weight}{unit}", "ST,GS,   123.45kg", "kind=GS;stable=ST;unit=kg;weight=123.45;"},
           Row{"{stable},{kind},{weight}{unit}", "US,GS,-  0.50g", "kind=GS;stable=US;unit=g;weight=-  0.50;"},
           Row{"PH {ph} T {t} *", "PH 7.31 T 11.4 *", "ph=7.31;t=11.4;"},
           Row{"PH {ph} T {t} *", "PH   7.31   T 11.4 *  ", "ph=7.31;t=11.4;"},
           Row{"{ph}", "7.31", "ph=7.31;"},
           Row{"pH={ph};", "pH=;", "ph=;"},
           Row{"pH={ph};", "ph=7;", nullptr},
           Row{"pH={ph};", "pH=7", nullptr},
           Row{"{a},{b}", "1", nullptr},
           Row{"{a},{b},", "1,2,3", nullptr},
           Row{"{a}-{b}", "", nullptr},
       }) {
    INFO(row.pattern << " and " << row.line);
    const auto pattern = TextPattern::parse(row.pattern);
    REQUIRE(pattern);
    const auto fields = pattern->read(row.line);
    REQUIRE(fields.has_value() == (row.fields != nullptr));
    std::string shown;
    if (fields)
      for (const auto& [name, text] : *fields) shown += name + "=" + text + ";";
    if (fields) CHECK(shown == row.fields);
  }
  for (const char* wrong : {"", "no field", "{a", "{}", "{a},{a}"}) CHECK_FALSE(TextPattern::parse(wrong));
  CHECK(*unescaped(R"(\x02W\r\n\\)") == "\x02W\r\n\\");
  CHECK_FALSE(unescaped(R"(\q)"));
  CHECK_FALSE(unescaped("\\"));
  CHECK(escaped("\x02W\r\n\xFF") == R"(\x02W\r\n\xFF)");
}

TEST_CASE("flags and units of an answer are its value's", "[device][line]") {
  const auto weight = *make("weight unit unit kg=1 g=0.001 uncertain stable=US fault stable=OL").point;
  const auto pattern = *TextPattern::parse("{stable},{weight}{unit}");
  struct Row {
    const char* line;
    Variant value;
    StatusCode status;
  };
  for (const Row& row : std::vector<Row>{{"ST,  1.5kg", Variant(1.5), status::Good},
                                         {"ST,  250g", Variant(0.25), status::Good},
                                         {"US,- 1.5kg", Variant(-1.5), status::UncertainSensorNotAccurate},
                                         {"OL,  0.0kg", {}, status::BadSensorFailure},
                                         {"ST,  1.5lb", {}, status::BadConfigurationError},
                                         {"ST,  kg", {}, status::BadConfigurationError}}) {
    INFO(row.line);
    const auto fields = pattern.read(row.line);
    REQUIRE(fields);
    const auto value = valueIn(weight, *fields, DateTime{5});
    CHECK(value.status == row.status);
    CHECK(value.value == row.value);
  }
}

TEST_CASE("an empty field is no value", "[device][line]") {
  const auto ph = *make("ph").point;
  CHECK(valueIn(ph, *TextPattern::parse("pH={ph};")->read("pH=;"), DateTime{5}).status == status::BadNoData);
}

TEST_CASE("checksums prove a line", "[device][line]") {
  // Worked out by hand: 'A' ^ 'B' = 03, 'A' + 'B' = 83; the CRC-16 of "123456789" with this polynomial is 4B37.
  CHECK(checksumOf("AB", Checksum::Xor) == "03");
  CHECK(checksumOf("AB", Checksum::Sum) == "83");
  CHECK(checksumOf("123456789", Checksum::Crc16) == "4B37");
  CHECK(proved("AB03", Checksum::Xor) == "AB");
  CHECK(proved("1234567894b37", Checksum::Crc16) == "123456789");
  CHECK_FALSE(proved("AC03", Checksum::Xor));
  CHECK_FALSE(proved("3", Checksum::Sum));
}

TEST_CASE("a device is asked, and what it says wrong has a status", "[device][line]") {
  struct Row {
    const char *answer, *what;
    StatusCode status;  // of the value; of the connection where it is lost
    bool isLost;
  };
  for (const Row& row :
       {Row{"12.5\r\n", "says what it should", status::Good, false},
        Row{"12.5\r\n13.0\r\n", "says it twice", status::Good, false},
        Row{"ERR\r\n", "says something else", status::BadDecodingError, false},
        Row{"", "is silent", status::BadTimeout, true}, Row{"12.5", "never ends the line", status::BadTimeout, true}}) {
    INFO("it " << row.what);
    int asked = 0;
    Peer peer([&](const std::string&) { return ++asked == 1 ? "12.5\r\n" : row.answer; });
    auto settings = peer.settings("{weight}");
    settings.questions[0].answers = {*TextPattern::parse("1{weight}")};
    LineStation station(settings, {*make("weight").point});
    REQUIRE(station.connect());
    const auto values = station.read(kFirst);
    CHECK(static_cast<bool>(values) != row.isLost);
    CHECK((values ? values->front().status : values.code()) == row.status);
  }
  Peer loud([](const std::string&) { return std::string(10'000, 'x'); });
  CHECK(LineStation(loud.settings("{weight}"), {*make("weight").point}).connect().code() == status::BadDecodingError);
  LineSettings nobody;
  nobody.questions.emplace_back();
  nobody.at.host = "127.0.0.1";
  nobody.at.port = 1;
  CHECK(LineStation(nobody, {}).connect().code() == status::BadNoCommunication);
}

TEST_CASE("what a device sends by itself comes whole and in order", "[device][line]") {
  std::string said;
  for (int i = 0; i < 500; ++i) said += std::to_string(i) + "\r\n";
  Peer peer([](const std::string&) { return ""; }, said);
  LineStation station(peer.settings("{weight}", ""), {*make("weight").point});
  REQUIRE(station.connect());
  std::int64_t next = 0;
  while (next < 500) {
    const auto came = station.listen(std::chrono::milliseconds(200));
    REQUIRE(came);
    REQUIRE(!came->empty());
    for (const auto& sample : *came) CHECK(sample.value.value == Variant(next++));
  }
  CHECK(station.read(kFirst)->front().value == Variant(std::int64_t{499}));
  // Then it says nothing more, and counts as gone when it should have said something.
  auto came = station.listen(std::chrono::milliseconds(400));
  CHECK(came.code() == status::BadTimeout);
}

TEST_CASE("of several questions those are asked whose answers are wanted", "[device][line]") {
  std::vector<std::string> heard;
  bool isDumb = false;
  Peer peer([&](const std::string& line) {
    heard.push_back(line);
    if (line == "T?") return "T 11.5 C\r\n";
    return line == "PH?" && !isDumb ? "PH 7.25\r\n" : "";
  });
  auto settings = peer.settings("PH {ph}", "PH?\r\n");
  settings.questions.push_back({"temperature", "T?\r\n", {*TextPattern::parse("T {t} {unit}")}});
  settings.questions.push_back({"odd", "ODD?\r\n", {*TextPattern::parse("ODD {odd}")}});
  std::vector<LinePoint> points{*make("ph").point, *make("t").point, *make("unit").point, *make("odd").point};
  points[1].question = points[2].question = 1;
  points[3].question = 2;
  LineStation station(settings, points);
  REQUIRE(station.connect());
  const auto read = [&](std::vector<PointIndex> wanted) {
    heard.clear();
    return station.read(wanted);
  };
  auto values = read({1, 2});
  REQUIRE(values);
  CHECK(heard == std::vector<std::string>{"T?"});
  CHECK((*values)[0].value == Variant(11.5));
  CHECK((*values)[1].value == Variant("C"));
  // A question that it doesn't know says nothing of the others; none that is answered says that it is gone.
  values = read({0, 3, 1});
  REQUIRE(values);
  CHECK(heard == std::vector<std::string>{"PH?", "ODD?", "T?"});
  CHECK((*values)[0].value == Variant(7.25));
  CHECK((*values)[1].status == status::BadTimeout);
  CHECK((*values)[2].value == Variant(11.5));
  isDumb = true;
  CHECK(read({0, 3}).code() == status::BadTimeout);
}

TEST_CASE("questions in a file fit to their points", "[device][line]") {
  const auto read = [](const std::string& lines) {
    model::Findings findings;
    readDeviceFile("d", "devices/d.yaml", "driver: line\nport: 1\n" + lines, findings);
    std::string said;
    for (const auto& finding : findings.list()) said += fmt::format("{}: {}; ", finding.place.line, finding.message);
    return said;
  };
  const std::string two =
      "questions:\n  ph: {ask: 'PH?', answer: 'PH {ph} {flag}'}\n  t: {ask: 'T?', answer: 'T {t}'}\n";
  CHECK(read(two + "points: {ph: ph fault flag=E, t: t}\n") == "");
  for (const auto& [lines, said] : std::initializer_list<std::pair<std::string, const char*>>{
           {two + "points: {x: hp}\n", "6: the point x is the field 'hp', and no answer has one; "},
           {two + "points: {t: t fault flag=E}\n", "6: the field 'flag' is not in the answer that tells 't'; "},
           {two + "ask: W\npoints: {t: t}\n", "3: 'ask' and 'answer' stand beside 'questions'; "},
           {"questions:\n  a: {ask: A, answer: '{x}'}\n  b: {ask: B, answer: '{x}'}\npoints: {x: x}\n",
            "6: the field 'x' is in the answers to a and b; "},
           {"questions:\n  a: {answer: '{x}'}\npoints: {x: x}\n", "4: the question 'a' asks nothing; "},
           {"questions:\n  a: {ask: A}\npoints: {x: send X}\n", "4: nothing says how the device's answer looks; "},
           {"questions: {}\npoints: {x: send X}\n", "3: 'questions' has none; "}}) {
    INFO(lines);
    CHECK(read(lines) == said);
  }
}

TEST_CASE("what is written is one line, whatever the value", "[device][line]") {
  std::vector<std::string> heard;
  Peer peer([&](const std::string& line) {
    heard.push_back(line);
    return line == "W" ? "W 1\r\n" : "OK\r\n";
  });
  LineStation station(peer.settings("W {weight}"),
                      {*make("weight").point, *make("send SP {value}").point, *make("send T").point});
  REQUIRE(station.connect());
  CHECK(station.write({1, Variant(2.5)})->error.code.isGood());
  CHECK(station.write({2, Variant(true)})->error.code.isGood());
  CHECK(station.write({1, Variant("1\r\nT")})->error.code == status::BadOutOfRange);
  CHECK(station.write({0, Variant(1)})->error.code == status::BadNotWritable);
  CHECK(station.read(kFirst)->front().value == Variant(std::int64_t{1}));
  CHECK(heard == std::vector<std::string>{"W", "SP 2.5", "T", "W"});
}

TEST_CASE("mistakes in lines are named", "[device][line]") {
  struct Row {
    const char *words, *mistake;
  };
  for (const Row& row :
       {Row{"weight unit", "'unit' needs the field that tells it"},
        Row{"weight unit u", "'unit' needs what one of each unit is"}, Row{"weight unit u kg=x", "'x' is no factor"},
        Row{"weight uncertain", "'uncertain' needs a field and what it says then"},
        Row{"weight softly", "'softly' means nothing here"}, Row{"send", "'send' needs a line"},
        Row{"send \\q", "'\\q' stands for nothing"}}) {
    INFO(row.words);
    CHECK(make(row.words).mistake == row.mistake);
  }
}

}  // namespace zunth::line_station_test
