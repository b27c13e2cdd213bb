#include "service/device/line_station.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"
#include "service/device/polled.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

namespace zunth::device::line {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

constexpr std::size_t kLongestLine = 4'096;
constexpr std::size_t kMostLines = 1'000;  // that are handed on at once

Instant now() { return std::chrono::steady_clock::now(); }
std::uint16_t crc16(std::string_view text) {
  unsigned crc = 0xFFFF;
  for (const char c : text) {
    crc ^= static_cast<unsigned char>(c);
    for (int bit = 0; bit < 8; ++bit) crc = crc & 1 ? crc >> 1 ^ 0xA001 : crc >> 1;
  }
  return static_cast<std::uint16_t>(crc);
}

/// Reads the words of one point.
class LineReader {
 public:
  LineReader(const DeviceText::PointText& point, Conversion& conversion, Findings& findings)
      : text_(point), words_(wordsOf(point.words)), conversion_(conversion), findings_(findings) {}

  std::optional<LinePoint> read() {
    out_.point.name = text_.name.text;
    out_.point.where = text_.words.text;
    out_.point.type = BuiltInType::Variant;
    if (words_.empty()) return fail(text_.words, "a point is a field of the answer");
    if (words_[0].text != "send") out_.field = words_[at_++].text;
    while (at_ < words_.size()) {
      const auto isConversion = readConversion(words_, at_, conversion_, findings_);
      if (!isConversion) return std::nullopt;
      if (!*isConversion && !readWord()) return std::nullopt;
    }
    out_.point.isWritable = !out_.sends.empty();
    if (!checkConversion(conversion_, out_.point.type, text_.words, findings_)) return std::nullopt;
    return std::move(out_);
  }

 private:
  std::nullopt_t fail(const Text& where, std::string message,
                      std::string hint = "as in: weight unit unit kg=1 g=0.001 uncertain stable=US, or send T") {
    findings_.error(where.place, std::move(message), std::move(hint));
    return std::nullopt;
  }
  std::vector<std::pair<std::string, std::string>> pairs() {
    std::vector<std::pair<std::string, std::string>> out;
    for (; at_ < words_.size() && words_[at_].text.find('=') != std::string::npos; ++at_) {
      const auto& text = words_[at_].text;
      out.emplace_back(text.substr(0, text.find('=')), text.substr(text.find('=') + 1));
    }
    return out;
  }
  bool readWord() {
    const Text& word = words_[at_++];
    if (word.text == "unit") {
      if (at_ >= words_.size()) return fail(word, "'unit' needs the field that tells it"), false;
      out_.unitField = words_[at_++].text;
      for (const auto& [unit, factor] : pairs()) {
        const auto number = parse(factor, BuiltInType::Double);
        if (!number) return fail(word, fmt::format("'{}' is no factor", factor)), false;
        out_.units.emplace_back(unit, *number->get<double>());
      }
      if (out_.units.empty()) return fail(word, "'unit' needs what one of each unit is"), false;
    } else if (word.text == "uncertain" || word.text == "fault") {
      auto& list = word.text == "fault" ? out_.faults : out_.doubts;
      const auto told = pairs();
      if (told.empty()) return fail(word, fmt::format("'{}' needs a field and what it says then", word.text)), false;
      list.insert(list.end(), told.begin(), told.end());
    } else if (word.text == "send") {
      // All that follows, blanks included.
      std::string line;
      for (; at_ < words_.size(); ++at_) line += (line.empty() ? "" : " ") + words_[at_].text;
      auto octets = unescaped(line);
      if (!octets || octets->empty()) return fail(word, octets ? "'send' needs a line" : octets.error().cause), false;
      out_.sends = std::move(*octets);
    } else {
      return fail(word, fmt::format("'{}' means nothing here", word.text)), false;
    }
    return true;
  }

  const DeviceText::PointText& text_;
  const std::vector<Text> words_;
  Conversion& conversion_;
  Findings& findings_;
  LinePoint out_;
  std::size_t at_ = 0;
};

using Octets = std::function<std::string(const Text&)>;

/// One from the keys `ask` and `answer`.
Question readQuestion(const model::Entry& entry, const Octets& octets, Findings& findings) {
  Question out;
  if (const Text* ask = entry.textOf("ask")) out.ask = octets(*ask);
  const auto answers = entry.textsOf("answer");
  if (answers.empty())
    findings.error(entry.key.place, "nothing says how the device's answer looks",
                   "as in: answer: '{stable},{weight}{unit}'");
  if (!answers.empty()) out.looks = answers[0].text;
  for (const Text& answer : answers) {
    auto pattern = TextPattern::parse(answer.text);
    if (pattern)
      out.answers.push_back(std::move(*pattern));
    else
      findings.error(answer.place, pattern.error().cause, pattern.error().next);
  }
  return out;
}

/// At least one.
std::vector<Question> readQuestions(const model::Entry& root, const Octets& octets, Findings& findings) {
  const model::Entry* several = root.find("questions");
  if (!several) return {readQuestion(root, octets, findings)};
  std::vector<Question> out;
  for (const auto& entry : several->entries) {
    checkKeys(entry, {"ask", "answer"}, findings);
    out.push_back(readQuestion(entry, octets, findings));
    out.back().name = entry.key.text;
    if (out.back().ask.empty())
      findings.error(entry.key.place, fmt::format("the question '{}' asks nothing", entry.key.text),
                     "as in: ask: T?\\r\\n");
  }
  if (root.find("ask") || root.find("answer"))
    findings.error(several->key.place, "'ask' and 'answer' stand beside 'questions'",
                   "write them as one more question");
  if (out.empty()) {
    findings.error(several->key.place, "'questions' has none", "as in: ph: {ask: 'PH?\\r\\n', answer: 'PH {ph}'}");
    out.emplace_back();
  }
  return out;
}

bool says(const TextPattern::Fields& fields, const std::vector<std::pair<std::string, std::string>>& what) {
  return std::ranges::any_of(what, [&](const auto& each) {
    const auto found = fields.find(each.first);
    return found != fields.end() && found->second == each.second;
  });
}

}  // namespace

std::optional<LinePoint> parsePoint(const DeviceText::PointText& text, Conversion& conversion, Findings& findings) {
  return LineReader(text, conversion, findings).read();
}

DataValue valueIn(const LinePoint& point, const TextPattern::Fields& fields, DateTime when) {
  const auto found = fields.find(point.field);
  if (found == fields.end()) return DataValue(Variant(), when, status::BadNotReadable);
  if (says(fields, point.faults)) return DataValue(Variant(), when, status::BadSensorFailure);
  std::string text = found->second;
  // Signs may stand apart from their digits.
  if (text.size() > 1 && (text[0] == '-' || text[0] == '+')) text.erase(1, text.find_first_not_of(' ', 1) - 1);
  Variant value = plainValue(text);
  if (text.empty()) return DataValue(Variant(), when, status::BadNoData);
  if (!point.units.empty()) {
    const auto told = fields.find(point.unitField);
    const auto unit = std::ranges::find(point.units, told == fields.end() ? std::string() : told->second,
                                        &std::pair<std::string, double>::first);
    double number = 0;
    if (unit == point.units.end() || !value.toDouble(number))
      return DataValue(Variant(), when, status::BadConfigurationError);
    value = Variant(number * unit->second);
  }
  return DataValue(std::move(value), when,
                   says(fields, point.doubts) ? status::UncertainSensorNotAccurate : status::Good);
}

std::string checksumOf(std::string_view text, Checksum checksum) {
  unsigned value = 0;
  switch (checksum) {
    case Checksum::None: return {};
    case Checksum::Xor:
      for (const char c : text) value ^= static_cast<unsigned char>(c);
      return fmt::format("{:02X}", value);
    case Checksum::Sum:
      for (const char c : text) value += static_cast<unsigned char>(c);
      return fmt::format("{:02X}", value & 0xFF);
    case Checksum::Crc16: break;
  }
  return fmt::format("{:04X}", crc16(text));
}

std::optional<std::string_view> proved(std::string_view line, Checksum checksum) {
  if (checksum == Checksum::None) return line;
  const std::size_t size = checksum == Checksum::Crc16 ? 4 : 2;
  if (line.size() < size) return std::nullopt;
  const std::string_view text = line.substr(0, line.size() - size), sum = line.substr(line.size() - size);
  const bool fits = std::ranges::equal(
      sum, checksumOf(text, checksum), {}, [](char c) { return std::toupper(c); },
      [](char c) { return static_cast<int>(c); });
  return fits ? std::optional(text) : std::nullopt;
}

bool Question::tells(const std::string& field) const {
  return std::ranges::any_of(answers, [&](const TextPattern& answer) {
    return std::ranges::find(answer.fields(), field) != answer.fields().end();
  });
}

LineSettings readSettings(const DeviceText& text, Findings& findings) {
  LineSettings settings;
  const auto& root = text.root;
  const auto octets = [&](const Text& text) {
    auto out = unescaped(text.text);
    if (!out) findings.error(text.place, out.error().cause, out.error().next);
    return out ? std::move(*out) : std::string("?");
  };
  settings.questions = readQuestions(root, octets, findings);
  if (const Text* ends = root.textOf("ends")) settings.ends = octets(*ends);
  if (settings.ends.empty()) findings.error(root.key.place, "lines have an end", "as in: ends: \\r\\n");
  settings.timeout =
      milliseconds(durationOf(root, "timeout", settings.questions[0].ask.empty() ? 5'000 : 1'000, findings));
  if (const Text* serial = root.textOf("serial")) {
    settings.at.serial = parseSerial(*serial, text.folder, findings);
  } else {
    const Text* host = root.textOf("host");
    settings.at.host = host ? host->text : "127.0.0.1";
    settings.at.port = static_cast<std::uint16_t>(numberOf(root, "port", 0, 1, 65535, findings));
    if (settings.at.port == 0)
      findings.error(root.key.place, "the device has neither a port nor a serial port",
                     "write: port: 4001, or serial: /dev/ttyS0 9600 8N1");
  }
  if (const Text* word = root.textOf("checksum")) {
    const std::vector<std::string> kinds{"none", "xor", "sum", "crc16"};
    const auto kind = std::ranges::find(kinds, word->text);
    if (kind == kinds.end())
      findings.error(word->place, fmt::format("there is no checksum '{}'", word->text), "write xor, sum or crc16");
    else
      settings.checksum = static_cast<Checksum>(kind - kinds.begin());
  }
  return settings;
}

namespace {

/// The question whose answer has the point's field; a finding where there is none, or one beside it.
void findQuestion(LinePoint& point, const LineSettings& settings, const DeviceText& text, Findings& findings) {
  const auto& questions = settings.questions;
  const auto fail = [&](std::string message, std::string hint) {
    const auto line = std::ranges::find(text.points, point.point.name, [](const auto& each) { return each.name.text; });
    findings.error(line == text.points.end() ? text.root.key.place : line->words.place, std::move(message),
                   std::move(hint));
  };
  const auto tells = [&](const Question& question) { return question.tells(point.field); };
  const auto found = std::ranges::find_if(questions, tells);
  if (found == questions.end()) {
    std::vector<std::string> known;
    for (const auto& question : questions)
      for (const auto& answer : question.answers)
        known.insert(known.end(), answer.fields().begin(), answer.fields().end());
    const auto near = nearest(point.field, known);
    return fail(fmt::format("the point {} is the field '{}', and no answer has one", point.point.name, point.field),
                near.empty() ? fmt::format("the fields are {}", fmt::join(known, ", "))
                             : fmt::format("did you mean '{}'?", near));
  }
  point.question = static_cast<std::size_t>(found - questions.begin());
  if (const auto other = std::find_if(std::next(found), questions.end(), tells); other != questions.end())
    return fail(fmt::format("the field '{}' is in the answers to {} and {}", point.field, found->name, other->name),
                "give them names of their own");
  std::vector<std::string> beside{point.unitField};
  for (const auto* list : {&point.doubts, &point.faults})
    for (const auto& [field, said] : *list) beside.push_back(field);
  for (const auto& field : beside)
    if (!field.empty() && !found->tells(field))
      fail(fmt::format("the field '{}' is not in the answer that tells '{}'", field, point.field),
           "what belongs together comes in one line");
}

}  // namespace

DriverSetup readDevice(const DeviceText& text, Findings& findings) {
  const LineSettings settings = readSettings(text, findings);
  DriverSetup setup;
  auto points = readPoints<LinePoint>(text, setup, findings, parsePoint);
  for (auto& point : points)
    if (!point.field.empty()) findQuestion(point, settings, text, findings);
  setup.address = setup.line = settings.at.text();
  setup.make = [settings, points = std::move(points)](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<LineStation>(settings, points));
  };
  return setup;
}

LineStation::LineStation(LineSettings settings, std::vector<LinePoint> points)
    : settings_(std::move(settings)), points_(std::move(points)), link_(settings_.at) {
  for (const auto& each : points_) names_.push_back(each.point);
}

Result<void> LineStation::connect() {
  disconnect();
  if (auto opened = link_.open(now() + settings_.timeout); !opened) return opened;
  lastAt_ = now();
  if (sendsByItself()) return {};
  // There is who answers, not only who takes the connection.
  if (auto answer = ask(settings_.questions[0]); !answer) {
    disconnect();
    return answer.error();
  }
  return {};
}

void LineStation::disconnect() {
  link_.close();
  came_.clear();
  last_.reset();
}

Result<void> LineStation::send(std::string_view text) {
  return link_.send(std::as_bytes(std::span(text)), now() + settings_.timeout);
}

Result<std::optional<std::string>> LineStation::nextLine(Instant deadline) {
  while (true) {
    if (const auto end = came_.find(settings_.ends); end != std::string::npos) {
      std::string line = came_.substr(0, end);
      came_.erase(0, end + settings_.ends.size());
      return std::optional(std::move(line));
    }
    // One that never ends its lines speaks something else.
    if (came_.size() > kLongestLine) {
      came_.clear();
      return Error{status::BadDecodingError, fmt::format("{} sends no end of a line", settings_.at.text()),
                   "look at 'ends' and at the speed of the port"};
    }
    auto octets = link_.receive(deadline);
    if (!octets) return octets.error();
    if (octets->empty()) return std::optional<std::string>();
    came_.append(reinterpret_cast<const char*>(octets->data()), octets->size());
  }
}

LineStation::Answer LineStation::answerIn(std::string line, const Question& question) const {
  Answer out{std::move(line), {}};
  const auto text = proved(out.line, settings_.checksum);
  for (auto pattern = question.answers.begin(); text && !out.fields && pattern != question.answers.end(); ++pattern)
    out.fields = pattern->read(*text);
  return out;
}

Result<LineStation::Answer> LineStation::ask(const Question& question) {
  // What came unasked, or too late, is no answer to this.
  link_.empty();
  came_.clear();
  if (auto sent = send(question.ask); !sent) return sent.error();
  // A line that looks otherwise may be the answer to what was sent before: the next one is waited for, a moment.
  constexpr Duration kMoment = std::chrono::milliseconds(100);
  const Instant late = now() + settings_.timeout;
  std::optional<Answer> other;
  while (true) {
    auto line = nextLine(other ? std::min(late, now() + kMoment) : late);
    if (!line) return line.error();
    if (!*line) break;
    Answer answer = answerIn(std::move(**line), question);
    if (answer.fields) return answer;
    other = std::move(answer);
    if (now() >= late) break;
  }
  if (other) return *other;
  return Error{status::BadTimeout, fmt::format("{} does not answer", settings_.at.text()),
               "look at 'ask', and whether the device is on"};
}

DataValue LineStation::valueOf(PointIndex point, const Answer& answer, DateTime when) const {
  if (points_[point].field.empty()) return DataValue(Variant(), when, status::BadNotReadable);
  return answer.fields ? valueIn(points_[point], *answer.fields, when)
                       : DataValue(Variant(), when, status::BadDecodingError);
}

Result<std::vector<DataValue>> LineStation::read(std::span<const PointIndex> points) {
  if (!link_.isOpen()) return Error{status::BadNoCommunication, "the device is not connected", {}};
  std::vector<DataValue> out;
  if (sendsByItself()) {
    for (const PointIndex point : points)
      out.push_back(last_ ? valueOf(point, *last_, lastTime_)
                          : DataValue(Variant(), wallClock(), status::BadWaitingForInitialData));
    return out;
  }
  std::map<std::size_t, Answer> answers;
  std::optional<Error> silent;
  std::set<std::size_t> asked;
  for (const PointIndex point : points) {
    const std::size_t number = points_[point].question;
    if (!asked.insert(number).second) continue;
    auto answer = ask(settings_.questions[number]);
    // One that it doesn't know says nothing of the others.
    if (!answer && answer.code() != status::BadTimeout) return answer.error();
    if (answer)
      answers.emplace(number, std::move(*answer));
    else
      silent = answer.error();
  }
  if (answers.empty() && silent) return *silent;
  for (const PointIndex point : points) {
    const auto answer = answers.find(points_[point].question);
    out.push_back(answer != answers.end() ? valueOf(point, answer->second, wallClock())
                                          : DataValue(Variant(), wallClock(), status::BadTimeout));
  }
  return out;
}

Result<std::vector<Sample>> LineStation::listen(Duration patience) {
  std::vector<Sample> out;
  for (std::size_t i = 0; i < kMostLines; ++i) {
    auto line = nextLine(i == 0 ? now() + patience : now());
    if (!line) return line.error();
    if (!*line) break;
    lastAt_ = now();
    lastTime_ = wallClock();
    last_ = answerIn(std::move(**line), settings_.questions[0]);
    for (PointIndex point = 0; point < points_.size(); ++point)
      if (!points_[point].field.empty()) out.push_back({point, valueOf(point, *last_, lastTime_)});
  }
  if (now() - lastAt_ > settings_.timeout)
    return Error{status::BadTimeout, fmt::format("{} has fallen silent", settings_.at.text()),
                 "look whether the device is on"};
  return out;
}

Result<Station::Explained> LineStation::explain(PointIndex point) {
  if (!link_.isOpen()) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const Question& question = settings_.questions[points_[point].question];
  Result<Answer> answer{Answer{}};
  if (!sendsByItself())
    answer = ask(question);
  else if (last_)
    answer = *last_;
  if (!answer) return answer.error();
  Explained out;
  if (!question.ask.empty()) out.trace.push_back({"asked", escaped(question.ask)});
  out.trace.push_back({"line", escaped(answer->line)});
  if (answer->fields) {
    std::string fields;
    for (const auto& [name, text] : *answer->fields)
      fields += fmt::format("{}{}: {}", fields.empty() ? "" : ", ", name, shown(text));
    out.trace.push_back({"fields", std::move(fields)});
  } else {
    out.trace.push_back({"error", proved(answer->line, settings_.checksum) ? "it looks otherwise than 'answer' says"
                                                                           : "its checksum is wrong"});
  }
  out.value = valueOf(point, *answer, wallClock());
  if (!out.value.value.isNull())
    out.trace.push_back({fmt::format("as {}", nameOf(out.value.value.type())), format(out.value.value)});
  return out;
}

Result<Station::Outcome> LineStation::write(const PointWrite& write) {
  if (!link_.isOpen()) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const LinePoint& point = points_[write.point];
  if (point.sends.empty() || write.bit >= 0)
    return Outcome{{status::BadNotWritable, fmt::format("the point {} sends nothing", point.point.name),
                    "write 'send TEXT' behind it"}};
  std::string text = plainText(write.value);
  // A value is part of a line, and never another line.
  if (std::ranges::any_of(text, [](char c) { return static_cast<unsigned char>(c) < 0x20; }))
    return Outcome{{status::BadOutOfRange, "a line takes no control characters", {}}};
  std::string line = point.sends;
  if (const auto at = line.find("{value}"); at != std::string::npos) line.replace(at, 7, text);
  line += checksumOf(line, settings_.checksum) + settings_.ends;
  if (auto sent = send(line); !sent) return sent.error();
  return Outcome{};
}

}  // namespace zunth::device::line
