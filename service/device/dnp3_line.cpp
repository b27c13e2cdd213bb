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

Result<void> Line::send(std::uint16_t master, std::uint16_t outstation, BytesView fragment, Instant deadline,
                        bool isConfirmed) {
  const std::lock_guard lock(mutex_);
  if (!link_.isOpen()) return Error{status::BadNoCommunication, text() + " is not connected", {}};
  for (auto& segment : segmentsOf(fragment, peers_[outstation].sequence)) {
    Frame frame;
    frame.destination = outstation;
    frame.source = master;
    frame.data = std::move(segment);
    if (auto sent = isConfirmed ? sendConfirmed(std::move(frame), deadline) : put(frame, deadline); !sent) return sent;
  }
  return {};
}

Result<void> Line::put(const Frame& frame, Instant deadline) {
  auto sent = link_.send(encode(frame), deadline);
  if (!sent) link_.close();
  return sent;
}

/// What the outstation's link layer says to a frame; what else comes meanwhile is kept. BadTimeout.
Result<LinkFunction> Line::askLink(const Frame& frame, Instant deadline) {
  auto& answer = peers_[frame.destination].linkAnswer;
  answer.reset();
  if (auto sent = put(frame, deadline); !sent) return sent.error();
  while (!answer) {
    if (std::chrono::steady_clock::now() >= deadline)
      return Error{status::BadTimeout,
                   fmt::format("the link layer of outstation {} at {} does not answer", frame.destination, text()),
                   {}};
    if (auto heard = listen(frame.source, deadline); !heard) return heard.error();
  }
  return *answer;
}

/// By a link that is reset first, with a bit that alternates so that what is sent again isn't taken twice (9.2.6).
Result<void> Line::sendConfirmed(Frame frame, Instant deadline) {
  constexpr int kTries = 3;
  Peer& peer = peers_[frame.destination];
  const auto begun = std::chrono::steady_clock::now();
  const Duration share = (deadline - begun) / kTries;
  for (int i = 1; i <= kTries; ++i) {
    const Instant late = begun + share * i;
    if (!peer.sentBit) {
      Frame reset = frame;
      reset.function = LinkFunction::ResetLink;
      reset.countBit = reset.countValid = false;
      reset.data.clear();
      const auto answer = askLink(reset, late);
      if (!answer && answer.code() != status::BadTimeout) return answer.error();
      if (!answer || *answer != LinkFunction::Ack) continue;
      peer.sentBit = true;
    }
    frame.function = LinkFunction::ConfirmedData;
    frame.countBit = *peer.sentBit;
    frame.countValid = true;
    const auto answer = askLink(frame, late);
    if (!answer && answer.code() != status::BadTimeout) return answer.error();
    if (answer && *answer == LinkFunction::Ack) {
      peer.sentBit = !*peer.sentBit;
      return {};
    }
    // It knows of no reset, or is too busy.
    if (answer) peer.sentBit.reset();
  }
  peer.sentBit.reset();
  return Error{status::BadNoCommunication,
               fmt::format("the link layer of outstation {} at {} confirms nothing", frame.destination, text()),
               "leave 'link-confirm' out where it can't"};
}

Result<void> Line::test(std::uint16_t master, std::uint16_t outstation, Instant deadline) {
  const std::lock_guard lock(mutex_);
  if (!link_.isOpen()) return Error{status::BadNoCommunication, text() + " is not connected", {}};
  Frame frame;
  frame.function = LinkFunction::RequestStatus;
  frame.destination = outstation;
  frame.source = master;
  const auto answer = askLink(frame, deadline);
  return answer ? Result<void>() : Result<void>(answer.error());
}

/// Takes what comes in a short turn.
Result<void> Line::listen(std::uint16_t master, Instant deadline) {
  constexpr auto kTurn = std::chrono::milliseconds(20);
  const auto now = std::chrono::steady_clock::now();
  auto octets = link_.receive(std::min(deadline, now + kTurn));
  if (!octets) {
    link_.close();
    return octets.error();
  }
  frames_.feed(*octets);
  while (const auto frame = frames_.next()) take(*frame, master, now + std::chrono::seconds(1));
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
    default: peer.linkAnswer = frame.function; return;
  }
  if (auto fragment = peer.segments.feed(frame.data)) {
    if (peer.fragments.size() >= kMostWaiting) peer.fragments.pop_front();
    peer.fragments.push_back(std::move(*fragment));
  }
}

Result<std::optional<Bytes>> Line::receive(std::uint16_t master, std::uint16_t outstation, Instant deadline) {
  // In short turns, so that others on the line have theirs.
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
      if (auto heard = listen(master, deadline); !heard) return heard.error();
      if (auto came = take1()) return came;
    }
    if (std::chrono::steady_clock::now() >= deadline) return std::optional<Bytes>();
    std::this_thread::yield();
  }
}

}  // namespace zunth::device::dnp3
