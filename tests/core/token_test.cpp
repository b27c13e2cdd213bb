// Issued tokens: signed by somebody who is trusted, for this server, now; anything else is refused.
#include "core/secure/token.hpp"

#include "core/ua/base64.hpp"

#include "tests/authority.hpp"
#include <catch2/catch.hpp>
#include <openssl/evp.h>

namespace zunth::token_test {

using namespace zunth::ua;

namespace {

std::string base64Url(std::string_view text) {
  std::string out = toBase64(std::as_bytes(std::span(text)));
  std::ranges::replace(out, '+', '-');
  std::ranges::replace(out, '/', '_');
  while (out.ends_with('=')) out.pop_back();
  return out;
}

std::string tokenOf(const std::string& header, const std::string& claims, const secure::PrivateKey& key) {
  const std::string text = base64Url(header) + "." + base64Url(claims);
  EVP_MD_CTX* context = EVP_MD_CTX_new();
  std::string signature(512, '\0');
  std::size_t size = signature.size();
  EVP_DigestSignInit(context, nullptr, EVP_sha256(), nullptr, key.handle());
  EVP_DigestSign(context, reinterpret_cast<unsigned char*>(signature.data()), &size,
                 reinterpret_cast<const unsigned char*>(text.data()), text.size());
  EVP_MD_CTX_free(context);
  return text + "." + base64Url(std::string_view(signature).substr(0, size));
}

}  // namespace

TEST_CASE("a token is taken from a trusted issuer, for this server, now", "[secure][token][cu:Security User JWT]") {
  const auto issuer = test::Authority::self({}), stranger = test::Authority::self({});
  const auto now = *DateTime::parse("2026-05-04T07:30:00Z");  // 1777879800
  const std::string rs256 = R"({"alg":"RS256","typ":"JWT"})";
  const std::string good =
      R"({"sub":"mia","iss":"urn:x","aud":"urn:pond","exp":1777880000,"nbf":1777879000,"roles":["shift"]})";
  const auto check = [&](const std::string& token) {
    return secure::checkToken(token, {issuer.certificate}, "urn:pond", now);
  };
  const auto taken = check(tokenOf(rs256, good, issuer.key));
  REQUIRE(taken);
  CHECK(taken->subject == "mia");
  CHECK(taken->roles == std::vector<std::string>{"shift"});
  const std::string sound = tokenOf(rs256, good, issuer.key);
  struct Row {
    const char* name;
    std::string token;
    StatusCode code;
  };
  const auto claims = [&](const char* text) { return tokenOf(rs256, text, issuer.key); };
  const Row rows[] = {
      {"signed by a stranger", tokenOf(rs256, good, stranger.key), status::BadIdentityTokenRejected},
      {"signed by nobody", base64Url(R"({"alg":"none"})") + "." + base64Url(good) + ".",
       status::BadIdentityTokenRejected},
      {"another algorithm", tokenOf(R"({"alg":"HS256"})", good, issuer.key), status::BadIdentityTokenRejected},
      {"other claims under the signature",
       sound.substr(0, sound.find('.')) + "." + base64Url(R"({"sub":"otto"})") + sound.substr(sound.rfind('.')),
       status::BadIdentityTokenRejected},
      {"for another server", claims(R"({"sub":"mia","aud":"urn:other","exp":1777880000})"),
       status::BadIdentityTokenRejected},
      {"for nobody", claims(R"({"sub":"mia","exp":1777880000})"), status::BadIdentityTokenRejected},
      {"run out", claims(R"({"sub":"mia","aud":"urn:pond","exp":1777879000})"), status::BadIdentityTokenRejected},
      {"without an end", claims(R"({"sub":"mia","aud":"urn:pond"})"), status::BadIdentityTokenRejected},
      {"not yet valid", claims(R"({"sub":"mia","aud":"urn:pond","exp":1777889000,"nbf":1777889000})"),
       status::BadIdentityTokenRejected},
      {"of nobody", claims(R"({"aud":"urn:pond","exp":1777880000})"), status::BadIdentityTokenInvalid},
      {"no token", "trout", status::BadIdentityTokenInvalid},
      {"no JSON", "dHJvdXQ.dHJvdXQ.dHJvdXQ", status::BadIdentityTokenInvalid},
      {"empty", "", status::BadIdentityTokenInvalid},
  };
  for (const auto& row : rows) {
    INFO(row.name);
    CHECK(check(row.token).code() == row.code);
  }
}

}  // namespace zunth::token_test
