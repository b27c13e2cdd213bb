#pragma once

#include "service/history/sqlite.hpp"
#include "service/server/server.hpp"

#include <condition_variable>
#include <mutex>
#include <thread>

namespace zunth::admin {

/// Keeps how alarms stand in a file, so that acknowledgements, comments, shelves and branches outlive a stop, however
/// it comes. What has changed is on its way to the disk at once, and there within a commit of SQLite. All calls on the
/// services' thread.
class AlarmKeeper {
 public:
  /// `post` brings work to the services' thread, while the site is at work.
  AlarmKeeper(server::Server& server, std::filesystem::path file, std::function<void(std::function<void()>)> post);
  ~AlarmKeeper();

  /// Lets the alarms go on as the file has them. A file that can't be read is put aside, which is the error's cause;
  /// they begin anew then, and are kept in a new one.
  ua::Result<void> open();
  /// Saves what has changed.
  void stop();

 private:
  using States = std::unordered_map<std::string, ua::Bytes>;  // by name; without octets for one that is gone
  ua::Result<void> openFile();
  ua::Result<States> read();
  void take();
  void takeSoon();
  void run();
  ua::Result<void> write(const States& states);

  server::Server& server_;
  const std::filesystem::path file_;
  const std::function<void(std::function<void()>)> post_;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  history::Database database_;
  std::mutex mutex_;
  std::condition_variable something_;
  States waiting_;
  bool isStopping_ = false, isFailing_ = false;
  std::thread thread_;
};

}  // namespace zunth::admin
