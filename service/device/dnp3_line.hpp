#pragma once

#include "service/device/dnp3_link.hpp"
#include "service/device/octet_link.hpp"

#include <deque>
#include <map>
#include <memory>
#include <mutex>

namespace zunth::device::dnp3 {

/// A TCP connection or a serial line with one outstation or several, which share it: one speaks at a time, and what the
/// others send meanwhile is kept for them. From any thread; a call may block until its deadline.
class Line {
 public:
  /// The one line to an address, made when nobody has it.
  static std::shared_ptr<Line> to(const LinkAddress& address);

  ua::Result<void> connect(ua::Instant deadline);
  /// Sends a fragment to an outstation; with its link layer confirming each frame, where that is wanted: each is sent
  /// three times at most, and none is taken twice. BadNoCommunication when it doesn't.
  ua::Result<void> send(std::uint16_t master, std::uint16_t outstation, ua::BytesView fragment, ua::Instant deadline,
                        bool isConfirmed = false);
  /// Whether the outstation's link layer answers; BadTimeout, BadNoCommunication.
  ua::Result<void> test(std::uint16_t master, std::uint16_t outstation, ua::Instant deadline);
  /// The next fragment of an outstation; nothing when none comes in time.
  ua::Result<std::optional<ua::Bytes>> receive(std::uint16_t master, std::uint16_t outstation, ua::Instant deadline);
  /// It is to be connected anew: nobody can tell whose octets come next.
  void giveUp();
  /// Counts connections: what was before another one is over.
  int generation() const;
  std::string text() const { return link_.address().text(); }

 private:
  static constexpr std::size_t kMostWaiting = 32;  // fragments of one outstation
  explicit Line(LinkAddress address) : link_(std::move(address)) {}
  ua::Result<void> listen(std::uint16_t master, ua::Instant deadline);
  void take(const Frame& frame, std::uint16_t master, ua::Instant deadline);
  ua::Result<void> put(const Frame& frame, ua::Instant deadline);
  ua::Result<LinkFunction> askLink(const Frame& frame, ua::Instant deadline);
  ua::Result<void> sendConfirmed(Frame frame, ua::Instant deadline);

  mutable std::mutex mutex_;
  OctetLink link_;
  FrameReader frames_;
  int generation_ = 0;
  struct Peer {
    SegmentReader segments;
    std::deque<ua::Bytes> fragments;
    std::uint8_t sequence = 0;     // of what is sent to it
    std::optional<bool> countBit;  // of the last confirmed frame that came
    std::optional<bool> sentBit;   // of the next confirmed frame that goes; nothing before its link was reset
    std::optional<LinkFunction> linkAnswer;
  };
  std::map<std::uint16_t, Peer> peers_;  // by outstation
};

}  // namespace zunth::device::dnp3
