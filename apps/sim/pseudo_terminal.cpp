#include "apps/sim/pseudo_terminal.hpp"

#include <cerrno>
#include <cstring>
#include <stdexcept>

#include <fcntl.h>
#include <fmt/format.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <termios.h>
#include <unistd.h>

namespace zunth::sim {

PseudoTerminal::PseudoTerminal(std::string path) : path_(std::move(path)) {
  here_ = ::posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK);
  char name[64];
  const bool isMade =
      here_ >= 0 && ::grantpt(here_) == 0 && ::unlockpt(here_) == 0 && ::ptsname_r(here_, name, sizeof name) == 0;
  if (isMade) there_ = ::open(name, O_RDWR | O_NOCTTY);
  if (there_ < 0) throw std::runtime_error(fmt::format("no pseudo-terminal can be made: {}", std::strerror(errno)));
  termios how{};
  ::tcgetattr(there_, &how);
  ::cfmakeraw(&how);
  ::tcsetattr(there_, TCSANOW, &how);
  struct stat found {};
  if (::lstat(path_.c_str(), &found) == 0 && S_ISLNK(found.st_mode)) ::unlink(path_.c_str());
  if (::symlink(name, path_.c_str()) != 0)
    throw std::runtime_error(fmt::format("{} can't be made: {}", path_, std::strerror(errno)));
}

PseudoTerminal::~PseudoTerminal() {
  ::unlink(path_.c_str());
  ::close(there_);
  ::close(here_);
}

}  // namespace zunth::sim
