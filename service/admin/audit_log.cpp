#include "service/admin/audit_log.hpp"

#include "core/ua/json_parser.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>
#include <fstream>
#include <optional>

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;
using server::AuditRecord;
namespace fs = std::filesystem;

namespace {

constexpr const char* kNames[] = {"administration", "users", "strangers"};
constexpr const char* kOldName = "audit";  // of the one file that logs had before
constexpr std::int64_t kSpan = 10;         // s in which refusals are alike
constexpr unsigned kToldOneByOne = 5;
constexpr std::size_t kMostKinds = 1'000;  // of refusals that are told apart at a time
constexpr auto kKeptAtLeast = std::chrono::hours(24 * 731);

std::int64_t secondsBetween(DateTime from, DateTime to) { return (to.ticks - from.ticks) / 10'000'000; }

fs::path current(const fs::path& folder, std::string_view name) { return folder / fmt::format("{}.jsonl", name); }
fs::path aside(const fs::path& folder, std::string_view name, int number) {
  return folder / fmt::format("{}-{}.jsonl", name, number);
}

std::optional<AuditRecord> recordOf(const std::string& line) {
  auto parsed = parseJson(line);
  if (!parsed || !parsed->is_object()) return std::nullopt;
  auto text = [&json = *parsed](const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  const auto time = DateTime::parse(text("time"));
  const auto outcome = statusNamed(text("outcome"));
  if (!time || !outcome) return std::nullopt;
  return AuditRecord{*time, text("what"), text("who"), text("from"), text("application"), *outcome, text("about")};
}

std::string lineOf(const AuditRecord& record) {
  Json json{{"time", record.time.text()}, {"what", record.what}};
  if (!record.who.empty()) json["who"] = record.who;
  if (!record.from.empty()) json["from"] = record.from;
  if (!record.application.empty()) json["application"] = record.application;
  json["outcome"] = record.outcome.name();
  if (!record.about.empty()) json["about"] = record.about;
  return json.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
}

std::string hostOf(const std::string& address) { return address.substr(0, address.rfind(':')); }

}  // namespace

AuditLog::About AuditLog::aboutOf(const AuditRecord& record) {
  static constexpr std::string_view kUsual[] = {"connection",
                                                "session",
                                                "login",
                                                "session end",
                                                "write",
                                                "call",
                                                "add nodes",
                                                "delete nodes",
                                                "add references",
                                                "delete references",
                                                "certificate refused"};
  if (std::ranges::find(kUsual, record.what) == std::end(kUsual)) return About::Administration;
  return record.who.empty() ? About::Strangers : About::Users;
}

AuditLog::AuditLog(fs::path folder, Size size) : folder_(std::move(folder)), size_(size) {
  std::error_code ignored;
  fs::create_directories(folder_, ignored);
  fs::permissions(folder_, fs::perms::owner_all, ignored);
  for (const auto about : {About::Administration, About::Users, About::Strangers}) open(about);
}

AuditLog::~AuditLog() {
  tellSums({}, true);
  flush();
  for (const auto& file : files_) ::close(file.descriptor);
}

void AuditLog::open(About about) {
  const auto index = static_cast<std::size_t>(about);
  const fs::path path = current(folder_, kNames[index]);
  File& file = files_[index];
  file.descriptor = ::open(path.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600);
  std::error_code ignored;
  const auto held = fs::file_size(path, ignored);
  file.octets = ignored ? 0 : held;
}

void AuditLog::rotate(About about) {
  const auto index = static_cast<std::size_t>(about);
  const char* name = kNames[index];
  ::fsync(files_[index].descriptor);
  ::close(files_[index].descriptor);
  const int most = about == About::Users ? size_.files : std::max(size_.files / 3, 1);
  int last = 0;
  std::error_code ignored;
  while (fs::exists(aside(folder_, name, last + 1), ignored)) ++last;
  while (last >= most) {
    // What administrators did is kept by its age.
    const auto oldest = aside(folder_, name, last);
    const auto age = fs::file_time_type::clock::now() - fs::last_write_time(oldest, ignored);
    if (about == About::Administration && age < kKeptAtLeast) break;
    fs::remove(oldest, ignored);
    --last;
  }
  for (int i = last; i >= 1; --i) fs::rename(aside(folder_, name, i), aside(folder_, name, i + 1), ignored);
  fs::rename(current(folder_, name), aside(folder_, name, 1), ignored);
  open(about);
}

void AuditLog::append(const AuditRecord& record) {
  const About about = aboutOf(record);
  File& file = files_[static_cast<std::size_t>(about)];
  const std::string line = lineOf(record);
  if (file.octets > 0 && file.octets + line.size() > size_.octets) rotate(about);
  const auto written = ::write(file.descriptor, line.data(), line.size());
  if (written > 0) file.octets += static_cast<std::uintmax_t>(written);
  file.isDirty = true;
  bool isSafe = written == static_cast<ssize_t>(line.size());
  if (about == About::Administration) {
    isSafe &= ::fsync(file.descriptor) == 0;
    file.isDirty = false;
  }
  // Said when it begins and when it is over, not for every line.
  if (!isSafe && !std::exchange(failed_, true))
    logs::site().error("the audit log in {} can't be written; what happens is not recorded", folder_.string());
  if (isSafe && std::exchange(failed_, false))
    logs::site().warn("the audit log in {} is written again", folder_.string());
  // What is left of a line that didn't fit doesn't spoil the next one.
  if (!isSafe && written > 0) (void)!::write(file.descriptor, "\n", 1);
}

bool AuditLog::isSummedUp(const AuditRecord& record) {
  if (!record.outcome.isBad() && aboutOf(record) != About::Strangers) return false;
  if (aboutOf(record) == About::Administration) return false;
  std::string key = fmt::format("{}\n{}\n{}\n{}", record.what, record.who, hostOf(record.from), record.outcome.value);
  // Beyond so many kinds at once, all further ones are one.
  if (repeated_.size() >= kMostKinds && !repeated_.contains(key)) key.clear();
  auto& alike = repeated_[key];
  if (alike.count == 0) alike.since = record.time;
  ++alike.count;
  alike.last = record;
  return alike.count > kToldOneByOne || key.empty();
}

void AuditLog::tellSums(DateTime now, bool all) {
  std::vector<Repeated> over;
  std::erase_if(repeated_, [&](const auto& entry) {
    const bool isOver = all || secondsBetween(entry.second.since, now) >= kSpan;
    if (isOver) over.push_back(entry.second);
    return isOver;
  });
  for (auto& alike : over) {
    const unsigned more = alike.count - std::min(alike.count, kToldOneByOne);
    if (more == 0) continue;
    alike.last.about = fmt::format("and {} more like this within {} s, the last: {}", more, kSpan, alike.last.about);
    append(alike.last);
  }
}

void AuditLog::write(const AuditRecord& record) {
  if (!isSummedUp(record)) append(record);
}

void AuditLog::flush() {
  tellSums(DateTime::from(std::chrono::system_clock::now()), false);
  for (auto& file : files_)
    if (std::exchange(file.isDirty, false)) ::fsync(file.descriptor);
}

void AuditLog::read(const fs::path& folder, const std::function<void(const AuditRecord&)>& visit) {
  // Each kind of file is in order of time; they are merged.
  struct Reader {
    std::vector<fs::path> files;  // the oldest last
    std::ifstream file;
    std::optional<AuditRecord> next;
    void advance() {
      next.reset();
      while (!next) {
        std::string line;
        if (std::getline(file, line)) {
          next = recordOf(line);
        } else {
          if (files.empty()) return;
          file = std::ifstream(files.back());
          files.pop_back();
        }
      }
    }
  };
  std::vector<Reader> readers;
  for (const char* name : {kOldName, kNames[0], kNames[1], kNames[2]}) {
    auto& reader = readers.emplace_back();
    reader.files.push_back(current(folder, name));
    for (int i = 1; fs::exists(aside(folder, name, i)); ++i) reader.files.push_back(aside(folder, name, i));
    reader.advance();
  }
  while (true) {
    Reader* first = nullptr;
    for (auto& reader : readers)
      if (reader.next && (!first || reader.next->time < first->next->time)) first = &reader;
    if (!first) return;
    visit(*first->next);
    first->advance();
  }
}

}  // namespace zunth::admin
