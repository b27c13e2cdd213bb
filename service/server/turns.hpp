#pragma once

#include "core/ua/slice.hpp"
#include "service/server/job.hpp"
#include "service/server/peer.hpp"

#include <deque>

namespace zunth::server {

/// Jobs whose slice was over, in the order in which they go on. Each turn of the loop gives one slice away; who waits
/// here reads nothing more from its connection, so that one client has one job here, or few.
class Turns {
 public:
  explicit Turns(std::function<ua::Instant()> clock) : clock_(std::move(clock)) {}
  ~Turns();

  /// A new slice begins, for a request that just came or for anything else of this turn.
  ua::Slice& begin(ua::Duration length) { return slice_ = ua::Slice(clock_, length); }
  ua::Slice& slice() { return slice_; }
  /// Lets the jobs go on that were first in line, until the slice is over.
  void run(ua::Duration length);
  bool hasWork() const { return !waiting_.empty(); }
  /// What a session still has to do is not done any more, and answered so.
  void drop(const ua::NodeId& session, const ua::Error& why, ua::DateTime wallClock);

  /// `co_await turns.next(...)`: goes on at once while the slice lasts, else in another turn. A job whose client has
  /// gone, or whose session ended, never goes on.
  struct Next {
    Turns& turns;
    const std::shared_ptr<Peer>& peer;
    const ua::NodeId& session;
    const Reply& reply;
    bool mayBeLong;
    bool await_ready() const { return mayBeLong ? !turns.slice_.lookAgain() : !turns.slice_.isOver(); }
    void await_suspend(std::coroutine_handle<> job) const { turns.add(job, peer, session, reply); }
    void await_resume() const {}
  };

 private:
  struct Waiting {
    std::coroutine_handle<> job;
    std::shared_ptr<Peer> peer;
    ua::NodeId session;  // its token
    Reply reply;
  };
  void add(std::coroutine_handle<> job, const std::shared_ptr<Peer>& peer, const ua::NodeId& session,
           const Reply& reply);

  std::function<ua::Instant()> clock_;
  ua::Slice slice_;
  std::deque<Waiting> waiting_;
};

}  // namespace zunth::server
