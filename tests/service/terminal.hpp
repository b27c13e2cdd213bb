#pragma once

#include <chrono>
#include <csignal>
#include <string>
#include <vector>

#include <poll.h>
#include <pty.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

namespace zunth::test {

/// A program in a terminal of its own.
class Terminal {
 public:
  Terminal(std::vector<std::string> command, unsigned short lines, unsigned short columns) {
    winsize size{lines, columns, 0, 0};
    pid_ = ::forkpty(&screen_, nullptr, nullptr, &size);
    if (pid_ == 0) {
      std::vector<char*> arguments;
      for (auto& word : command) arguments.push_back(word.data());
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(127);
    }
  }
  Terminal(const Terminal&) = delete;
  ~Terminal() {
    ::kill(pid_, SIGKILL);
    ::waitpid(pid_, nullptr, 0);
    ::close(screen_);
  }
  void resize(unsigned short lines, unsigned short columns) const {
    winsize size{lines, columns, 0, 0};
    ::ioctl(screen_, TIOCSWINSZ, &size);
  }
  void type(const std::string& keys) const { (void)!::write(screen_, keys.data(), keys.size()); }
  /// All that it writes until it has written this, has ended, or has said nothing for ten seconds.
  std::string until(const std::string& text) {
    std::string seen;
    while (seen.find(text) == std::string::npos) {
      pollfd waiting{screen_, POLLIN, 0};
      char buffer[4096];
      if (::poll(&waiting, 1, 10'000) <= 0) break;
      const auto count = ::read(screen_, buffer, sizeof buffer);
      if (count <= 0) break;
      seen.append(buffer, static_cast<std::size_t>(count));
    }
    return seen;
  }

 private:
  pid_t pid_ = -1;
  int screen_ = -1;
};

}  // namespace zunth::test
