#pragma once

#include "service/admin/control.hpp"
#include "service/admin/site.hpp"
#include "service/device/bound_devices.hpp"

#include <boost/asio/thread_pool.hpp>

namespace zunth::admin {

/// Brings a running site to what its folder says: the folder is read and checked on a thread of its own, what differs
/// is swapped in one turn of the loop. With mistakes nothing changes.
class Applying {
 public:
  struct Parts {
    net::Executor services;
    Site& site;  // that runs
    server::Server& server;
    device::BoundDevices& devices;
    /// Takes settings over and tells sessions what they may now; what could not be done.
    std::function<std::vector<ua::Error>(const Site& wanted)> settle;
  };
  struct Wish {
    bool onlyShow = false;
    bool mayEmpty = false;  // a namespace may lose all its nodes
  };
  explicit Applying(Parts parts) : parts_(std::move(parts)) {}
  ~Applying() { *alive_ = false; }

  /// Answers {"applied", "added", "removed", "changed", "changes": […], "restart": […]} or {"applied": false,
  /// "findings": […]} or {"error": …}: BadInvalidState while another is under way. What was applied but for some of
  /// site.yaml names that as "failed".
  void apply(Wish wish, std::function<void(Json)> answer);

 private:
  Json swap(Site wanted, Wish wish);

  Parts parts_;
  bool isBusy_ = false;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  net::asio::thread_pool reading_{1};  // the last member: it ends before what its work uses
};

}  // namespace zunth::admin
