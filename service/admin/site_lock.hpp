#pragma once

#include "core/ua/result.hpp"

#include <filesystem>

namespace zunth::admin {

/// The right to serve a site: one process has it, until it ends, however it ends.
class SiteLock {
 public:
  /// BadResourceUnavailable with the number of the process that serves it.
  static ua::Result<SiteLock> take(const std::filesystem::path& site);
  SiteLock(SiteLock&& other) noexcept : descriptor_(other.descriptor_) { other.descriptor_ = -1; }
  SiteLock& operator=(SiteLock&&) = delete;
  ~SiteLock();

 private:
  explicit SiteLock(int descriptor) : descriptor_(descriptor) {}
  int descriptor_;
};

}  // namespace zunth::admin
