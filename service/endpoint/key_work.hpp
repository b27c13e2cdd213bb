#pragma once

#include "core/ua/result.hpp"

#include <deque>
#include <functional>
#include <mutex>

#include <boost/asio/thread_pool.hpp>

namespace zunth::endpoint {

/// Work with keys has a thread of its own, and a queue of limited length: who opens channels by the hundred keeps
/// nobody waiting who has one, as renewals come first. From any thread.
class KeyWork {
 public:
  /// `done` is called on the thread of the work, and only to pass on that it is done. BadTcpServerTooBusy when too much
  /// waits, unless the channel is open already; then neither is called.
  ua::Result<void> put(std::function<void()> work, bool isOpen, std::function<void()> done);

 private:
  static constexpr std::size_t kMostHandshakes = 64;  // that wait; each takes a millisecond or two
  struct Piece {
    std::function<void()> work, done;
  };
  void workOn();

  std::mutex guard_;
  std::deque<Piece> renewals_, handshakes_;  // under guard_
  boost::asio::thread_pool thread_{1};       // the last member: it ends before what its work uses
};

}  // namespace zunth::endpoint
