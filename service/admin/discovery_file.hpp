#pragma once

#include "service/admin/state_list.hpp"
#include "service/device/bound_devices.hpp"

#include <map>

namespace zunth::admin {

/// What the devices of a site have discovered, kept in state/discovered.json so that the same nodes are there after a
/// start, whether or not the device is. On the services' executor; the file is written aside, a second after news.
class DiscoveryFile final : public device::DiscoveredPoints {
 public:
  struct Parts {
    std::filesystem::path file;
    std::function<void(ua::Duration, std::function<void()>)> after;
    std::function<void(std::function<void()>)> aside;  // one thing after another
  };
  explicit DiscoveryFile(Parts parts);

  /// What was kept; the errors of StateList::load(), after which nothing is written over it.
  ua::Result<void> load();
  /// The last word, at once; nothing is being written aside.
  void finish();

  std::vector<device::Discovered> of(const device::DeviceFile& device) const override;
  void add(const device::DeviceFile& device, const std::vector<device::Discovered>& points) override;
  void forget(const std::string& device) override;

 private:
  struct Entry {
    std::string asked;  // by the device's file
    std::vector<device::Discovered> points;
  };
  void changed();
  ua::Json list() const;

  Parts parts_;
  StateList kept_;
  std::map<std::string, Entry> entries_;
  bool isOpen_ = false;      // it was read, and may be written
  bool isNews_ = false;      // that nobody has been asked to write
  bool hasChanged_ = false;  // since load()
};

}  // namespace zunth::admin
