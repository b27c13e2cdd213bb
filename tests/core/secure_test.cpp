// Keys, signatures and certificates, held against a second implementation's octets.
#include "core/channel/chunk.hpp"
#include "core/secure/key_exchange.hpp"
#include "core/secure/password.hpp"
#include "core/secure/trust.hpp"
#include "core/ua/json_type.hpp"

#include <fstream>

#include "tests/hex.hpp"
#include <catch2/catch.hpp>

namespace zunth::secure_test {

using namespace zunth::ua;
using namespace zunth::secure;
using test::unhex;

namespace {

std::vector<Json> linesOf(const std::string& name) {
  std::vector<Json> out;
  std::ifstream file(ZUNTH_SOURCE_DIR "/tests/vectors/" + name);
  for (std::string line; std::getline(file, line);) out.push_back(Json::parse(line));
  return out;
}

std::vector<Json> vectors(const std::string& what) {
  auto out = linesOf("security.jsonl");
  std::erase_if(out, [&](const auto& json) { return json.at("what") != what; });
  return out;
}

ByteString octets(const Json& hex) {
  const Bytes raw = unhex(hex.get<std::string>());
  return ByteString(raw.data(), raw.size());
}
Bytes bytes(const Json& hex) { return unhex(hex.get<std::string>()); }
bool same(BytesView a, BytesView b) { return std::ranges::equal(a, b); }

std::unique_ptr<ChannelKeys> keysOf(const Json& v, const std::string& side) {
  const ByteString client = octets(v.at("clientNonce")), server = octets(v.at("serverNonce"));
  const Policy& policy = *policyOf(v.at("policy").get<std::string>());
  return side == "client" ? ChannelKeys::derive(policy, server, client) : ChannelKeys::derive(policy, client, server);
}

constexpr DateTime kNow{134'000'000'000'000'000};
constexpr std::int64_t kDay = 864'000'000'000;

Certificate::Wish wish(std::string uri) {
  return {"Fernhollow test",   "Fernhollow",       std::move(uri), {"filter-house", "127.0.0.1"},
          {kNow.ticks - kDay}, {kNow.ticks + kDay}};
}

}  // namespace

TEST_CASE("keys are derived as the second implementation derives them", "[secure][vectors]") {
  const auto all = vectors("derivedKeys");
  CHECK(all.size() == 6);
  for (const auto& v : all) {
    INFO(v.at("policy").get<std::string>() << " " << v.at("side").get<std::string>());
    const auto keys = keysOf(v, v.at("side"));
    CHECK(same(keys->signingKey(), bytes(v.at("signingKey"))));
    CHECK(same(keys->encryptingKey(), bytes(v.at("encryptingKey"))));
    CHECK(same(keys->initializationVector(), bytes(v.at("initializationVector"))));
  }
}

TEST_CASE("symmetric chunks match the second implementation's octet by octet",
          "[secure][vectors][cu:Security Basic256Sha256][cu:Security Aes128-Sha256-RsaOaep]"
          "[cu:Security Aes256-Sha256-RsaPss]") {
  const auto all = vectors("symmetricChunk");
  CHECK(all.size() == 30);
  for (const auto& v : all) {
    INFO(v.at("policy").get<std::string>() << " " << v.at("mode").get<std::string>() << " " << v.at("body").dump());
    const auto keys = keysOf(v, v.at("from"));
    const channel::Sealing sealing{keys.get(), v.at("mode") == "SignAndEncrypt"};
    const Bytes body = bytes(v.at("body"));
    channel::ChunkWriter writer;
    writer.setSealing(sealing);
    writer.setLimits(65536, 0, 0);
    // The vectors are numbered 52: chunks before it are thrown away.
    std::vector<Bytes> out;
    for (int i = 0; i < 52; ++i) {
      Bytes message = channel::newMessage();
      message.insert(message.end(), body.begin(), body.end());
      out.clear();
      REQUIRE(writer.write(channel::MessageType::Message, v.at("channel"), v.at("token"), v.at("request"),
                           std::move(message), out));
    }
    REQUIRE(out.size() == 1);
    CHECK(same(out[0], bytes(v.at("chunk"))));
    Bytes chunk = bytes(v.at("chunk"));
    const auto numbered = channel::unseal(chunk, sealing);
    REQUIRE(numbered);
    CHECK(same(numbered->subspan(8), body));
    // Whatever octet is altered, it is refused.
    for (std::size_t i = 0; i < chunk.size(); i += 7) {
      Bytes spoilt = bytes(v.at("chunk"));
      spoilt[i] ^= std::byte{1};
      CHECK(channel::unseal(spoilt, sealing).code() == status::BadSecurityChecksFailed);
    }
  }
}

TEST_CASE("the second implementation's OPN chunks are opened", "[secure][vectors]") {
  const auto identities = vectors("identities").front();
  const auto client = Certificate::fromDer(octets(identities.at("clientCertificate")));
  const auto server = Certificate::fromDer(octets(identities.at("serverCertificate")));
  const auto key = PrivateKey::fromPem(identities.at("serverKey").get<std::string>());
  REQUIRE(client);
  REQUIRE(server);
  REQUIRE(key);
  CHECK(client->applicationUri() == "urn:fernhollow.example:client");
  const Identity own{*server, *key};
  const auto all = vectors("asymmetricChunk");
  CHECK(all.size() == 6);
  for (const auto& v : all) {
    const channel::OpenSealing sealing{policyOf(v.at("policy").get<std::string>()), &own, &*client};
    const Bytes chunk = bytes(v.at("chunk"));
    BinaryReader reader(BytesView(chunk).subspan(8));
    reader.next<std::uint32_t>();
    const auto header = reader.next<channel::AsymmetricHeader>();
    REQUIRE(reader.ok());
    CHECK(header.receiverThumbprint.view() == server->thumbprint().view());
    Bytes plain;
    const auto numbered = channel::unsealOpen(chunk, 8 + reader.position(), sealing, plain);
    REQUIRE(numbered);
    CHECK(same(numbered->subspan(8), bytes(v.at("body"))));
    for (std::size_t i = 8 + reader.position(); i < chunk.size(); i += 61) {
      Bytes spoilt = chunk;
      spoilt[i] ^= std::byte{1};
      CHECK(channel::unsealOpen(spoilt, 8 + reader.position(), sealing, plain).code() ==
            status::BadSecurityChecksFailed);
    }
  }
}

TEST_CASE("keys are agreed on over curves as the second implementation agrees on them", "[secure][vectors]") {
  const auto all = linesOf("ecc.jsonl");
  CHECK(all.size() == 2);
  for (const auto& v : all) {
    INFO(v.at("policy").get<std::string>());
    const Policy& policy = *policyNamed(v.at("policy").get<std::string>());
    using Side = KeyExchange::Side;
    for (const auto& [side, own, other] :
         {std::tuple{Side::Client, "client", "server"}, {Side::Server, "server", "client"}}) {
      const KeyExchange exchange(policy, *PrivateKey::fromPem(v.at(std::string(own) + "Key").get<std::string>()));
      CHECK(exchange.nonce() == octets(v.at(std::string(own) + "Nonce")));
      const auto keys = exchange.finish(side, octets(v.at(std::string(other) + "Nonce")));
      REQUIRE(keys);
      for (const auto& [mine, whose] : {std::pair{keys->sending.get(), own}, {keys->receiving.get(), other}}) {
        CHECK(same(mine->signingKey(), bytes(v["keys"][whose]["signingKey"])));
        CHECK(same(mine->encryptingKey(), bytes(v["keys"][whose]["encryptingKey"])));
        CHECK(same(mine->initializationVector(), bytes(v["keys"][whose]["initializationVector"])));
      }
      const auto* clients = side == Side::Client ? keys->sending.get() : keys->receiving.get();
      CHECK(clients->verify(bytes(v.at("data")), bytes(v.at("hmac"))));
    }
    const auto certificate = Certificate::fromDer(octets(v.at("certificate")));
    REQUIRE(certificate);
    CHECK(certificate->keyKind() == policy.key);
    Bytes signature = bytes(v.at("signature"));
    CHECK(verify(policy, *certificate, bytes(v.at("data")), signature));
    signature[5] ^= std::byte{1};
    CHECK_FALSE(verify(policy, *certificate, bytes(v.at("data")), signature));
    signature.pop_back();
    CHECK_FALSE(verify(policy, *certificate, bytes(v.at("data")), signature));
  }
}

TEST_CASE("a nonce that is no public key is refused", "[secure]") {
  const auto zeros = [](std::size_t size) { return ByteString(std::string(size, 0).data(), size); };
  for (const Policy& policy : policies()) {
    INFO(policy.name);
    const KeyExchange own(policy, zeros);
    CHECK(own.finish(KeyExchange::Side::Server, zeros(policy.nonceSize - 1)).code() == status::BadNonceInvalid);
    CHECK(own.finish(KeyExchange::Side::Server, ByteString()).code() == status::BadNonceInvalid);
    // Neither nought nor a point beside the curve, by which a key could be guessed bit by bit.
    if (!policy.usesCurves()) continue;
    CHECK(own.finish(KeyExchange::Side::Server, zeros(policy.nonceSize)).code() == status::BadNonceInvalid);
    std::string beside(KeyExchange(policy, zeros).nonce().view());
    beside.back() = static_cast<char>(beside.back() ^ 1);
    CHECK(own.finish(KeyExchange::Side::Server, ByteString(beside.data(), beside.size())).code() ==
          status::BadNonceInvalid);
  }
}

TEST_CASE("OPN chunks survive keys of every size", "[secure]") {
  for (const int bits : {2048, 3072, 4096}) {
    const PrivateKey key = PrivateKey::generate(bits);
    const Identity own{Certificate::selfSigned(wish("urn:fernhollow.example:a"), key), key};
    for (const Policy& policy : policies())
      for (std::size_t size = 0; size < 600 && !policy.usesCurves(); size += 83) {
        Bytes chunk(100 + size, std::byte{7});
        const Bytes before = chunk;
        const channel::OpenSealing sealing{&policy, &own, &own.certificate};
        channel::sealOpen(chunk, 92, sealing);
        Bytes plain;
        const auto numbered = channel::unsealOpen(chunk, 92, sealing, plain);
        REQUIRE(numbered);
        CHECK(same(*numbered, BytesView(before).subspan(92)));
      }
  }
}

TEST_CASE("a certificate says who it is of", "[secure]") {
  const PrivateKey key = PrivateKey::generate();
  const Certificate made = Certificate::selfSigned(wish("urn:fernhollow.example:hatchery"), key);
  const auto again = Certificate::fromDer(made.der());
  REQUIRE(again);
  CHECK(again->applicationUri() == "urn:fernhollow.example:hatchery");
  CHECK(again->hosts() == std::vector<std::string>{"filter-house", "127.0.0.1"});
  CHECK(again->keyBits() == 2048);
  CHECK(again->isSelfSigned());
  CHECK(again->subject() == "CN = Fernhollow test, O = Fernhollow");
  CHECK(again->thumbprint().size() == 20);
  CHECK(again->fingerprint().size() == 95);
  CHECK(Certificate::fromFile(made.pem())->der().view() == made.der().view());
  CHECK(PrivateKey::fromPem(key.pem()));
  CHECK(Certificate::fromDer(ByteString("nonsense", 8)).code() == status::BadCertificateInvalid);
  CHECK(PrivateKey::fromPem("nonsense").code() == status::BadCertificateInvalid);
}

TEST_CASE("each check of a certificate fails with its own code", "[secure][cu:Security Certificate Validation]") {
  const PrivateKey key = PrivateKey::generate();
  const Certificate own = Certificate::selfSigned(wish("urn:fernhollow.example:hatchery"), key);
  TrustList trusting;
  trusting.trusted.push_back(own);
  Expected expected{kNow, "filter-house", "urn:fernhollow.example:hatchery"};
  CHECK(validate(own.der(), trusting, expected));
  CHECK(validate(own.der(), {}, expected).code() == status::BadCertificateUntrusted);
  CHECK(validate(own.der(), {}, expected).error().cause.find(own.fingerprint()) != std::string::npos);
  CHECK(validate(ByteString(), trusting, expected).code() == status::BadCertificateInvalid);
  struct Case {
    std::function<void(Expected&)> change;
    StatusCode code;
    const char* words;
  };
  for (const auto& c : std::vector<Case>{
           {[](auto& e) { e.now.ticks -= 2 * kDay; }, status::BadCertificateTimeInvalid, "is a clock wrong?"},
           {[](auto& e) { e.now.ticks += 3 * kDay; }, status::BadCertificateTimeInvalid, "ran out 2 days ago"},
           {[](auto& e) { e.host = "smokehouse"; }, status::BadCertificateHostNameInvalid, "filter-house, 127.0.0.1"},
           {[](auto& e) { e.applicationUri = "urn:x"; }, status::BadCertificateUriInvalid, "calls itself urn:x"}}) {
    Expected wrong = expected;
    c.change(wrong);
    const auto refused = validate(own.der(), trusting, wrong);
    CHECK(refused.code() == c.code);
    CHECK(refused.error().cause.find(c.words) != std::string::npos);
  }
  const PrivateKey weak = PrivateKey::generate(1024);
  TrustList weakList;
  weakList.trusted.push_back(Certificate::selfSigned(wish("urn:fernhollow.example:hatchery"), weak));
  CHECK(validate(weakList.trusted[0].der(), weakList, expected).code() == status::BadCertificatePolicyCheckFailed);
}

TEST_CASE("passwords are kept as hashes that fit them only", "[secure]") {
  const std::string kept = hashPassword("trout and salmon");
  CHECK(kept.starts_with("scrypt$"));
  CHECK(kept != hashPassword("trout and salmon"));  // each with its own salt
  CHECK(verifyPassword(kept, "trout and salmon"));
  for (const char* wrong : {"", "trout", "trout and salmon "}) CHECK_FALSE(verifyPassword(kept, wrong));
  for (const char* broken : {"", "scrypt", "scrypt$$$", "scrypt$99999999999$AAAA$AAAA", "md5$1$AAAA$AAAA"})
    CHECK_FALSE(verifyPassword(broken, "trout and salmon"));
}

}  // namespace zunth::secure_test
