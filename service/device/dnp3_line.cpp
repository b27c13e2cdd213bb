#include "service/device/dnp3_line.hpp"

#include "service/device/shared_by_name.hpp"

#include <algorithm>
#include <thread>

#include <fmt/format.h>

namespace zunth::device::dnp3 {

using namespace ua;

std::shared_ptr<Line> Line::to(const LinkAddress& address) {
  static SharedByName<std::string, Line> lines;
  return lines.get(address.text(), [&] { return std::shared_ptr<Line>(new Line(address)); });
}

int Line::generation() const {
  const std::lock_guard lock(mutex_);
  return generation_;
}

Result<void> Line::connect(Instant deadline) {
  const std::lock_guard lock(mutex_);
  if (link_.isOpen()) return {};
  frames_ = FrameReader();
  peers_.clear();
  ++generation_;
  return link_.open(deadline);
}

void Line::giveUp() {
  const std::lock_guard lock(mutex_);
  link_.close();
}

Result<void> Line::send(std::uint16_t master, std::uint16_t outstation, BytesView fragment, Instant deadline) {
  const std::lock_guard lock(mutex_);
  if (!link_.isOpen()) return Error{status::BadNoCommunication, text() + " is not connected", {}};
  for (auto& segment : segmentsOf(fragment, peers_[outstation].sequence)) {
    Frame frame;
    frame.destination = outstation;
    frame.source = master;
    frame.data = std::move(segment);
    if (auto sent = link_.send(encode(frame), deadline); !sent) {
      link_.close();
      return sent;
    }
  }
  return {};
}

/// Answers what the link layer asks, and keeps what is meant for those above it.
void Line::take(const Frame& frame, std::uint16_t master, Instant deadline) {
  if (frame.isFromMaster || frame.destination != master) return;
  const auto answer = [&](LinkFunction function) {
    Frame out;
    out.function = function;
    out.destination = frame.source;
    out.source = master;
    (void)link_.send(encode(out), deadline);
  };
  // Only those that somebody waits for are kept anything for.
  const auto known = peers_.find(frame.source);
  if (known == peers_.end()) return;
  Peer& peer = known->second;
  switch (frame.function) {
    case LinkFunction::ResetLink: peer.countBit = false; return answer(LinkFunction::Ack);
    case LinkFunction::TestLink: return answer(LinkFunction::Ack);
    case LinkFunction::RequestStatus: return answer(LinkFunction::LinkStatus);
    case LinkFunction::ConfirmedData: {
      answer(LinkFunction::Ack);
      // One that comes again as its acknowledgement was lost is not another one.
      if (peer.countBit && *peer.countBit == frame.countBit) return;
      peer.countBit = frame.countBit;
      break;
    }
    case LinkFunction::UnconfirmedData: break;
    default: return;
  }
  if (auto fragment = peer.segments.feed(frame.data)) {
    if (peer.fragments.size() >= kMostWaiting) peer.fragments.pop_front();
    peer.fragments.push_back(std::move(*fragment));
  }
}

Result<std::optional<Bytes>> Line::receive(std::uint16_t master, std::uint16_t outstation, Instant deadline) {
  // In short turns, so that others on the line have theirs.
  constexpr auto kTurn = std::chrono::milliseconds(20);
  while (true) {
    {
      const std::lock_guard lock(mutex_);
      auto& fragments = peers_[outstation].fragments;
      const auto take1 = [&]() -> std::optional<Bytes> {
        if (fragments.empty()) return std::nullopt;
        Bytes out = std::move(fragments.front());
        fragments.pop_front();
        return out;
      };
      if (auto waiting = take1()) return waiting;
      if (!link_.isOpen()) return Error{status::BadNoCommunication, text() + " is not connected", {}};
      const auto now = std::chrono::steady_clock::now();
      auto octets = link_.receive(std::min(deadline, now + kTurn));
      if (!octets) {
        link_.close();
        return octets.error();
      }
      frames_.feed(*octets);
      while (const auto frame = frames_.next()) take(*frame, master, now + std::chrono::seconds(1));
      if (auto came = take1()) return came;
    }
    if (std::chrono::steady_clock::now() >= deadline) return std::optional<Bytes>();
    std::this_thread::yield();
  }
}

}  // namespace zunth::device::dnp3
