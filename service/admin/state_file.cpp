#include "service/admin/state_file.hpp"

#include <atomic>
#include <cerrno>
#include <cstring>

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

namespace {

std::atomic<int> failing{0};

/// Whether this is the call that a test wants to fail.
bool isToFail() {
  int left = failing.load();
  if (left <= 0) return false;
  failing.store(left - 1);
  if (left > 1) return false;
  errno = ENOSPC;
  return true;
}

Error cannot(const fs::path& file, const char* doing) {
  const int why = errno;
  const StatusCode code = why == ENOSPC || why == EDQUOT || why == EFBIG  ? status::BadOutOfMemory
                          : why == EACCES || why == EPERM || why == EROFS ? status::BadUserAccessDenied
                                                                          : status::BadResourceUnavailable;
  return {code, fmt::format("{} can't be {}: {}", file.string(), doing, std::strerror(why)),
          "look at the disk's room and the folder's owner"};
}

struct Descriptor {
  int fd;
  ~Descriptor() {
    if (fd >= 0) ::close(fd);
  }
};

Result<void> writeAll(int fd, const fs::path& file, std::string_view text) {
  while (!text.empty()) {
    const ssize_t written = isToFail() ? -1 : ::write(fd, text.data(), text.size());
    if (written < 0 && errno == EINTR) continue;
    if (written < 0) return cannot(file, "written");
    text.remove_prefix(static_cast<std::size_t>(written));
  }
  if (isToFail() || ::fsync(fd) != 0) return cannot(file, "written to the disk");
  return {};
}

}  // namespace

void failReplacingAt(int call) { failing.store(call); }

Result<void> replaceFile(const fs::path& file, std::string_view text, unsigned mode) {
  static std::atomic<unsigned> number{0};
  std::error_code failed;
  if (!file.parent_path().empty()) fs::create_directories(file.parent_path(), failed);
  fs::path beside = file;
  beside += fmt::format(".{}-{}.new", ::getpid(), number.fetch_add(1));
  auto written = [&]() -> Result<void> {
    const Descriptor out{isToFail() ? -1 : ::open(beside.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode)};
    if (out.fd < 0) return cannot(file, "made");
    return writeAll(out.fd, file, text);
  }();
  if (written && (isToFail() || ::rename(beside.c_str(), file.c_str()) != 0))
    written = cannot(file, "put in its place");
  if (!written) {
    ::unlink(beside.c_str());
    return written;
  }
  const fs::path folder = file.has_parent_path() ? file.parent_path() : fs::path(".");
  const Descriptor directory{::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC)};
  if (directory.fd >= 0) ::fsync(directory.fd);
  return {};
}

}  // namespace zunth::admin
