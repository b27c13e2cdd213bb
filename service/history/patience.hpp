#pragma once

#include <chrono>
#include <condition_variable>
#include <mutex>
#include <optional>
#include <thread>

namespace zunth::history {

/// Ends a connection whose other side takes too long, for libraries that would wait for ever: its socket is shut down,
/// and whoever waits for it hears so.
class Patience {
 public:
  explicit Patience(int seconds) : patience_(seconds), thread_([this] { run(); }) {}
  ~Patience();
  Patience(const Patience&) = delete;
  Patience& operator=(const Patience&) = delete;

  /// The socket that is ended; it belongs to somebody who outlives us.
  void guard(int socket);

  /// A call that may take as long as the patience lasts.
  class Turn {
   public:
    explicit Turn(Patience& patience) : patience_(patience) { patience_.set(std::chrono::steady_clock::now()); }
    ~Turn() { patience_.set(std::nullopt); }
    Turn(const Turn&) = delete;
    Turn& operator=(const Turn&) = delete;

   private:
    Patience& patience_;
  };

 private:
  using Moment = std::chrono::steady_clock::time_point;
  void set(std::optional<Moment> since);
  void run();

  const std::chrono::seconds patience_;
  std::mutex mutex_;
  std::condition_variable changed_;
  int socket_ = -1;
  std::optional<Moment> since_;
  bool isStopping_ = false;
  std::thread thread_;
};

}  // namespace zunth::history
