// Written against the octets of the standard, apart from the master that it tries.
#include "apps/sim/outstation.hpp"

#include "apps/sim/listening.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <utility>

#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::sim {

namespace {

using Octets = std::vector<std::uint8_t>;

/// Bit by bit, as the standard draws it.
void addCrc(Octets& octets, std::size_t from) {
  unsigned crc = 0;
  for (std::size_t i = from; i < octets.size(); ++i)
    for (unsigned bit = 0; bit < 8; ++bit) {
      const bool isOdd = ((octets[i] >> bit) ^ crc) & 1;
      crc >>= 1;
      if (isOdd) crc ^= 0xA6BC;
    }
  crc = ~crc & 0xFFFF;
  octets.push_back(static_cast<std::uint8_t>(crc & 0xFF));
  octets.push_back(static_cast<std::uint8_t>(crc >> 8));
}

template <class Number>
void addNumber(Octets& out, Number number, std::size_t size = sizeof(Number)) {
  std::uint8_t octets[sizeof(Number)];
  std::memcpy(octets, &number, sizeof number);  // this machine's order is the wire's: the lowest first
  out.insert(out.end(), octets, octets + size);
}

std::uint8_t bits(bool on) { return static_cast<std::uint8_t>(on ? 0x81 : 0x01); }

Octets frameOf(int destination, int source, std::uint8_t control, const Octets& data) {
  Octets frame{0x05, 0x64, static_cast<std::uint8_t>(5 + data.size()), control};
  addNumber(frame, static_cast<std::uint16_t>(destination));
  addNumber(frame, static_cast<std::uint16_t>(source));
  addCrc(frame, 0);
  for (std::size_t at = 0; at < data.size(); at += 16) {
    const std::size_t from = frame.size();
    frame.insert(frame.end(), data.begin() + static_cast<std::ptrdiff_t>(at),
                 data.begin() + static_cast<std::ptrdiff_t>(std::min(at + 16, data.size())));
    addCrc(frame, from);
  }
  return frame;
}

}  // namespace

Outstation::~Outstation() {
  if (listening_ >= 0) ::close(listening_);
}

std::string Outstation::open() {
  if (!settings_.line.empty()) {
    terminal_ = std::make_unique<PseudoTerminal>(settings_.line);
    return settings_.line;
  }
  listening_ = listenAt(settings_.host, settings_.port);
  return fmt::format("{}:{}", settings_.host, settings_.port);
}

std::uint64_t Outstation::now() const {
  const auto since = std::chrono::system_clock::now().time_since_epoch();
  return static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::milliseconds>(since).count() +
                                    clockOffset_);
}

void Outstation::note(int group, int variation, int index, int eventClass, Octets object) {
  if (events_.size() >= 1'000) {
    events_.pop_front();
    hasOverflown_ = true;
  }
  addNumber(object, now(), 6);
  events_.push_back({group, variation, index, eventClass, std::move(object)});
}

void Outstation::step(double seconds) {
  age_ += seconds;
  level_ = 1.2 + 0.3 * std::sin(age_ / 60);
  flow_ = pump_ && gate_ == 2 ? goal_ + 20 + 3 * std::sin(age_ / 4) : 0;
  pumped_ += flow_ * seconds / 1000;
  const bool blocked = std::fmod(age_, 120) > 110;
  if (blocked != blocked_) note(2, 2, 1, 1, {bits(blocked_ = blocked)});
  const auto analog = [&](int index, double value, double& shown, double least) {
    if (std::abs(value - shown) < least) return;
    shown = value;
    Octets object{0x01};
    addNumber(object, static_cast<float>(value));
    note(32, 7, index, 2, std::move(object));
  };
  analog(0, level_, shownLevel_, 0.01);
  analog(1, flow_, shownFlow_, 0.5);
  if (pumped_ - shownPumped_ >= 1) {
    shownPumped_ = std::floor(pumped_);
    Octets object{0x01};
    addNumber(object, static_cast<std::uint32_t>(shownPumped_));
    note(22, 5, 0, 2, std::move(object));
  }
}

/// All points as they are.
Octets Outstation::statics() const {
  Octets out{1, 2, 0x00, 0, 1, bits(pump_), bits(blocked_)};
  for (const int octet : {3, 2, 0x00, 0, 0, gate_ << 6 | 1, 10, 2, 0x00, 0, 1, pump_ ? 0x81 : 0x01,
                          gate_ == 2 ? 0x81 : 0x01, 20, 1, 0x00, 0, 0, 0x01})
    out.push_back(static_cast<std::uint8_t>(octet));
  addNumber(out, static_cast<std::uint32_t>(pumped_));
  for (const int octet : {30, 5, 0x00, 0, 1, 0x01}) out.push_back(static_cast<std::uint8_t>(octet));
  addNumber(out, static_cast<float>(level_));
  out.push_back(0x01);
  addNumber(out, static_cast<float>(flow_));
  for (const int octet : {40, 3, 0x00, 0, 0, 0x01}) out.push_back(static_cast<std::uint8_t>(octet));
  addNumber(out, static_cast<float>(goal_));
  return out;
}

/// Events in their order; runs of one group and variation share a header.
Octets Outstation::takeEvents(unsigned classes, std::size_t most) {
  Octets out;
  std::size_t countAt = 0;
  int group = 0, variation = 0;
  std::size_t taken = 0;
  for (auto& event : events_) {
    if (!(classes >> event.eventClass & 1) || taken == most) continue;
    if (event.group != group || event.variation != variation) {
      group = event.group;
      variation = event.variation;
      for (const int octet : {group, variation, 0x28, 0, 0}) out.push_back(static_cast<std::uint8_t>(octet));
      countAt = out.size() - 2;
    }
    addNumber(out, static_cast<std::uint16_t>(event.index));
    out.insert(out.end(), event.object.begin(), event.object.end());
    ++out[countAt];
    event.isSent = true;
    ++taken;
  }
  return out;
}

void Outstation::sendFragment(int client, const Octets& fragment) {
  for (std::size_t at = 0; at < fragment.size(); at += 249) {
    const std::size_t size = std::min<std::size_t>(249, fragment.size() - at);
    Octets data{static_cast<std::uint8_t>((at == 0 ? 0x40 : 0) | (at + size == fragment.size() ? 0x80 : 0) |
                                          (transportSequence_++ & 0x3F))};
    data.insert(data.end(), fragment.begin() + static_cast<std::ptrdiff_t>(at),
                fragment.begin() + static_cast<std::ptrdiff_t>(at + size));
    const Octets frame = frameOf(settings_.master, settings_.address, 0x44, data);
    (void)!::write(client, frame.data(), frame.size());
  }
}

void Outstation::respond(int client, int sequence, const Octets& objects, bool hasEvents) {
  const bool isPending = std::ranges::any_of(events_, [](const Event& event) { return !event.isSent; });
  Octets fragment{
      static_cast<std::uint8_t>(0xC0 | (hasEvents ? 0x20 : 0) | sequence), 129,
      static_cast<std::uint8_t>((isPending ? 0x06 : 0) | (needsTime_ ? 0x10 : 0) | (hasRestarted_ ? 0x80 : 0)),
      static_cast<std::uint8_t>(hasOverflown_ ? 0x08 : 0)};
  fragment.insert(fragment.end(), objects.begin(), objects.end());
  sendFragment(client, fragment);
}

void Outstation::sayUnsolicited(int client) {
  using namespace std::chrono_literals;
  const auto moment = std::chrono::steady_clock::now();
  if (!unsolicited_) return;
  if (awaitsConfirm_) {
    // Once more, as it may be lost.
    if (moment - saidAt_ < 2s) return;
    for (auto& event : events_) event.isSent = false;
  }
  const Octets objects = takeEvents(unsolicited_, 50);
  if (objects.empty()) return;
  if (!awaitsConfirm_) unsolicitedSequence_ = (unsolicitedSequence_ + 1) & 0x0F;
  Octets fragment{static_cast<std::uint8_t>(0xF0 | unsolicitedSequence_), 130,
                  static_cast<std::uint8_t>((needsTime_ ? 0x10 : 0) | (hasRestarted_ ? 0x80 : 0)),
                  static_cast<std::uint8_t>(hasOverflown_ ? 0x08 : 0)};
  fragment.insert(fragment.end(), objects.begin(), objects.end());
  sendFragment(client, fragment);
  awaitsConfirm_ = true;
  saidAt_ = moment;
}

/// What becomes of a command; `control` is its object without index and status.
std::uint8_t Outstation::operate(const Octets& control, bool isBinary, int index, bool isReally) {
  constexpr std::uint8_t kDone = 0, kFormat = 3, kNotSupported = 4, kLocal = 7;
  if (!isBinary) {
    float wanted = 0;
    if (index != 0 || control.size() != sizeof wanted) return kNotSupported;
    std::memcpy(&wanted, control.data(), sizeof wanted);
    if (!(wanted >= 0 && wanted <= 100)) return kFormat;
    if (isReally) goal_ = wanted;
    return kDone;
  }
  const int code = control.empty() ? 0 : control[0];
  if (index == 0 && (code == 3 || code == 4)) {
    if (blocked_ && code == 3) return kLocal;
    if (isReally && pump_ != (code == 3)) note(2, 2, 0, 1, {bits(pump_ = code == 3)});
    return kDone;
  }
  if (index == 1 && (code == 1 || code == 2)) {
    if (isReally) note(4, 2, 0, 1, {static_cast<std::uint8_t>((gate_ = code == 1 ? 2 : 1) << 6 | 1)});
    return kDone;
  }
  return kNotSupported;
}

void Outstation::handle(const Octets& fragment, int client) {
  if (fragment.size() < 2) return;
  const int sequence = fragment[0] & 0x0F, function = fragment[1];
  const Octets objects(fragment.begin() + 2, fragment.end());
  switch (function) {
    case 0:  // confirm
      if (fragment[0] & 0x10 ? sequence != unsolicitedSequence_ : false) return;
      awaitsConfirm_ = false;
      std::erase_if(events_, [](const Event& event) { return event.isSent; });
      hasOverflown_ = false;
      return;
    case 1: {  // read
      unsigned classes = 0;
      bool isStatic = false;
      for (std::size_t at = 0; at + 2 < objects.size();) {
        if (objects[at] == 60) {
          classes |= 1u << (objects[at + 1] - 1);
          at += 3;
        } else {
          isStatic = true;
          at += objects[at + 2] == 0x01 ? 7 : objects[at + 2] == 0x00 ? 5 : 3;
        }
      }
      for (auto& event : events_) event.isSent = false;
      awaitsConfirm_ = false;
      Octets answer = takeEvents(classes & 0x0E, 80);
      const bool hasEvents = !answer.empty();
      if (classes & 1 || isStatic) {
        const Octets all = statics();
        answer.insert(answer.end(), all.begin(), all.end());
      }
      return respond(client, sequence, answer, hasEvents);
    }
    case 2:  // write
      if (objects.size() >= 10 && objects[0] == 50) {
        std::uint64_t time = 0;
        std::memcpy(&time, objects.data() + 4, 6);
        clockOffset_ += static_cast<std::int64_t>(time) - static_cast<std::int64_t>(now());
        needsTime_ = false;
      } else if (objects.size() >= 6 && objects[0] == 80) {
        hasRestarted_ = false;
      }
      return respond(client, sequence, {}, false);
    case 3:
    case 4:
    case 5: {  // select, operate, direct operate
      if (objects.size() < 8) return respond(client, sequence, {}, false);
      Octets echo = objects;
      const bool isBinary = objects[0] == 12;
      const Octets control(objects.begin() + 7, objects.end() - 1);
      const int index = objects[5] | objects[6] << 8;
      const bool needsSelect = isBinary && index == 1;
      std::uint8_t outcome = 0;
      if (function == 3) {
        outcome = operate(control, isBinary, index, false);
        selected_ = outcome == 0 ? objects : Octets();
      } else if (function == 4 ? selected_ != objects : needsSelect) {
        outcome = function == 4 ? 2 : 4;
      } else {
        outcome = operate(control, isBinary, index, true);
        selected_.clear();
      }
      echo.back() = outcome;
      return respond(client, sequence, echo, false);
    }
    case 20:
    case 21: {  // unsolicited on and off
      unsigned classes = 0;
      for (std::size_t at = 0; at + 2 < objects.size(); at += 3) classes |= 1u << (objects[at + 1] - 1);
      unsolicited_ = function == 20 ? unsolicited_ | classes : unsolicited_ & ~classes;
      return respond(client, sequence, {}, false);
    }
    case 23: return respond(client, sequence, {52, 2, 0x07, 1, 0, 0}, false);
    default: return respond(client, sequence, {}, false);
  }
}

void Outstation::read(const Octets& octets, int client) {
  came_.insert(came_.end(), octets.begin(), octets.end());
  while (came_.size() >= 10) {
    if (came_[0] != 0x05 || came_[1] != 0x64) {
      came_.erase(came_.begin());
      continue;
    }
    const std::size_t size = came_[2] - 5u, blocks = (size + 15) / 16, whole = 10 + size + 2 * blocks;
    if (came_.size() < whole) return;
    const std::uint8_t control = came_[3] & 0x4F;
    Octets data;
    for (std::size_t at = 10, left = size; left > 0;) {
      const std::size_t block = std::min<std::size_t>(16, left);
      data.insert(data.end(), came_.begin() + static_cast<std::ptrdiff_t>(at),
                  came_.begin() + static_cast<std::ptrdiff_t>(at + block));
      at += block + 2;
      left -= block;
    }
    const bool isForThis = (came_[4] | came_[5] << 8) == settings_.address;
    came_.erase(came_.begin(), came_.begin() + static_cast<std::ptrdiff_t>(whole));
    if (!isForThis) continue;
    const auto answer = [&](std::uint8_t function) {
      const Octets frame = frameOf(settings_.master, settings_.address, function, {});
      (void)!::write(client, frame.data(), frame.size());
    };
    if (control == 0x49) answer(0x0B);
    if (control == 0x40 || control == 0x42 || control == 0x43) answer(0x00);
    if ((control != 0x43 && control != 0x44) || data.empty()) continue;
    if (data[0] & 0x40) fragment_.clear();
    fragment_.insert(fragment_.end(), data.begin() + 1, data.end());
    if (data[0] & 0x80) handle(std::exchange(fragment_, {}), client);
  }
}

void Outstation::run() {
  using Clock = std::chrono::steady_clock;
  int client = terminal_ ? terminal_->descriptor() : -1;
  auto last = Clock::now();
  while (!stopping_) {
    pollfd sockets[] = {{listening_, POLLIN, 0}, {client, POLLIN, 0}};
    ::poll(sockets, 2, 50);
    const auto moment = Clock::now();
    step(std::chrono::duration<double>(moment - last).count() * settings_.speedup);
    last = moment;
    if (sockets[0].revents & POLLIN) {
      // A master that comes anew takes the place of the one before.
      if (client >= 0) ::close(client);
      client = ::accept(listening_, nullptr, nullptr);
      came_.clear();
      unsolicited_ = 0;
      awaitsConfirm_ = false;
      continue;
    }
    if (sockets[1].revents) {
      std::uint8_t piece[2048];
      const auto size = ::read(client, piece, sizeof piece);
      if (size > 0) {
        read(Octets(piece, piece + size), client);
      } else if (!terminal_) {
        ::close(std::exchange(client, -1));
        unsolicited_ = 0;
      }
    }
    if (client >= 0) sayUnsolicited(client);
  }
  if (client >= 0 && !terminal_) ::close(client);
}

}  // namespace zunth::sim
