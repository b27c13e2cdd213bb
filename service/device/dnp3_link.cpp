#include "service/device/dnp3_link.hpp"

#include <algorithm>
#include <array>
#include <utility>

namespace zunth::device::dnp3 {

using ua::Bytes;
using ua::BytesView;

namespace {

constexpr std::uint8_t kStart0 = 0x05, kStart1 = 0x64;
constexpr std::uint8_t kDirection = 0x80, kPrimary = 0x40, kCountBit = 0x20, kCountValid = 0x10;
constexpr std::size_t kHeader = 10, kBlock = 16, kCrc = 2;
constexpr std::uint8_t kFinal = 0x80, kFirst = 0x40, kSequence = 0x3F;

constexpr auto kCrcTable = [] {
  std::array<std::uint16_t, 256> table{};
  for (unsigned i = 0; i < 256; ++i) {
    unsigned crc = i;
    for (int bit = 0; bit < 8; ++bit) crc = crc & 1 ? crc >> 1 ^ 0xA6BC : crc >> 1;
    table[i] = static_cast<std::uint16_t>(crc);
  }
  return table;
}();

std::uint8_t linkOctet(BytesView octets, std::size_t at) { return std::to_integer<std::uint8_t>(octets[at]); }
std::uint16_t linkWord(BytesView octets, std::size_t at) {
  return static_cast<std::uint16_t>(linkOctet(octets, at) | linkOctet(octets, at + 1) << 8);
}
void putWord(Bytes& out, std::uint16_t word) {
  out.push_back(static_cast<std::byte>(word & 0xFF));
  out.push_back(static_cast<std::byte>(word >> 8));
}
/// A block and its checksum.
void putBlock(Bytes& out, BytesView block) {
  out.insert(out.end(), block.begin(), block.end());
  putWord(out, crcOf(block));
}
bool isProved(BytesView octets, std::size_t at, std::size_t size) {
  return crcOf(octets.subspan(at, size)) == linkWord(octets, at + size);
}

}  // namespace

std::uint16_t crcOf(BytesView octets) {
  std::uint16_t crc = 0;
  for (const auto octet : octets)
    crc = static_cast<std::uint16_t>(crc >> 8 ^ kCrcTable[(crc ^ std::to_integer<unsigned>(octet)) & 0xFF]);
  return static_cast<std::uint16_t>(~crc);
}

Bytes encode(const Frame& frame) {
  Bytes header{std::byte{kStart0}, std::byte{kStart1}, static_cast<std::byte>(5 + frame.data.size())};
  auto control = static_cast<std::uint8_t>(frame.function);
  if (frame.isFromMaster) control |= kDirection;
  if (frame.countBit) control |= kCountBit;
  if (frame.countValid) control |= kCountValid;
  header.push_back(static_cast<std::byte>(control));
  putWord(header, frame.destination);
  putWord(header, frame.source);
  Bytes out;
  putBlock(out, header);
  const BytesView data(frame.data);
  for (std::size_t at = 0; at < data.size(); at += kBlock)
    putBlock(out, data.subspan(at, std::min(kBlock, data.size() - at)));
  return out;
}

void FrameReader::feed(BytesView octets) { came_.insert(came_.end(), octets.begin(), octets.end()); }

std::optional<Frame> FrameReader::next() {
  std::size_t at = 0;
  const auto drop = [&](std::size_t octets) {
    came_.erase(came_.begin(), came_.begin() + static_cast<std::ptrdiff_t>(octets));
  };
  for (; at + kHeader <= came_.size(); ++at, ++passedOver_) {
    const BytesView here = BytesView(came_).subspan(at);
    if (linkOctet(here, 0) != kStart0 || linkOctet(here, 1) != kStart1 || linkOctet(here, 2) < 5 ||
        !isProved(here, 0, kHeader - kCrc))
      continue;
    const std::size_t size = linkOctet(here, 2) - 5u, blocks = (size + kBlock - 1) / kBlock;
    if (here.size() < kHeader + size + blocks * kCrc) {
      drop(at);
      return std::nullopt;  // the rest is on its way
    }
    Frame frame;
    bool isSound = true;
    std::size_t from = kHeader;
    for (std::size_t left = size; left > 0 && isSound;) {
      const std::size_t block = std::min(kBlock, left);
      isSound = isProved(here, from, block);
      const BytesView data = here.subspan(from, block);
      frame.data.insert(frame.data.end(), data.begin(), data.end());
      from += block + kCrc;
      left -= block;
    }
    if (!isSound) continue;
    const std::uint8_t control = linkOctet(here, 3);
    frame.function = static_cast<LinkFunction>(control & (kPrimary | 0x0F));
    frame.isFromMaster = control & kDirection;
    frame.countBit = control & kCountBit;
    frame.countValid = control & kCountValid;
    frame.destination = linkWord(here, 4);
    frame.source = linkWord(here, 6);
    drop(at + from);
    return frame;
  }
  drop(at);
  return std::nullopt;
}

std::vector<Bytes> segmentsOf(BytesView fragment, std::uint8_t& sequence) {
  constexpr std::size_t kMost = kMostInFrame - 1;
  std::vector<Bytes> out;
  for (std::size_t at = 0; at == 0 || at < fragment.size(); at += kMost) {
    const std::size_t size = std::min(kMost, fragment.size() - at);
    std::uint8_t header = sequence & kSequence;
    sequence = static_cast<std::uint8_t>((sequence + 1) & kSequence);
    if (at == 0) header |= kFirst;
    if (at + size == fragment.size()) header |= kFinal;
    Bytes segment{static_cast<std::byte>(header)};
    const BytesView part = fragment.subspan(at, size);
    segment.insert(segment.end(), part.begin(), part.end());
    out.push_back(std::move(segment));
  }
  return out;
}

std::optional<Bytes> SegmentReader::feed(BytesView segment) {
  if (segment.empty()) return std::nullopt;
  const std::uint8_t header = linkOctet(segment, 0), sequence = header & kSequence;
  if (header & kFirst) {
    fragment_.clear();
    isOpen_ = true;
  } else if (!isOpen_ || sequence != next_) {
    isOpen_ = false;
    return std::nullopt;
  }
  next_ = static_cast<std::uint8_t>((sequence + 1) & kSequence);
  const BytesView part = segment.subspan(1);
  if (fragment_.size() + part.size() > kMostInFragment) {
    isOpen_ = false;
    return std::nullopt;
  }
  fragment_.insert(fragment_.end(), part.begin(), part.end());
  if (!(header & kFinal)) return std::nullopt;
  isOpen_ = false;
  return std::exchange(fragment_, {});
}

}  // namespace zunth::device::dnp3
