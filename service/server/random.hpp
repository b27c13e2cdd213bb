#pragma once

#include "core/ua/strings.hpp"

namespace zunth::server {

/// Octets that nobody can guess, from the system. Throws when it gives none: nothing is safe then.
ua::ByteString randomOctets(std::size_t count = 32);
std::uint64_t randomNumber();

}  // namespace zunth::server
