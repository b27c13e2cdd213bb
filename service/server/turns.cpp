#include "service/server/turns.hpp"

namespace zunth::server {

using namespace ua;

Turns::~Turns() {
  for (const auto& waiting : waiting_) waiting.job.destroy();
}

void Turns::add(std::coroutine_handle<> job, const std::shared_ptr<Peer>& peer, const NodeId& session,
                const Reply& reply) {
  peer->hold();
  waiting_.push_back({job, peer, session, reply});
}

void Turns::run(Duration length) {
  if (waiting_.empty()) return;
  begin(length);
  do {
    const Waiting next = std::move(waiting_.front());
    waiting_.pop_front();
    // It stands in the queue again when it isn't done; its connection is held by that.
    if (next.reply.isDeliverable())
      next.job.resume();
    else
      next.job.destroy();
    next.peer->release();
  } while (!waiting_.empty() && !slice_.lookAgain());
}

void Turns::drop(const NodeId& session, const Error& why, DateTime wallClock) {
  for (std::size_t i = 0; i < waiting_.size();) {
    if (!(waiting_[i].session == session)) {
      ++i;
      continue;
    }
    const Waiting dropped = std::move(waiting_[i]);
    waiting_.erase(waiting_.begin() + static_cast<std::ptrdiff_t>(i));
    dropped.job.destroy();
    dropped.reply.fault(why, wallClock);
    dropped.peer->release();
  }
}

}  // namespace zunth::server
