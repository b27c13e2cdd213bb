#include "service/endpoint/key_work.hpp"

#include <boost/asio/post.hpp>

namespace zunth::endpoint {

using namespace ua;

Result<void> KeyWork::put(std::function<void()> work, bool isOpen, std::function<void()> done) {
  {
    const std::lock_guard lock(guard_);
    if (!isOpen && handshakes_.size() >= kMostHandshakes)
      return Error{
          status::BadTcpServerTooBusy, "too many channels are being opened at once: try again in a second", {}};
    (isOpen ? renewals_ : handshakes_).push_back({std::move(work), std::move(done)});
  }
  boost::asio::post(thread_, [this] { workOn(); });
  return {};
}

/// One piece of work, renewals first.
void KeyWork::workOn() {
  Piece next;
  {
    const std::lock_guard lock(guard_);
    auto& from = renewals_.empty() ? handshakes_ : renewals_;
    next = std::move(from.front());
    from.pop_front();
  }
  next.work();
  next.work = {};  // before `done`: what they share is then the connection's alone
  next.done();
}

}  // namespace zunth::endpoint
