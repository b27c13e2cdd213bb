#pragma once

#include "service/admin/audit_log.hpp"
#include "service/admin/push_configuration.hpp"
#include "service/admin/role_configuration.hpp"
#include "service/admin/site.hpp"
#include "service/admin/trust_store.hpp"
#include "service/admin/user_store.hpp"
#include "service/device/device.hpp"
#include "service/endpoint/listener.hpp"

#include <mutex>

#include <boost/asio/steady_timer.hpp>
#include <boost/asio/thread_pool.hpp>

namespace zunth::admin {

/// A site at work: its server listening, its devices polled, its bindings carried out. Runs on one loop.
class RunningSite {
 public:
  RunningSite(net::asio::io_context& loop, Site site);
  ~RunningSite();

  /// Listens and starts the devices. The endpoint URLs with their true ports, or why it can't.
  ua::Result<std::vector<std::string>> start();
  /// Reads the site's folder again and makes it so, as a whole or, when there are mistakes in it, not at all. Sessions
  /// and what they watch go on, but for nodes that are gone. What came of it is written to state/applied.json.
  void apply();
  /// Says goodbye to clients and devices.
  void stop();

  server::Server& server() { return *server_; }
  const std::vector<std::unique_ptr<device::Device>>& devices() const { return devices_; }

 private:
  void bindDevices();
  void bindDevice(std::size_t index);
  void writeRunningModel(const space::Space& model) const;
  /// The variables that show each point of a device; several may show the same.
  using Shown = std::map<device::PointIndex, std::vector<space::NodeIndex>>;
  void showLost(const Shown& shown, ua::DateTime when);

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
  void renewIdentity();

  net::asio::io_context& loop_;
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
  std::vector<std::unique_ptr<device::Device>> devices_;
  std::vector<std::shared_ptr<Shown>> shown_;  // by device
  net::asio::steady_timer stateTimer_;
  net::asio::steady_timer shutdown_;  // that an administrator asked for
  std::string trustSeen_, usersSeen_, ownSeen_, userTrustSeen_;  // the names and times of their files, as last seen
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  std::atomic<int> passwordsWaiting_{0};
  std::vector<std::jthread> retiring_;  // each waits for devices that are no longer bound
  net::asio::thread_pool hashing_{1};   // the last member: it ends before what its work uses
};

}  // namespace zunth::admin
