#pragma once

#include "service/server/announcer.hpp"
#include "service/server/turns.hpp"

namespace zunth::server {

/// One request and all that belongs to it but its own fields. A job keeps it as long as it works.
struct Context {
  std::shared_ptr<Peer> peer;
  Session* session = nullptr;     // of requests that need one
  std::uint32_t requestType = 0;  // the id of its encoding
  ua::String auditEntryId;
  ua::Duration patience{};  // how long the client waits; none for as long as it takes
  Reply reply;
  ua::Instant now{};
  ua::DateTime wallClock;

  /// What the caller may do; to be asked only where there is a session.
  const space::Rights& rights() const { return session->rights; }
  Announcer::Actor actor() const { return {session, auditEntryId, *peer}; }
  /// When the client no longer waits for an answer.
  ua::Instant giveUpAt() const { return patience == ua::Duration() ? ua::Instant::max() : now + patience; }
  /// See Turns::next().
  Turns::Next turn(Turns& turns, bool mayBeLong = false) const {
    return {turns, peer, session->token, reply, mayBeLong};
  }
};

/// Octets that a response may still grow by.
class Room {
 public:
  explicit Room(std::size_t octets) : left_(octets) {}
  std::size_t left() const { return left_; }
  bool isOver() const { return isOver_; }
  void take(std::size_t octets) {
    isOver_ |= octets > left_;
    left_ -= std::min(left_, octets);
  }

 private:
  std::size_t left_;
  bool isOver_ = false;
};

}  // namespace zunth::server
