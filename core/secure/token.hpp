#pragma once

#include "core/secure/certificate.hpp"

namespace zunth::secure {

/// What an issued token (JSON Web Token, RFC 7519; Part 6, 6.5.3) says of its bearer.
struct TokenClaims {
  std::string subject;             // who it is
  std::string issuer;              // who says so
  std::vector<std::string> roles;  // claim "roles"
  ua::DateTime validTo;            // with some leeway for clocks that differ
};

/// Checks a token in its compact form against the certificates of those who may issue tokens: signed by one of them
/// with RS256, RS384 or RS512, for this audience, and valid now. BadIdentityTokenInvalid for what is no such token,
/// BadIdentityTokenRejected when nobody trusted signed it, it isn't meant for this server, or its time is not now.
ua::Result<TokenClaims> checkToken(std::string_view token, const std::vector<Certificate>& issuers,
                                   const std::string& audience, ua::DateTime now);

}  // namespace zunth::secure
