#pragma once

#include "service/client/session.hpp"
#include "service/console/alarm_book.hpp"
#include "service/server/server.hpp"

namespace zunth::console {

/// Where somebody works who has logged in: one session at the server for all their pages. It may do what its user may,
/// no more. On the services' executor.
class Desk {
 public:
  Desk(server::Server& server, std::shared_ptr<client::Session> session, std::string user, std::string host)
      : alarms(std::make_shared<AlarmBook>(server.space())),
        server_(server),
        session_(std::move(session)),
        user_(std::move(user)),
        host_(std::move(host)) {}

  const std::shared_ptr<client::Session>& session() const { return session_; }
  /// Empty for an anonymous one.
  const std::string& user() const { return user_; }
  const std::string& host() const { return host_; }
  std::string who() const { return user_.empty() ? "Anonymous" : user_; }
  /// Whether its session goes on.
  bool isOpen() const { return server_.isSession(session_->id()); }
  /// What the user may do now; nothing once the session has ended.
  const space::Rights& rights() const;
  bool hasRole(ua::StandardId role) const { return rights().hasRole(ua::NodeId(role)); }

  const std::shared_ptr<AlarmBook> alarms;
  /// The draft that was last looked at with its devices' values: the audit log is told of each text once.
  std::string previewed;

 private:
  server::Server& server_;
  std::shared_ptr<client::Session> session_;
  std::string user_, host_;
};

}  // namespace zunth::console
