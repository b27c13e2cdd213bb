#include "service/admin/audit_log.hpp"

#include <fstream>

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::audit_log_test {

using namespace zunth::ua;
using admin::AuditLog;
using server::AuditRecord;

namespace {

AuditRecord record(std::int64_t second, const char* what, std::string who, StatusCode outcome, std::string about = "x",
                   std::string from = "192.0.2.7:51234") {
  return {DateTime{133'000'000'000'000'000 + second * 10'000'000},
          what,
          std::move(who),
          std::move(from),
          "urn:test",
          outcome,
          std::move(about)};
}

std::vector<AuditRecord> read(const std::filesystem::path& folder) {
  std::vector<AuditRecord> out;
  AuditLog::read(folder, [&](const AuditRecord& one) { out.push_back(one); });
  return out;
}

std::size_t count(const std::vector<AuditRecord>& records, std::string_view what) {
  return static_cast<std::size_t>(std::ranges::count(records, what, &AuditRecord::what));
}

}  // namespace

TEST_CASE("a stranger wants to wash the audit trail away", "[intruder][audit]") {
  spdlog::set_level(spdlog::level::off);
  test::TemporaryFolder folder;
  AuditLog log(folder.path / "audit", {10'000, 3});
  log.write(record(0, "model applied", {}, status::Good));
  log.write(record(1, "write", "berta", status::Good, "DF1/speed = 3"));
  // Each from another place and about something else, so that nothing is summed up.
  for (int i = 0; i < 20'000; ++i)
    log.write(record(2 + i, "session", {}, status::BadTooManySessions, std::string(100, 'x') + std::to_string(i),
                     "192.0.2." + std::to_string(i) + ":1"));
  // A user who may do little can't push out what administrators did, either.
  for (int i = 0; i < 20'000; ++i)
    log.write(record(30'000 + i, "call", "mallory" + std::to_string(i), status::BadUserAccessDenied));
  const auto all = read(folder.path / "audit");
  CHECK(count(all, "model applied") == 1);
  CHECK(count(all, "session") > 0);
  std::uintmax_t octets = 0;
  for (const auto& file : std::filesystem::directory_iterator(folder.path / "audit")) octets += file.file_size();
  CHECK(octets < 90'000);
  CHECK(std::ranges::is_sorted(all, {}, [](const AuditRecord& one) { return one.time.ticks; }));
}

TEST_CASE("refusals that repeat themselves are summed up", "[audit]") {
  test::TemporaryFolder folder;
  {
    AuditLog log(folder.path / "audit");
    for (int i = 0; i < 1'000; ++i)
      log.write(record(1, "write", "mallory", status::BadUserAccessDenied, std::to_string(i)));
    for (int i = 0; i < 1'000; ++i) log.write(record(1, "connection", {}, status::BadTcpMessageTypeInvalid));
    // What went well is told one by one.
    for (int i = 0; i < 100; ++i) log.write(record(1, "write", "berta", status::Good));
    log.write(record(1, "login", "berta", status::BadUserAccessDenied));
  }
  const auto all = read(folder.path / "audit");
  CHECK(count(all, "connection") == 6);
  CHECK(count(all, "login") == 1);
  CHECK(count(all, "write") == 106);
  CHECK(std::ranges::any_of(all, [](const AuditRecord& one) {
    return one.who == "mallory" && one.about == "and 995 more like this within 10 s, the last: 999";
  }));
}

TEST_CASE("a line of the audit log is there at once, whatever happens to the process", "[audit]") {
  test::TemporaryFolder folder;
  AuditLog log(folder.path / "audit");
  log.write(record(1, "write", "berta", status::Good));
  CHECK(read(folder.path / "audit").size() == 1);  // by another reader, with nothing flushed
  // Half a line that a full disk left, and what an older version wrote, are no harm.
  std::ofstream(folder.path / "audit/users.jsonl", std::ios::app) << "{\"time\":\"2022-0";
  std::ofstream(folder.path / "audit/audit.jsonl")
      << R"({"time":"2020-01-01T00:00:00Z","what":"start","outcome":"Good"})"
      << "\n";
  CHECK(read(folder.path / "audit").size() == 2);
  CHECK(read(folder.path / "audit")[0].what == "start");
}

}  // namespace zunth::audit_log_test
