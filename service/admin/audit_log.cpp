#include "service/admin/audit_log.hpp"

#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <spdlog/spdlog.h>

namespace zunth::admin {

using namespace ua;
using server::AuditRecord;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

constexpr const char* kCurrent = "audit.jsonl";

fs::path aside(const fs::path& folder, int number) { return folder / fmt::format("audit-{}.jsonl", number); }

std::optional<AuditRecord> recordOf(const std::string& line) {
  const Json json = Json::parse(line, nullptr, false);
  if (!json.is_object()) return std::nullopt;
  auto text = [&json](const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  const auto time = DateTime::parse(text("time"));
  const auto outcome = statusNamed(text("outcome"));
  if (!time || !outcome) return std::nullopt;
  return AuditRecord{*time, text("what"), text("who"), text("from"), text("application"), *outcome, text("about")};
}

}  // namespace

AuditLog::AuditLog(fs::path folder, Size size) : folder_(std::move(folder)), size_(size) { open(); }

void AuditLog::open() {
  std::error_code ignored;
  fs::create_directories(folder_, ignored);
  fs::permissions(folder_, fs::perms::owner_all, ignored);
  file_.open(folder_ / kCurrent, std::ios::app | std::ios::binary);
  const auto held = fs::file_size(folder_ / kCurrent, ignored);
  written_ = ignored ? 0 : held;
}

void AuditLog::rotate() {
  file_.close();
  std::error_code ignored;
  fs::remove(aside(folder_, size_.files), ignored);
  for (int i = size_.files - 1; i >= 1; --i) fs::rename(aside(folder_, i), aside(folder_, i + 1), ignored);
  fs::rename(folder_ / kCurrent, aside(folder_, 1), ignored);
  open();
}

void AuditLog::write(const AuditRecord& record) {
  Json json{{"time", record.time.text()}, {"what", record.what}};
  if (!record.who.empty()) json["who"] = record.who;
  if (!record.from.empty()) json["from"] = record.from;
  if (!record.application.empty()) json["application"] = record.application;
  json["outcome"] = record.outcome.name();
  if (!record.about.empty()) json["about"] = record.about;
  const std::string line = json.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
  if (written_ > 0 && written_ + line.size() > size_.octets) rotate();
  file_ << line;
  written_ += line.size();
  // Said once, not for every line.
  if (!file_ && !std::exchange(failed_, true))
    spdlog::error("the audit log in {} can't be written; what happens is not recorded", folder_.string());
  if (!file_) file_.clear();
}

void AuditLog::read(const fs::path& folder, const std::function<void(const AuditRecord&)>& visit) {
  int oldest = 0;
  while (fs::exists(aside(folder, oldest + 1))) ++oldest;
  for (int i = oldest; i >= 0; --i) {
    std::ifstream file(i ? aside(folder, i) : folder / kCurrent);
    for (std::string line; std::getline(file, line);)
      if (auto record = recordOf(line)) visit(*record);
  }
}

}  // namespace zunth::admin
