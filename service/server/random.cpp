#include "service/server/random.hpp"

#include <stdexcept>
#include <vector>

#include <openssl/rand.h>

namespace zunth::server {

namespace {

void fill(void* to, std::size_t count) {
  if (RAND_bytes(static_cast<unsigned char*>(to), static_cast<int>(count)) != 1)
    throw std::runtime_error("the system gives no random numbers");
}

}  // namespace

ua::ByteString randomOctets(std::size_t count) {
  std::vector<std::byte> octets(count);
  fill(octets.data(), count);
  return ua::ByteString(octets.data(), octets.size());
}

std::uint64_t randomNumber() {
  std::uint64_t number = 0;
  fill(&number, sizeof number);
  return number;
}

}  // namespace zunth::server
