#pragma once

#include "service/admin/control.hpp"
#include "service/server/audit_record.hpp"
#include "service/server/server.hpp"

namespace zunth::admin {

/// Who is connected, how, and what they do: for administrators by whichever door; and how one of them is sent away. On
/// the services' executor; the server outlives it.
class ClientDesk {
 public:
  using Record = std::function<void(const server::AuditRecord&)>;
  ClientDesk(server::Server& server, Record record) : server_(server), record_(std::move(record)) {}
  /// Answers its verbs from now on: "clients", and "end client" with the session's id.
  void open(Control& control);

  /// A line a session, the longest here first: id, name, application, user, from, security, policy, since, lastHeard,
  /// subscriptions, items, reads, writes.
  static Json clientsOf(const server::Server& server);

 private:
  ua::Result<Json> end(const Actor& actor, const Json& asked);

  server::Server& server_;
  Record record_;
};

}  // namespace zunth::admin
