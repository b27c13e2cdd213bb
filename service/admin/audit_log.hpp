#pragma once

#include "service/server/audit_record.hpp"

#include <filesystem>
#include <fstream>
#include <functional>

namespace zunth::admin {

/// The audit log of a site in state/audit: a JSON object a line, only ever appended to. A full file is put aside as
/// audit-1.jsonl, the one before as audit-2.jsonl and so on; the oldest go.
class AuditLog {
 public:
  struct Size {
    std::uintmax_t octets = 16u << 20;  // of one file
    int files = 10;                     // beside the one that is written
  };
  explicit AuditLog(std::filesystem::path folder, Size size);
  explicit AuditLog(std::filesystem::path folder) : AuditLog(std::move(folder), Size()) {}

  /// Appends a line. One that can't be written is an error in the service's own log, not for the client.
  void write(const server::AuditRecord& record);
  /// Puts what was written on the disk, for others to read.
  void flush() { file_.flush(); }

  /// Calls `visit` with each line that can be read, the oldest first.
  static void read(const std::filesystem::path& folder, const std::function<void(const server::AuditRecord&)>& visit);

 private:
  void open();
  void rotate();

  std::filesystem::path folder_;
  Size size_;
  std::ofstream file_;
  std::uintmax_t written_ = 0;
  bool failed_ = false;
};

}  // namespace zunth::admin
