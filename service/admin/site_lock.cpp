#include "service/admin/site_lock.hpp"

#include <cerrno>
#include <cstring>
#include <fstream>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;

Result<SiteLock> SiteLock::take(const std::filesystem::path& site) {
  std::error_code ignored;
  std::filesystem::create_directories(site / "state", ignored);
  const auto file = site / "state/lock";
  const int descriptor = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
  if (descriptor < 0)
    return Error{status::BadUserAccessDenied,
                 fmt::format("{} can't be opened: {}", file.string(), std::strerror(errno)),
                 "the folder state/ must belong to whom the service runs as"};
  if (::flock(descriptor, LOCK_EX | LOCK_NB) != 0) {
    std::string process;
    std::ifstream(file) >> process;
    ::close(descriptor);
    return Error{status::BadResourceUnavailable,
                 fmt::format("{} is served already, by process {}", site.string(), process),
                 fmt::format("bring it up to date with: zunth apply --site {}", site.string())};
  }
  // For people only: the lock is what counts.
  const std::string process = fmt::format("{}\n", ::getpid());
  if (::ftruncate(descriptor, 0) != 0 || ::pwrite(descriptor, process.data(), process.size(), 0) < 0) errno = 0;
  return SiteLock(descriptor);
}

SiteLock::~SiteLock() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

}  // namespace zunth::admin
