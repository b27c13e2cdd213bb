#pragma once

#include "core/ua/variant.hpp"

namespace zunth::ua {

/// DataValue (Part 4, 7.11): a value with its quality and the times it was measured and served.
/// Null times are left out on the wire.
struct DataValue {
  Variant value;
  DateTime sourceTimestamp;
  DateTime serverTimestamp;
  StatusCode status;
  std::uint16_t sourcePicoseconds = 0;  // in units of 10 ps
  std::uint16_t serverPicoseconds = 0;

  DataValue() = default;
  explicit DataValue(Variant v, DateTime source = {}, StatusCode code = {})
      : value(std::move(v)), sourceTimestamp(source), status(code) {}
  explicit DataValue(StatusCode code) : status(code) {}
  bool operator==(const DataValue&) const = default;
};
static_assert(sizeof(DataValue) == 40);

}  // namespace zunth::ua
