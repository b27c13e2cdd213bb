#pragma once

#include "core/secure/certificate.hpp"
#include "service/server/settings.hpp"

namespace zunth::admin {

/// What a certificate of this server says when nothing else is asked for: its names, every host that its endpoints
/// are reached by, and from now on for so long.
secure::Certificate::Wish usualCertificate(const server::Settings& settings, std::chrono::hours validity);

}  // namespace zunth::admin
