#include "service/device/file_station.hpp"

#include "core/model/table.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"
#include "service/device/polled.hpp"

#include <algorithm>
#include <csignal>
#include <thread>

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <spawn.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

extern char** environ;

namespace zunth::device::files {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

constexpr std::size_t kMostOctets = 1 << 20;

class Descriptor {
 public:
  explicit Descriptor(int number) : number_(number) {}
  ~Descriptor() { close(); }
  Descriptor(const Descriptor&) = delete;
  int number() const { return number_; }
  void close() {
    if (number_ >= 0) ::close(number_);
    number_ = -1;
  }

 private:
  int number_;
};

std::string_view lineAt(std::string_view text, const FilePoint& point) {
  int number = 0;
  while (!text.empty()) {
    const auto end = std::min(text.find('\n'), text.size());
    const std::string_view line = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    ++number;
    const bool isIt = !point.key.empty() ? trimmed(line).starts_with(point.key)
                      : point.line > 0   ? number == point.line
                                         : !trimmed(line).empty();
    if (isIt) return line;
  }
  return {};
}

/// Between blanks.
std::vector<std::string_view> wordsIn(std::string_view line) {
  std::vector<std::string_view> out;
  for (std::size_t at = line.find_first_not_of(" \t"); at < line.size(); at = line.find_first_not_of(" \t", at)) {
    const auto end = std::min(line.find_first_of(" \t", at), line.size());
    out.push_back(trimmed(line.substr(at, end - at)));
    at = end;
  }
  return out;
}

/// The last line that isn't empty.
std::string_view lastLine(std::string_view text) {
  text = trimmed(text);
  const auto before = text.rfind('\n');
  return before == std::string_view::npos ? text : text.substr(before + 1);
}

}  // namespace

std::optional<FilePoint> parsePoint(const DeviceText::PointText& text, Conversion& conversion, Findings& findings) {
  FilePoint out;
  out.point.name = text.name.text;
  out.point.where = text.words.text;
  out.point.type = BuiltInType::Variant;
  const auto words = wordsOf(text.words);
  const auto fail = [&](const Text& at, std::string message, std::string hint) {
    findings.error(at.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  constexpr const char* kHelp =
      "as in: file /proc/loadavg word 1, csv day.csv column oxygen, run [df --output=avail /] line 2";
  if (words.size() < 2) return fail(text.words, "a point is a file or a program", kHelp);
  std::size_t i = 2;
  if (words[0].text == "run") {
    std::size_t end = 1;
    while (end < words.size() && !words[end].text.ends_with(']')) ++end;
    if (!words[1].text.starts_with('[') || end == words.size())
      return fail(words[1], "a program stands in brackets", kHelp);
    for (std::size_t k = 1; k <= end; ++k) {
      std::string word = words[k].text;
      if (k == 1) word.erase(0, 1);
      if (k == end) word.pop_back();
      if (!word.empty()) out.command.push_back(std::move(word));
    }
    if (out.command.empty()) return fail(words[1], "no program is named", kHelp);
    i = end + 1;
  } else if (words[0].text == "file" || words[0].text == "csv") {
    out.file = words[1].text;
  } else {
    return fail(words[0], fmt::format("'{}' is neither 'file', 'csv' nor 'run'", words[0].text), kHelp);
  }
  while (i < words.size()) {
    const auto isConversion = readConversion(words, i, conversion, findings);
    if (!isConversion) return std::nullopt;
    if (*isConversion) continue;
    const std::string& word = words[i].text;
    const std::string next = i + 1 < words.size() ? words[i + 1].text : std::string();
    if (word == "key" && !next.empty()) {
      out.key = next;
    } else if (word == "column" && !next.empty()) {
      out.column = next;
    } else if (word == "line" || word == "word") {
      const auto number = parse(next, BuiltInType::UInt16);
      if (!number || *number->get<std::uint16_t>() == 0)
        return fail(words[i], fmt::format("'{}' needs a number from 1", word), kHelp);
      (word == "line" ? out.line : out.word) = *number->get<std::uint16_t>();
    } else {
      return fail(words[i], fmt::format("'{}' means nothing here", word), kHelp);
    }
    i += 2;
  }
  if ((words[0].text == "csv") != !out.column.empty())
    return fail(words[0], "'csv' and 'column' belong together", kHelp);
  if (!checkConversion(conversion, out.point.type, text.words, findings)) return std::nullopt;
  return out;
}

Result<Variant> valueIn(const FilePoint& point, std::string_view text) {
  const Error nothing{status::BadNoData, fmt::format("{} is not there", point.point.where), {}};
  if (!point.column.empty()) {
    const std::string ends = fmt::format("{}\n{}\n", text.substr(0, text.find('\n')), lastLine(text));
    model::Findings findings;
    const auto rows = model::readCsv({}, ends, findings);
    if (findings.hasErrors() || rows.size() < 2) return nothing;
    const auto column =
        static_cast<std::size_t>(std::ranges::find(rows[0], point.column, &Text::text) - rows[0].begin());
    const bool isThere = column < rows[0].size() && column < rows[1].size() && text.find('\n') < trimmed(text).size();
    return isThere ? Result<Variant>(plainValue(rows[1][column].text)) : nothing;
  }
  const std::string_view line = lineAt(text, point);
  if (trimmed(line).empty()) return nothing;
  if (point.word == 0) return plainValue(point.key.empty() ? line : trimmed(line).substr(point.key.size()));
  const auto words = wordsIn(line);
  if (static_cast<std::size_t>(point.word) > words.size()) return nothing;
  return plainValue(words[static_cast<std::size_t>(point.word) - 1]);
}

Result<std::string> contentOf(const std::filesystem::path& file) {
  // A pipe that nobody writes to must not hold anybody up.
  Descriptor in(::open(file.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
  if (in.number() < 0)
    return Error{errno == EACCES ? status::BadUserAccessDenied : status::BadNotFound,
                 fmt::format("{} can't be read: {}", file.string(), std::strerror(errno)),
                 {}};
  struct stat about {};
  const bool isLarge =
      ::fstat(in.number(), &about) == 0 && S_ISREG(about.st_mode) && about.st_size > static_cast<off_t>(kMostOctets);
  std::string out;
  char piece[65'536];
  const auto take = [&](std::size_t most) {
    while (out.size() < most) {
      const auto size = ::read(in.number(), piece, std::min(sizeof piece, most - out.size()));
      if (size <= 0) break;
      out.append(piece, static_cast<std::size_t>(size));
    }
  };
  if (!isLarge) {
    take(kMostOctets);
    return out;
  }
  // The first line stays, as it names the columns; of the rest the end counts.
  take(sizeof piece);
  out.resize(std::min(out.find('\n') + 1, out.size()));
  ::lseek(in.number(), about.st_size - static_cast<off_t>(kMostOctets - sizeof piece), SEEK_SET);
  take(kMostOctets);
  return out;
}

Result<std::string> outputOf(const std::vector<std::string>& command, Duration patience) {
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return Error{status::BadResourceUnavailable, "no pipe can be made", {}};
  Descriptor out(ends[0]), in(ends[1]);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_adddup2(&actions, in.number(), STDOUT_FILENO);
  posix_spawnattr_t attributes;
  posix_spawnattr_init(&attributes);
  posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
  posix_spawnattr_setpgroup(&attributes, 0);  // its children end with it
  std::vector<char*> arguments;
  for (const auto& word : command) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  pid_t child = 0;
  const int failure = ::posix_spawnp(&child, arguments[0], &actions, &attributes, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  posix_spawnattr_destroy(&attributes);
  in.close();
  if (failure != 0)
    return Error{status::BadDeviceFailure, fmt::format("{} can't be run: {}", command[0], std::strerror(failure)), {}};
  const auto deadline = std::chrono::steady_clock::now() + patience;
  std::string text;
  bool isLate = false;
  while (true) {
    const auto left =
        std::chrono::duration_cast<std::chrono::milliseconds>(deadline - std::chrono::steady_clock::now());
    pollfd waiting{out.number(), POLLIN, 0};
    isLate = left.count() <= 0 || ::poll(&waiting, 1, static_cast<int>(left.count())) == 0;
    if (isLate) break;
    char piece[4096];
    const auto size = ::read(out.number(), piece, sizeof piece);
    if (size <= 0) break;
    if (text.size() < kMostOctets) text.append(piece, static_cast<std::size_t>(size));
  }
  // One that has closed its output may go on all the same.
  int status = 0;
  while (!isLate && ::waitpid(child, &status, WNOHANG) == 0) {
    isLate = std::chrono::steady_clock::now() >= deadline;
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  if (isLate) {
    ::kill(-child, SIGKILL);
    ::waitpid(child, &status, 0);
  }
  if (isLate) return Error{status::BadTimeout, fmt::format("{} did not end in time and was ended", command[0]), {}};
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0)
    return Error{status::BadDeviceFailure, fmt::format("{} ended with an error", command[0]), {}};
  return text;
}

DriverSetup readDevice(const DeviceText& text, Findings& findings) {
  DriverSetup setup;
  setup.address = "this machine";
  const Duration patience = milliseconds(durationOf(text.root, "timeout", 2'000, findings));
  auto points = readPoints<FilePoint>(text, setup, findings, parsePoint);
  for (auto& point : points)
    if (!point.file.empty()) point.file = text.folder / point.file;
  setup.make = [points = std::move(points), patience](const std::string& device) {
    return std::make_unique<Polled>(device, std::make_unique<FileStation>(points, patience));
  };
  return setup;
}

FileStation::FileStation(std::vector<FilePoint> points, Duration patience)
    : points_(std::move(points)), patience_(patience) {
  for (const auto& each : points_) names_.push_back(each.point);
}

Result<std::string> FileStation::fetch(const FilePoint& point) const {
  return point.command.empty() ? contentOf(point.file) : outputOf(point.command, patience_);
}

Result<std::vector<DataValue>> FileStation::read(std::span<const PointIndex> points) {
  using Source = std::pair<std::filesystem::path, std::vector<std::string>>;
  std::map<Source, Result<std::string>> texts;
  std::vector<DataValue> values;
  for (const PointIndex index : points) {
    const FilePoint& point = points_[index];
    const Source source{point.file, point.command};
    auto text = texts.find(source);
    if (text == texts.end()) text = texts.emplace(source, fetch(point)).first;
    const DateTime now = wallClock();
    auto value = text->second ? valueIn(point, *text->second) : Result<Variant>(text->second.error());
    values.push_back(value ? DataValue(std::move(*value), now) : DataValue(Variant(), now, value.code()));
  }
  return values;
}

Result<Station::Explained> FileStation::explain(PointIndex index) {
  const FilePoint& point = points_[index];
  Explained out;
  out.value.sourceTimestamp = wallClock();
  const auto text = fetch(point);
  const auto value = text ? valueIn(point, *text) : Result<Variant>(text.error());
  constexpr std::size_t kShown = 200;
  if (text)
    out.trace.push_back({point.command.empty() ? "file" : "output",
                         shown(trimmed(point.column.empty() ? lineAt(*text, point) : lastLine(*text)), kShown)});
  if (value)
    out.trace.push_back({fmt::format("as {}", nameOf(value->type())), format(*value)});
  else
    out.trace.push_back({"error", value.error().cause});
  out.value.value = value ? *value : Variant();
  out.value.status = value.code();
  return out;
}

Result<Station::Outcome> FileStation::write(const PointWrite& write) {
  return Outcome{{status::BadNotWritable, fmt::format("{} is only read", names_[write.point].name), {}}};
}

}  // namespace zunth::device::files
