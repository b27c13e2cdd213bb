#pragma once

#include "service/admin/alarm_keeper.hpp"
#include "service/admin/applying.hpp"
#include "service/admin/audit_log.hpp"
#include "service/admin/certificate_alarm.hpp"
#include "service/admin/client_desk.hpp"
#include "service/admin/device_desk.hpp"
#include "service/admin/discovery_file.hpp"
#include "service/admin/historian.hpp"
#include "service/admin/interfaces.hpp"
#include "service/admin/log_desk.hpp"
#include "service/admin/office.hpp"
#include "service/admin/push_configuration.hpp"
#include "service/admin/role_configuration.hpp"
#include "service/admin/site.hpp"
#include "service/admin/trust_list_alarm.hpp"
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
  const server::Server& server() const { return *server_; }
  endpoint::Listener& listener() { return *listener_; }
  const Control& control() const { return control_; }
  const Site& site() const { return site_; }
  const std::filesystem::path& folder() const { return site_.folder; }
  /// Where browsers are to find the console: "http://127.0.0.1:8046"; empty for nowhere, just now.
  std::string consoleUrl() const {
    return interfaces_ && interfaces_->isInhibited(Interfaces::kConsole) ? std::string() : site_.console;
  }
  /// Called when other settings have come to count.
  void onSettled(std::function<void()> settled) { settled_ = std::move(settled); }
  void record(const server::AuditRecord& record) { audit_.write(record); }
  /// What a user of this name may do now, for what is done in their name while they are away. BadUserAccessDenied.
  ua::Result<space::Rights> rightsOf(const std::string& user) const;
  /// Where the newest lines of the service's log are kept, for who asks for them at the control door.
  using KeptLog = LogDesk::Kept;
  void showLog(std::shared_ptr<KeptLog> kept) { log_.open(control_, std::move(kept)); }

 private:
  void applied(const std::string& who, const Json& told);
  void openOffice();
  std::vector<ua::Error> settle(const Site& wanted);
  void bindHistory();
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
  LogDesk log_;
  ua::Result<void> secured_;
  Site site_;
  std::unique_ptr<server::Server> server_;
  std::unique_ptr<PushConfiguration> pushed_;
  std::unique_ptr<RoleConfiguration> roles_;
  std::unique_ptr<endpoint::Listener> listener_;
  std::optional<Interfaces> interfaces_;
  std::optional<DiscoveryFile> discovered_;
  std::shared_ptr<device::BoundDevices> devices_;
  std::optional<DeviceDesk> desk_;
  std::optional<ClientDesk> clients_;
  std::optional<Historian> historian_;
  std::optional<AlarmKeeper> alarmKeeper_;
  std::optional<CertificateAlarm> certificateAlarm_;
  std::optional<TrustListAlarm> trustListAlarm_;
  std::unique_ptr<Applying> applying_;
  Office office_;  // on the thread of hashing_
  Control control_;
  net::asio::steady_timer stateTimer_;
  net::asio::steady_timer shutdown_;                             // that an administrator asked for
  std::string trustSeen_, usersSeen_, ownSeen_, userTrustSeen_;  // the names and times of their files, as last seen
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  std::function<void()> settled_;
  std::atomic<int> passwordsWaiting_{0};
  net::asio::thread_pool hashing_{1};  // the last member: it ends before what its work uses
};

}  // namespace zunth::admin
