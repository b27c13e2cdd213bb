#pragma once

#include "core/history/archive.hpp"

#include <atomic>
#include <condition_variable>
#include <deque>
#include <memory>
#include <mutex>
#include <thread>
#include <unordered_map>

namespace zunth::history {

/// A store on a thread of its own.
class ArchiveThread final : public Archive {
 public:
  /// `post` brings work to the services' thread; `told` gets there in words what went wrong, and when it came right.
  ArchiveThread(std::unique_ptr<Store> store, std::function<void(std::function<void()>)> post,
                std::function<void(bool isGood, const std::string&)> told, std::function<ua::DateTime()> wallClock);
  /// Saves what has come.
  ~ArchiveThread() override;

  VariableId variable(const std::string& name) override;
  /// Where more waits than there is room for, it is given up, and marked as lost.
  void append(std::vector<Record> records) override;
  bool append(KeptEvent event) override;
  void perform(Work work) override;
  ua::DateTime watchedBefore() const override { return watchedBefore_; }
  ua::DateTime beginsAt() const override { return {beginsAt_.load()}; }

  static constexpr std::size_t kMostWaiting = 1'000'000, kMostEventsWaiting = 100'000;
  static constexpr std::size_t kMostWaitingOctets = 256u << 20;

 private:
  void run();
  void save();

  std::unique_ptr<Store> store_;  // of the thread
  const std::function<void(std::function<void()>)> post_;
  const std::function<void(bool, const std::string&)> told_;
  const std::function<ua::DateTime()> wallClock_;  // from any thread
  const ua::DateTime watchedBefore_;
  std::unordered_map<std::string, VariableId> ids_;
  std::unordered_map<VariableId, ua::DateTime> lostSince_;  // of variables whose samples found no room
  std::mutex mutex_;
  std::condition_variable something_;
  std::vector<std::string> newNames_;
  std::vector<Record> records_;
  std::size_t waitingOctets_ = 0;  // of their values, beside themselves
  std::vector<KeptEvent> events_;
  std::deque<Work> works_;
  std::atomic<std::int64_t> beginsAt_;  // ticks
  bool isStopping_ = false;
  bool isFailing_ = false;  // of the thread
  std::thread thread_;
};

}  // namespace zunth::history
