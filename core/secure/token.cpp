#include "core/secure/token.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/json_type.hpp"

#include <algorithm>

#include <openssl/err.h>
#include <openssl/evp.h>

namespace zunth::secure {

using namespace ua;
namespace {

constexpr std::size_t kLongest = 16 * 1024;
constexpr std::int64_t kLeeway = 60;  // s that clocks may differ

/// Base64 with - and _ and without padding (RFC 7515, 2).
std::optional<std::string> fromBase64Url(std::string_view text) {
  std::string plain(text);
  std::ranges::replace(plain, '-', '+');
  std::ranges::replace(plain, '_', '/');
  plain.resize((plain.size() + 3) / 4 * 4, '=');
  const auto octets = fromBase64(plain);
  if (!octets) return std::nullopt;
  return std::string(reinterpret_cast<const char*>(octets->data()), octets->size());
}

const EVP_MD* digestOf(const Json& header) {
  const std::string algorithm = header.value("alg", "");
  // Only these: a token that names its own weaker way ("none", HS256 with a public key) is nobody's.
  if (algorithm == "RS256") return EVP_sha256();
  if (algorithm == "RS384") return EVP_sha384();
  if (algorithm == "RS512") return EVP_sha512();
  return nullptr;
}

bool isSignedBy(const Certificate& issuer, const EVP_MD* digest, std::string_view text, const std::string& signature) {
  std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(), &EVP_MD_CTX_free);
  const bool fits =
      EVP_PKEY_get_base_id(issuer.publicKey()) == EVP_PKEY_RSA &&
      EVP_DigestVerifyInit(context.get(), nullptr, digest, nullptr, issuer.publicKey()) == 1 &&
      EVP_DigestVerify(context.get(), reinterpret_cast<const unsigned char*>(signature.data()), signature.size(),
                       reinterpret_cast<const unsigned char*>(text.data()), text.size()) == 1;
  ERR_clear_error();
  return fits;
}

Error invalid(const char* why) { return {status::BadIdentityTokenInvalid, why, {}}; }
Error rejected(const char* why) { return {status::BadIdentityTokenRejected, why, {}}; }

std::optional<std::int64_t> secondsOf(const Json& claims, const char* name) {
  const auto found = claims.find(name);
  if (found == claims.end() || !found->is_number()) return std::nullopt;
  const double seconds = found->get<double>();
  if (!(seconds > 0)) return std::nullopt;
  // What lasts longer than a clock can tell lasts that long.
  constexpr double kMost = 9e9;
  return static_cast<std::int64_t>(std::min(seconds, kMost));
}

bool isFor(const Json& claims, const std::string& audience) {
  const auto found = claims.find("aud");
  if (found == claims.end()) return false;
  return found->is_array() ? std::ranges::find(*found, Json(audience)) != found->end() : *found == audience;
}

}  // namespace

Result<TokenClaims> checkToken(std::string_view token, const std::vector<Certificate>& issuers,
                               const std::string& audience, DateTime now) {
  const auto first = token.find('.'), second = token.find('.', first + 1);
  if (token.size() > kLongest || first == std::string_view::npos || second == std::string_view::npos)
    return invalid("the token is no JSON Web Token");
  const auto header = fromBase64Url(token.substr(0, first));
  const auto body = fromBase64Url(token.substr(first + 1, second - first - 1));
  const auto signature = fromBase64Url(token.substr(second + 1));
  if (!header || !body || !signature) return invalid("the token is no JSON Web Token");
  const Json head = Json::parse(*header, nullptr, false), claims = Json::parse(*body, nullptr, false);
  if (!head.is_object() || !claims.is_object()) return invalid("the token is no JSON Web Token");
  // RFC 7515, 4.1.11: what the issuer calls critical must be understood, and no extension is.
  if (head.contains("crit")) return rejected("the token has critical extensions, which are not known here");
  const EVP_MD* digest = head.contains("alg") && head["alg"].is_string() ? digestOf(head) : nullptr;
  if (!digest) return rejected("the token is signed in a way that is not taken here");
  const auto signedText = token.substr(0, second);
  if (std::ranges::none_of(issuers, [&](const auto& one) { return isSignedBy(one, digest, signedText, *signature); }))
    return rejected("the token is signed by nobody who is trusted to issue tokens");
  const std::int64_t seconds = std::chrono::duration_cast<std::chrono::seconds>(now.time().time_since_epoch()).count();
  const auto expires = secondsOf(claims, "exp"), begins = secondsOf(claims, "nbf");
  if (!expires || *expires + kLeeway < seconds) return rejected("the token has run out");
  if (begins && *begins - kLeeway > seconds) return rejected("the token is not valid yet: is a clock wrong?");
  if (!isFor(claims, audience)) return rejected("the token is meant for another server");
  TokenClaims out;
  auto text = [&claims](const char* name) {
    const auto found = claims.find(name);
    return found != claims.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  out.subject = text("sub");
  out.issuer = text("iss");
  if (out.subject.empty()) return invalid("the token names nobody");
  if (const auto roles = claims.find("roles"); roles != claims.end() && roles->is_array())
    for (const auto& role : *roles)
      if (role.is_string()) out.roles.push_back(role.get<std::string>());
  out.validTo = DateTime::from(std::chrono::system_clock::time_point(std::chrono::seconds(*expires + kLeeway)));
  return out;
}

}  // namespace zunth::secure
