#pragma once

#include "service/admin/site.hpp"
#include "service/admin/trust_store.hpp"
#include "service/admin/user_store.hpp"
#include "service/device/device.hpp"
#include "service/server/listener.hpp"

#include <boost/asio/steady_timer.hpp>

namespace zunth::admin {

/// A site at work: its server listening, its devices polled, its bindings carried out. Runs on one loop.
class RunningSite {
 public:
  RunningSite(net::asio::io_context& loop, Site site);
  ~RunningSite();

  /// Listens and starts the devices. The endpoint URLs with their true ports, or why it can't.
  ua::Result<std::vector<std::string>> start();
  /// Says goodbye to clients and devices.
  void stop();

  server::Server& server() { return *server_; }
  const std::vector<std::unique_ptr<device::Device>>& devices() const { return devices_; }

 private:
  void bindDevice(std::size_t index);
  /// The variables that show each point of a device; several may show the same.
  using Shown = std::map<device::PointIndex, std::vector<space::NodeIndex>>;
  void showLost(const Shown& shown, ua::DateTime when);

  ua::Result<void> secure();
  ua::Result<void> judge(const ua::ByteString& chain);
  void watchTrust();

  net::asio::io_context& loop_;
  TrustStore trust_;
  UserStore users_;
  ua::Result<void> secured_;
  Site site_;
  std::unique_ptr<server::Server> server_;
  std::unique_ptr<server::Listener> listener_;
  std::vector<std::unique_ptr<device::Device>> devices_;
  std::vector<std::shared_ptr<Shown>> shown_;  // by device
  net::asio::steady_timer trustTimer_;
  std::string trustSeen_;  // the names and times of the files of trust, as last seen
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::admin
