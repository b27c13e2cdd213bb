// What devices say, and clients of a Modbus server: any octets end in values, a refusal or an error.
#include "service/device/dnp3_application.hpp"
#include "service/device/dnp3_link.hpp"
#include "service/device/file_station.hpp"
#include "service/device/line_station.hpp"
#include "service/device/modbus_frames.hpp"
#include "service/device/mqtt_scan.hpp"
#include "service/device/topic_pattern.hpp"
#include "service/registers/register_map.hpp"

#include <cstdint>

using namespace zunth;
using namespace zunth::device;

namespace {

void readModbus(const std::uint8_t* data, std::size_t size) {
  using namespace zunth::device::modbus;
  if (size < 6) return;
  const auto* octets = reinterpret_cast<const std::byte*>(data);
  const auto count = static_cast<std::uint16_t>(1 + data[1] % 125);
  const auto request = data[0] % 5 == 4 ? writeOne(Table::Coil, data[2], data[3])
                                        : readRequest(static_cast<Table>(data[0] % 4), data[2], count);
  const auto answer = answerTo(request, ua::BytesView(octets + 4, size - 4));
  if (answer && !answer->refusal.isBad() && data[0] % 5 != 4 && answer->registers.size() != count) __builtin_trap();
  std::size_t told = 0;
  if (const auto said = identificationIn(ua::BytesView(octets, size)))
    for (const auto& [number, text] : said->objects) told += 2 + text.size();
  if (told > size) __builtin_trap();
}

void readDnp3(ua::BytesView octets) {
  using namespace zunth::device::dnp3;
  if (const auto fragment = readFragment(octets)) {
    // Each object takes an eighth of an octet at least.
    if (fragment->measurements.size() > octets.size() * 8) __builtin_trap();
    for (const auto& measurement : fragment->measurements) (void)statusOf(measurement);
  }
  FrameReader frames;
  SegmentReader segments;
  frames.feed(octets);
  while (const auto frame = frames.next()) (void)segments.feed(frame->data);
  // What is sent comes back as it was, whatever came before it.
  dnp3::Frame frame;
  const auto data = octets.first(std::min(octets.size(), kMostInFrame));
  frame.data.assign(data.begin(), data.end());
  FrameReader again;
  again.feed(encode(frame));
  const auto found = again.next();
  if (!found || found->data != frame.data) __builtin_trap();
}

/// Registers of each kind: a number, bits of one register, text, an array, a bit.
registers::RegisterMap someRegisters() {
  std::vector<registers::Register> list;
  model::Findings findings;
  for (const char* words : {"holding 0 Float", "holding 2 bit 0", "holding 2 bit 9", "holding 4 String 3",
                            "holding 10 Int16[5] scale 0.1", "coil 0", "coil 3", "input 0 Double", "discrete 1"}) {
    registers::Register one;
    one.type = ua::BuiltInType::Variant;
    one.point = *modbus::parsePoint({words, {}}, {words, {}}, one.conversion, findings);
    one.goodAt = static_cast<std::uint16_t>(100 + list.size());
    list.push_back(std::move(one));
  }
  return registers::RegisterMap(std::move(list));
}

void readRequests(ua::BytesView octets) {
  static const registers::RegisterMap map = someRegisters();
  const auto request = registers::parseRequest(octets);
  if (!request) return;
  if (request->kind == registers::Request::Kind::Write || request->kind == registers::Request::Kind::WriteThenRead) {
    if (request->words.size() != request->written.count) __builtin_trap();
    (void)map.writes(request->written.table, request->written.first, request->words);
  }
  if (request->kind != registers::Request::Kind::Read) return;
  const auto& span = request->read;
  const auto touched = map.touched(span.table, span.first, span.count);
  if (!touched) return;
  const std::vector<ua::DataValue> values(touched->size(), ua::DataValue(ua::Variant(1.0)));
  const auto words = map.image(span.table, span.first, span.count, *touched, values);
  if (words && words->size() != span.count) __builtin_trap();
}

void readTexts(std::string_view text) {
  const auto half = text.size() / 2;
  if (const auto pattern = TextPattern::parse(text.substr(0, half))) (void)pattern->read(text.substr(half));
  (void)unescaped(text);
  for (const auto sum : {line::Checksum::Xor, line::Checksum::Sum, line::Checksum::Crc16})
    (void)line::proved(text, sum);
  (void)mqtt::propose("a/b", text);
  // A topic that makes a point makes a sound one.
  static const auto patterns = [] {
    model::Findings findings;
    const auto root = model::readYaml("d", "\"{a}/{b}-x\": h/{a}/p{b}/s $.{b} send h/{a}/set", findings);
    return mqtt::TopicPattern::read(root.entries.at(0), findings).value();
  }();
  if (const auto made = patterns.pointOf("h/" + std::string(text))) {
    model::Findings findings;
    Conversion conversion;
    if (!mqtt::parsePoint(*made, conversion, findings)) __builtin_trap();
  }
  mqtt::MqttPoint point;
  point.path = {"a", "0"};
  point.time = {"at"};
  (void)mqtt::valueIn(point, mqtt::Message("a", text, false), {});
  files::FilePoint cell, word;
  cell.column = "a";
  word.key = "a";
  word.word = 2;
  (void)files::valueIn(cell, text);
  (void)files::valueIn(word, text);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const std::uint8_t* rest = data + 1;
  if (data[0] >= 0xF0) {
    readRequests({reinterpret_cast<const std::byte*>(rest), size - 1});
    return 0;
  }
  switch (data[0] % 3) {
    case 0: readModbus(rest, size - 1); break;
    case 1: readDnp3({reinterpret_cast<const std::byte*>(rest), size - 1}); break;
    default: readTexts({reinterpret_cast<const char*>(rest), size - 1}); break;
  }
  return 0;
}
