// Any octets as a certificate with its chain, a revocation list, a key, and a sealed chunk.
#include "core/channel/sealing.hpp"
#include "core/secure/password.hpp"
#include "core/secure/trust.hpp"

#include <cstdint>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::secure;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  (void)validate(ByteString(data, size), {}, {DateTime{134'000'000'000'000'000}, "localhost", "urn:x"});
  (void)Certificate::fromFile(text);
  (void)RevocationList::fromFile(text);
  (void)PrivateKey::fromPem(text);
  if (size > 16) {
    static const auto keys = ChannelKeys::derive(policies()[0], ByteString(data, 0), ByteString(data, 0));
    for (const bool encrypts : {false, true}) {
      Bytes chunk(reinterpret_cast<const std::byte*>(data), reinterpret_cast<const std::byte*>(data) + size);
      (void)channel::unseal(chunk, {keys.get(), encrypts});
    }
  }
  return 0;
}
