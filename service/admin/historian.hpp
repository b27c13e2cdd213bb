#pragma once

#include "service/admin/history_settings.hpp"
#include "service/history/archive_thread.hpp"
#include "service/server/server.hpp"

#include <filesystem>
#include <map>

namespace zunth::admin {

/// Keeps a site's history under state/history, or in a database, as its settings say. All calls on the services'
/// thread.
class Historian {
 public:
  /// `post` brings work to the services' thread, while the site is at work.
  Historian(server::Server& server, std::filesystem::path folder, std::function<void(std::function<void()>)> post)
      : server_(server), folder_(std::move(folder)), post_(std::move(post)) {}

  /// Follows the model and the settings as they are now. Nothing is opened while no variable has a history. Why it
  /// can't be kept, when it can't.
  ua::Result<void> bind(const HistorySettings& settings);
  /// A value of a variable that came late.
  void take(space::NodeIndex variable, ua::DataValue past) {
    if (recorder_) recorder_->take(variable, std::move(past));
  }
  /// Once a second.
  void tick();
  /// Saves what has come; nothing is recorded any more.
  void stop();

 private:
  ua::Result<void> open();
  void forgetOld();
  std::map<double, std::vector<std::string>> keptForLess() const;

  server::Server& server_;
  const std::filesystem::path folder_;
  const std::function<void(std::function<void()>)> post_;
  HistorySettings settings_;
  std::string database_;  // that the archive is in; empty for files
  std::unique_ptr<history::ArchiveThread> archive_;
  std::unique_ptr<history::Recorder> recorder_;
  std::uint32_t beats_ = 0;
  /// Names in the store of what a rule keeps for a shorter time than the rest, by days; found when the model or the
  /// settings changed.
  std::shared_ptr<const std::map<double, std::vector<std::string>>> keptForLess_;
  bool hasRecorded_ = false;  // since the archive was opened
};

/// The store that these settings mean, in a site's state folder. `told` gets in words when the database goes and comes.
ua::Result<std::unique_ptr<history::Store>> openHistory(
    const HistorySettings& settings, const std::filesystem::path& folder, const std::string& applicationUri,
    std::function<void(bool isGood, const std::string& words)> told);

}  // namespace zunth::admin
