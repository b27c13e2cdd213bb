#pragma once

#include <csignal>

#include "tests/service/process.hpp"

namespace zunth::test {

/// A real PostgreSQL with a folder and a socket of its own. It refuses to run as root, so that a plain user runs it
/// then.
class Database {
 public:
  Database() {
    std::filesystem::permissions(folder.path, std::filesystem::perms::all);
    const auto made = run(std::string(asPlainUser("--")) + kPrograms + "/initdb -D '" + data() +
                              "' -U zunth -A trust --no-sync >/dev/null",
                          folder.path);
    if (made.code != 0) throw std::runtime_error("no database: " + made.error);
    start();
  }
  ~Database() { stop(); }

  void start() {
    std::vector<std::string> command;
    if (::geteuid() == 0) command = {"/usr/bin/setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"};
    for (const auto& word :
         {std::string(kPrograms) + "/postgres", std::string("-D"), data(), std::string("-k"), folder.path.string(),
          std::string("-h"), std::string(), std::string("-c"), std::string("log_min_messages=panic")})
      command.push_back(word);
    process_ = std::make_unique<Process>(command);
    // It is there when it answers.
    for (int i = 0; i < 2'000 && query("select 1").out != "1\n"; ++i) ::usleep(10'000);
  }
  /// At once, as after a power cut.
  void stop() {
    if (process_) process_->stop(SIGQUIT);
    process_.reset();
  }
  /// Neither answers nor closes anything.
  void freeze() { ::kill(process_->id(), SIGSTOP); }
  void thaw() { ::kill(process_->id(), SIGCONT); }

  std::string address() const { return "postgresql://zunth@/postgres?host=" + folder.path.string(); }
  /// What a query gives, a line a row.
  Outcome query(const std::string& sql) const {
    return run(std::string(kPrograms) + "/psql -X -q -t -A '" + address() + "' -c \"" + sql + "\"", folder.path);
  }

  TemporaryFolder folder;

 private:
  static constexpr const char* kPrograms = "/usr/lib/postgresql/15/bin";
  static std::string asPlainUser(const std::string& end) {
    return ::geteuid() == 0 ? "setpriv --reuid=postgres --regid=postgres --clear-groups " + end + " " : std::string();
  }
  std::string data() const { return (folder.path / "data").string(); }
  std::unique_ptr<Process> process_;
};

}  // namespace zunth::test
