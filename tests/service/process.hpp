#pragma once

#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <string>
#include <utility>
#include <vector>

#include <fcntl.h>
#include <poll.h>
#include <sys/wait.h>
#include <unistd.h>

namespace zunth::test {

inline std::string program(const std::string& name) { return std::string(ZUNTH_BINARY_DIR) + "/bin/" + name; }

/// A program that runs beside the test, killed with it.
class Process {
 public:
  explicit Process(std::vector<std::string> command) {
    int lines[2];
    if (::pipe2(lines, O_CLOEXEC) != 0) throw std::runtime_error("no pipe");
    pid_ = ::fork();
    if (pid_ == 0) {
      ::dup2(lines[1], STDOUT_FILENO);
      std::vector<char*> arguments;
      for (auto& word : command) arguments.push_back(word.data());
      arguments.push_back(nullptr);
      ::execv(arguments[0], arguments.data());
      ::_exit(127);
    }
    ::close(lines[1]);
    out_ = lines[0];
  }
  Process(const Process&) = delete;
  ~Process() {
    stop(SIGKILL);
    ::close(out_);
  }
  /// The next line of its output; empty when it ends or says nothing for so long.
  std::string line(int timeoutMs = 120'000) {
    while (true) {
      if (const auto end = buffer_.find('\n'); end != std::string::npos) {
        std::string text = buffer_.substr(0, end);
        buffer_.erase(0, end + 1);
        return text;
      }
      pollfd waiting{out_, POLLIN, 0};
      if (::poll(&waiting, 1, timeoutMs) <= 0) return {};
      char piece[4096];
      const auto size = ::read(out_, piece, sizeof piece);
      if (size <= 0) return std::exchange(buffer_, {});
      buffer_.append(piece, static_cast<std::size_t>(size));
    }
  }
  pid_t id() const { return pid_; }
  /// The exit code once it has ended by itself or by the signal; -1 when the signal ended it.
  int stop(int signal = SIGTERM) {
    if (pid_ <= 0) return -1;
    ::kill(pid_, signal);
    return wait();
  }
  void signal(int signal) const { ::kill(pid_, signal); }
  int wait() {
    int status = 0;
    ::waitpid(std::exchange(pid_, 0), &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
  }

 private:
  pid_t pid_ = 0;
  int out_ = -1;
  std::string buffer_;
};

struct Outcome {
  int code;
  std::string out, error;
};

/// Runs a command to its end, with a home of its own so that it meets no saved places.
inline Outcome run(const std::string& command, const std::filesystem::path& folder) {
  const auto errors = folder / "stderr.txt";
  FILE* pipe = ::popen(("cd '" + folder.string() + "' && HOME='" + folder.string() + "' XDG_CONFIG_HOME= " + command +
                        " 2>'" + errors.string() + "'")
                           .c_str(),
                       "r");
  Outcome outcome{-1, {}, {}};
  char piece[4096];
  while (const auto size = ::fread(piece, 1, sizeof piece, pipe)) outcome.out.append(piece, size);
  const int status = ::pclose(pipe);
  outcome.code = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
  std::ifstream file(errors);
  outcome.error.assign(std::istreambuf_iterator<char>(file), {});
  return outcome;
}

/// A folder that goes with the test.
class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "zunth-test-XXXXXX").string();
    if (!::mkdtemp(name.data())) throw std::runtime_error("no folder");
    path = name;
  }
  ~TemporaryFolder() {
    std::error_code ignored;
    std::filesystem::remove_all(path, ignored);
  }
  void write(const std::string& name, const std::string& text) const {
    std::filesystem::create_directories((path / name).parent_path());
    std::ofstream(path / name) << text;
  }
  std::filesystem::path path;
};

}  // namespace zunth::test
