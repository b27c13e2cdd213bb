#pragma once

#include "apps/zunth/command.hpp"
#include "service/admin/trust_store.hpp"

namespace zunth::cli {

/// The certificates that this user's client knows, and its own: in $XDG_CONFIG_HOME/zunth/trust.
admin::TrustStore ownTrust();

/// How connections are secured: as the options say, with this user's certificate; an unknown server's certificate is
/// shown and asked about on a terminal, taken with --trust, and refused otherwise.
client::Security securityFrom(const Options& options);

}  // namespace zunth::cli
