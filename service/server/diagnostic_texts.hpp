#pragma once

#include "core/ua/generated/structures.hpp"

#include <string>

namespace zunth::server {

/// What a client asked to be told about failures, by the bits of its request header (Part 4, 7.33): five for the
/// service, the same five for each operation.
struct WantedDiagnostics {
  std::uint32_t mask = 0;
  std::uint32_t ofService() const { return mask & 0x1F; }
  std::uint32_t ofOperations() const { return (mask >> 5) & 0x1F; }
};

/// The strings of a response that its DiagnosticInfos point to, each once (Part 4, 7.34).
class StringTable {
 public:
  std::int32_t number(const std::string& text);
  bool isEmpty() const { return strings_.empty(); }
  ua::List<ua::String> take() { return std::move(strings_); }

 private:
  ua::List<ua::String> strings_;
};

/// What there is to tell about a failure, as far as it was asked for: the code's symbol, and the cause in words.
ua::DiagnosticInfo describe(const ua::Error& error, std::uint32_t wanted, StringTable& strings);

/// Collects the diagnostics of a request's operations: nothing unless they were asked for and there is something to
/// tell.
class OperationDiagnostics {
 public:
  explicit OperationDiagnostics(WantedDiagnostics wanted) : wanted_(wanted.ofOperations()) {}
  void note(std::size_t operation, const ua::Error& error);
  /// Puts one entry for each of `operations`, or none at all, into `infos`, and the strings into the header.
  void give(ua::ResponseHeader& header, ua::List<ua::DiagnosticInfo>& infos, std::size_t operations);

 private:
  std::uint32_t wanted_;
  StringTable strings_;
  ua::List<ua::DiagnosticInfo> infos_;
};

}  // namespace zunth::server
