#pragma once

#include "core/ua/instant.hpp"
#include "service/server/audit_record.hpp"

#include <array>
#include <filesystem>
#include <functional>
#include <unordered_map>

namespace zunth::admin {

/// The audit log of a site in state/audit: JSON objects, a line each, only ever appended to, in three files that don't
/// push each other out: what changed the security or the model (administration), what users did (users), and what came
/// from those who hadn't logged in (strangers). A full file is put aside as users-1.jsonl, the one before as
/// users-2.jsonl and so on; of strangers the oldest go soon, of users when there are many, and of administration only
/// when they are older than two years.
///
/// A line is written at once, and synced to the disk within a second, for administration at once. Refusals that repeat
/// themselves are summed up: after the first few alike of ten seconds comes a line that counts the rest.
class AuditLog {
 public:
  struct Size {
    std::uintmax_t octets = 16u << 20;  // of one file
    int files = 10;                     // of users', beside the one that is written; of strangers' a third
  };
  explicit AuditLog(std::filesystem::path folder, Size size);
  explicit AuditLog(std::filesystem::path folder) : AuditLog(std::move(folder), Size()) {}
  ~AuditLog();
  AuditLog(const AuditLog&) = delete;
  AuditLog& operator=(const AuditLog&) = delete;

  /// Appends a line. One that can't be written is an error in the service's own log, not for the client.
  void write(const server::AuditRecord& record);
  /// To be called each second: what was written is on the disk, what was summed up is written.
  void flush();

  /// Calls `visit` with each line that can be read, the oldest first.
  static void read(const std::filesystem::path& folder, const std::function<void(const server::AuditRecord&)>& visit);

 private:
  enum class About : std::size_t { Administration, Users, Strangers };
  struct File {
    int descriptor = -1;
    std::uintmax_t octets = 0;
    bool isDirty = false;
  };
  /// Refusals that are alike, from the first of a span on.
  struct Repeated {
    server::AuditRecord last;
    ua::DateTime since;
    unsigned count = 0;
  };
  static About aboutOf(const server::AuditRecord& record);
  void open(About about);
  void rotate(About about);
  void append(const server::AuditRecord& record);
  /// True when the record is only counted.
  bool isSummedUp(const server::AuditRecord& record);
  void tellSums(ua::DateTime now, bool all);

  std::filesystem::path folder_;
  Size size_;
  std::array<File, 3> files_;
  std::unordered_map<std::string, Repeated> repeated_;
  bool failed_ = false;
};

}  // namespace zunth::admin
