// Sealing and unsealing chunks, beside the same ciphers on the same octets; handshakes, beside the bare key operations.
#include "core/channel/chunk.hpp"
#include "core/secure/key_exchange.hpp"

#include <benchmark/benchmark.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::secure;

namespace {

constexpr std::size_t kBody = 8u << 20;  // octets, of a message in many chunks

ByteString octets(std::size_t size, unsigned char with) {
  const std::vector<unsigned char> filled(size, with);
  return ByteString(filled.data(), filled.size());
}

std::unique_ptr<ChannelKeys> someKeys() {
  return ChannelKeys::derive(*policyNamed("Basic256Sha256"), octets(32, 1), octets(32, 2));
}

/// AES-256-CBC over one buffer and HMAC-SHA256 over it: what no secured transfer can do without.
void cipherFloor(benchmark::State& state) {
  const bool encrypts = state.range(0) != 0;
  std::vector<unsigned char> data(65'488), key(32, 1), start(16, 2);
  EVP_CIPHER_CTX* cipher = EVP_CIPHER_CTX_new();
  EVP_EncryptInit_ex(cipher, EVP_aes_256_cbc(), nullptr, key.data(), start.data());
  EVP_CIPHER_CTX_set_padding(cipher, 0);
  unsigned char digest[32];
  unsigned length = 0;
  int size = 0;
  for (auto _ : state)
    for (std::size_t done = 0; done < kBody; done += data.size()) {
      HMAC(EVP_sha256(), key.data(), 32, data.data(), data.size(), digest, &length);
      if (encrypts) EVP_EncryptUpdate(cipher, data.data(), &size, data.data(), static_cast<int>(data.size()));
    }
  EVP_CIPHER_CTX_free(cipher);
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(kBody));
}
BENCHMARK(cipherFloor)->Name("secure/floor: HMAC-SHA256 and AES-256-CBC of 8 MiB; encrypts")->Arg(0)->Arg(1);

void sealMessages(benchmark::State& state) {
  const auto keys = someKeys();
  channel::ChunkWriter writer;
  writer.setLimits(65'536, 0, 0);
  writer.setSealing({keys.get(), state.range(0) != 0});
  Bytes message = channel::newMessage();
  message.resize(channel::kHeadroom + kBody);
  std::vector<Bytes> out;
  for (auto _ : state) {
    out.clear();
    if (!writer.write(channel::MessageType::Message, 1, 1, 1, message, out)) state.SkipWithError("not written");
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(kBody));
}
BENCHMARK(sealMessages)->Name("secure/seal a message of 8 MiB; encrypts")->Arg(0)->Arg(1);

Identity made(KeyKind kind) {
  const PrivateKey key = PrivateKey::generate(kind);
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  return Identity{
      Certificate::selfSigned(
          {"Fernhollow", "", "urn:fernhollow.example:bench", {"localhost"}, now, {now.ticks + 864'000'000'000}}, key),
      key};
}
const Identity& someIdentity() {
  static const Identity one = made(KeyKind::Rsa);
  return one;
}

/// What a server does for one OPN message: decrypt and verify the request, sign and encrypt the response.
void handshake(benchmark::State& state) {
  const Identity& own = someIdentity();
  const channel::OpenSealing sealing{policyNamed("Basic256Sha256"), &own, &own.certificate};
  Bytes request(200, std::byte{1});
  channel::sealOpen(request, 92, sealing);
  for (auto _ : state) {
    Bytes plain, response(200, std::byte{2});
    benchmark::DoNotOptimize(channel::unsealOpen(request, 92, sealing, plain));
    channel::sealOpen(response, 92, sealing);
  }
  state.SetItemsProcessed(state.iterations());
}
BENCHMARK(handshake)->Name("secure/one handshake's RSA-2048 work at the server")->Unit(benchmark::kMicrosecond);

/// The same with elliptic curves: verify the request, agree on keys, sign the response.
void curveHandshake(benchmark::State& state) {
  const Policy& policy = *policyNamed(state.range(0) == 256 ? "ECC_nistP256" : "ECC_nistP384");
  const Identity own = made(policy.key);
  const channel::OpenSealing sealing{&policy, &own, &own.certificate};
  const auto noRandom = [](std::size_t) { return ByteString(); };
  const KeyExchange client(policy, noRandom);
  Bytes request(200, std::byte{1});
  channel::sealOpen(request, 92, sealing);
  for (auto _ : state) {
    Bytes plain, response(200, std::byte{2});
    benchmark::DoNotOptimize(channel::unsealOpen(request, 92, sealing, plain));
    benchmark::DoNotOptimize(KeyExchange(policy, noRandom).finish(KeyExchange::Side::Server, client.nonce()));
    channel::sealOpen(response, 92, sealing);
  }
  state.SetItemsProcessed(state.iterations());
}
BENCHMARK(curveHandshake)
    ->Name("secure/one handshake's work at the server with curve P")
    ->Arg(256)
    ->Arg(384)
    ->Unit(benchmark::kMicrosecond);

/// OpenSSL's own: verify, make a key, derive, sign.
void curveHandshakeFloor(benchmark::State& state) {
  const Policy& policy = *policyNamed(state.range(0) == 256 ? "ECC_nistP256" : "ECC_nistP384");
  const Identity own = made(policy.key);
  const PrivateKey other = PrivateKey::generate(policy.key);
  const Bytes data(300, std::byte{1});
  const ByteString signature = sign(policy, own.key, data);
  for (auto _ : state) {
    benchmark::DoNotOptimize(verify(policy, own.certificate, data, view(signature)));
    const PrivateKey key = PrivateKey::generate(policy.key);
    EVP_PKEY_CTX* context = EVP_PKEY_CTX_new(key.handle(), nullptr);
    unsigned char secret[64];
    std::size_t size = sizeof secret;
    if (EVP_PKEY_derive_init(context) != 1 || EVP_PKEY_derive_set_peer(context, other.handle()) != 1 ||
        EVP_PKEY_derive(context, secret, &size) != 1)
      state.SkipWithError("not derived");
    EVP_PKEY_CTX_free(context);
    benchmark::DoNotOptimize(sign(policy, own.key, data));
  }
  state.SetItemsProcessed(state.iterations());
}
BENCHMARK(curveHandshakeFloor)
    ->Name("secure/floor: verify, make a key, derive, sign on curve P")
    ->Arg(256)
    ->Arg(384)
    ->Unit(benchmark::kMicrosecond);

/// The two operations with the private key that a handshake can't do without.
void handshakeFloor(benchmark::State& state) {
  const Identity& own = someIdentity();
  const Policy& policy = *policyNamed("Basic256Sha256");
  const Bytes block(plainBlockSize(policy, own.certificate), std::byte{1});
  const Bytes cipher = encrypt(policy, own.certificate, block);
  for (auto _ : state) {
    benchmark::DoNotOptimize(sign(policy, own.key, block));
    benchmark::DoNotOptimize(decrypt(policy, own.key, cipher));
  }
  state.SetItemsProcessed(state.iterations());
}
BENCHMARK(handshakeFloor)->Name("secure/floor: one sign and one decrypt with RSA-2048")->Unit(benchmark::kMicrosecond);

}  // namespace
