#pragma once

#include "core/ua/basic_types.hpp"

#include <string>

namespace zunth::server {

/// What somebody did, or tried to: a line of the audit log.
struct AuditRecord {
  ua::DateTime time;
  std::string what;         // "login", "write", ...
  std::string who;          // the user; "Anonymous", or empty before anybody has logged in
  std::string from;         // "127.0.0.1:51234"; empty for the service itself
  std::string application;  // the client's URI
  ua::StatusCode outcome;
  std::string about;  // the node, the certificate, the session
};

}  // namespace zunth::server
