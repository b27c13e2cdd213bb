#pragma once

#include "service/admin/alarm_keeper.hpp"
#include "service/admin/applying.hpp"
#include "service/admin/audit_log.hpp"
#include "service/admin/certificate_alarm.hpp"
#include "service/admin/device_desk.hpp"
#include "service/admin/historian.hpp"
#include "service/admin/office.hpp"
#include "service/admin/push_configuration.hpp"
#include "service/admin/role_configuration.hpp"
#include "service/admin/site.hpp"
#include "service/admin/trust_store.hpp"
#include "service/admin/user_store.hpp"
#include "service/endpoint/listener.hpp"

#include <mutex>
#include <optional>

#include <boost/asio/steady_timer.hpp>
#include <boost/asio/thread_pool.hpp>

namespace zunth::admin {

/// A site at work: its server listening, its devices polled, its bindings carried out. All calls on the services'
/// executor.
class RunningSite {
 public:
  RunningSite(const net::Loops& loops, Site site);
  ~RunningSite();

  /// Listens and starts the devices. The endpoint URLs with their true ports, or why it can't.
  ua::Result<std::vector<std::string>> start();
  /// Says goodbye to clients and devices.
  void stop();

  server::Server& server() { return *server_; }

 private:
  void applied(const std::string& who, const Json& told);
  void openOffice();
  void settle(const Site& wanted);
  void bindHistory();
  void tellAsMuchAs(const std::string& level) const;
  void showUsers();

  ua::Result<void> secure();
  void checkPassword(std::string name, std::string password, std::function<void(ua::Result<server::Account>)> done);
  void record(const char* what, ua::StatusCode outcome, std::string about);
  /// From any thread.
  void recordLater(const char* what, ua::StatusCode outcome, std::string about);
  ua::Result<void> judge(const ua::ByteString& chain);
  ua::Result<server::Account> accountOf(const UserStore::User& user) const;
  ua::Result<server::Account> accountOf(const ua::ByteString& chain) const;
  ua::Result<server::Account> accountOf(const server::User& user) const;
  ua::Result<server::User> userOf(const std::string& token) const;
  void watchState();
  void lookAtState();
  void renewIdentity();

  const net::Loops loops_;
  TrustStore trust_;
  std::mutex judging_;
  UserStore users_;
  AuditLog audit_;
  ua::Result<void> secured_;
  Site site_;
  std::unique_ptr<server::Server> server_;
  std::unique_ptr<PushConfiguration> pushed_;
  std::unique_ptr<RoleConfiguration> roles_;
  std::unique_ptr<endpoint::Listener> listener_;
  std::shared_ptr<device::BoundDevices> devices_;
  std::optional<DeviceDesk> desk_;
  std::optional<Historian> historian_;
  std::optional<AlarmKeeper> alarmKeeper_;
  std::optional<CertificateAlarm> certificateAlarm_;
  std::unique_ptr<Applying> applying_;
  Office office_;  // on the thread of hashing_
  Control control_;
  net::asio::steady_timer stateTimer_;
  net::asio::steady_timer shutdown_;                             // that an administrator asked for
  std::string trustSeen_, usersSeen_, ownSeen_, userTrustSeen_;  // the names and times of their files, as last seen
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  const int usualLog_;  // the level that the command line gave
  std::atomic<int> passwordsWaiting_{0};
  net::asio::thread_pool hashing_{1};  // the last member: it ends before what its work uses
};

}  // namespace zunth::admin
