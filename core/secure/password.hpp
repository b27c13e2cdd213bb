#pragma once

#include <string>
#include <string_view>

namespace zunth::secure {

/// A password's hash with its salt and costs, as it is kept: scrypt, so that guessing takes memory as well as time.
std::string hashPassword(std::string_view password);
/// In constant time for hashes of equal cost. False for what is no hash.
bool verifyPassword(std::string_view stored, std::string_view password);

}  // namespace zunth::secure
