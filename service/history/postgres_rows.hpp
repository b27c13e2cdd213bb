#pragma once

#include "core/history/store.hpp"

#include <optional>
#include <string>

/// How samples stand in tables of PostgreSQL: plain for who queries them, and exact for us (docs/history.md).
namespace zunth::history {

/// A moment as a `timestamptz`, to the microsecond, and the tenths of it that are left over.
struct RowTime {
  std::string words;  // "2026-11-28 06:00:00.125000+00"
  int tick = 0;       // 0..9, of 100 ns

  static RowTime of(ua::DateTime time);
};
/// `micros` since 1970.
ua::DateTime timeFrom(std::int64_t micros, int tick);

/// The first and the last moment that has a row; what lies beyond them can't be kept there.
inline constexpr ua::DateTime kFirstRow{0}, kLastRow{2'650'467'743'999'999'999};

/// A value in columns.
struct RowValue {
  int type = 0;                         // built-in type (Part 6, 5.1.2) of a single value; 0 for none, 255 for others
  std::optional<std::string> number{};  // what can be drawn and averaged, of Boolean to Double
  std::optional<std::string> words{};   // of a String: what can be read, cut
  std::optional<std::string> exact{};   // as "\x…", in OPC UA Binary: where the number doesn't say it all

  static RowValue of(const ua::Variant& value);
  /// BadDecodingError where the columns don't make a value.
  ua::Result<ua::Variant> value() const;
};

/// Octets as PostgreSQL writes them, "\x00ff", and back.
std::string hexOf(ua::BytesView octets);
std::optional<ua::Bytes> octetsOf(std::string_view hex);

}  // namespace zunth::history
