#pragma once

#include "core/ua/bytes.hpp"

#include <cstdint>
#include <optional>
#include <vector>

/// The link and transport layers of DNP3 (IEEE 1815, clauses 9 and 8): octets in, frames and fragments out, and back;
/// no I/O.
namespace zunth::device::dnp3 {

/// What a frame does (9.2.4). Those of a primary ask or bring something, those of a secondary answer.
enum class LinkFunction : std::uint8_t {
  ResetLink = 0x40,
  TestLink = 0x42,
  ConfirmedData = 0x43,
  UnconfirmedData = 0x44,
  RequestStatus = 0x49,
  Ack = 0x00,
  Nack = 0x01,
  LinkStatus = 0x0B,
  NotSupported = 0x0F
};

struct Frame {
  LinkFunction function = LinkFunction::UnconfirmedData;
  bool isFromMaster = true;
  bool countBit = false, countValid = false;  // FCB, and FCV or DFC
  std::uint16_t destination = 0, source = 0;
  ua::Bytes data;  // 250 octets at most
};
constexpr std::size_t kMostInFrame = 250;

/// The checksum of a block (9.2.4.8).
std::uint16_t crcOf(ua::BytesView octets);
ua::Bytes encode(const Frame& frame);

/// Finds frames in what comes. What is no frame, or whose checksums are wrong, is passed over and counted.
class FrameReader {
 public:
  void feed(ua::BytesView octets);
  std::optional<Frame> next();
  std::size_t passedOver() const { return passedOver_; }

 private:
  ua::Bytes came_;
  std::size_t passedOver_ = 0;  // octets
};

/// A fragment in the data of frames, each with its transport octet.
std::vector<ua::Bytes> segmentsOf(ua::BytesView fragment, std::uint8_t& sequence);

/// Puts the segments of one sender together again (8.2). A segment out of turn drops what was begun.
class SegmentReader {
 public:
  static constexpr std::size_t kMostInFragment = 64u << 10;
  /// The whole fragment when this was its last segment.
  std::optional<ua::Bytes> feed(ua::BytesView segment);

 private:
  ua::Bytes fragment_;
  bool isOpen_ = false;
  std::uint8_t next_ = 0;
};

}  // namespace zunth::device::dnp3
