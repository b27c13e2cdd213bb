#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <span>
#include <vector>

/// What is kept of values and events, without files: the format of blocks, what is worth keeping, and the readers.
namespace zunth::history {

/// What a block holds at most.
inline constexpr std::size_t kMostInBlock = 4096;

/// Samples of one variable as octets, for years: times as differences of differences, values by their type, statuses
/// by runs, all of it compressed (zstd, with its checksum). docs/history.md has the format octet by octet.
/// The samples are in order of their source times; there is one at least and kMostInBlock at most. Picoseconds are not
/// kept.
ua::Bytes encodeBlock(std::span<const ua::DataValue> samples);

/// BadDecodingError, with what is wrong, for octets that aren't what encodeBlock() made.
ua::Result<std::vector<ua::DataValue>> decodeBlock(ua::BytesView octets);

}  // namespace zunth::history
