#include "apps/zunth/own_trust.hpp"

#include <algorithm>
#include <cstdio>
#include <filesystem>

#include <boost/asio/ip/host_name.hpp>
#include <fmt/format.h>
#include <unistd.h>

namespace zunth::cli {

using namespace ua;

namespace {

std::string plain(std::string fingerprint) {
  std::erase(fingerprint, ':');
  std::ranges::transform(fingerprint, fingerprint.begin(),
                         [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  return fingerprint;
}

void show(const secure::Certificate& certificate, const std::string& host) {
  std::fprintf(stderr,
               "The server at %s shows a certificate that this client does not know:\n"
               "  subject      %s\n  issuer       %s\n  application  %s\n  valid        %s to %s\n  SHA-256      %s\n",
               host.c_str(), certificate.subject().c_str(),
               certificate.isSelfSigned() ? "itself" : certificate.issuer().c_str(),
               certificate.applicationUri().c_str(), certificate.validFrom().text().c_str(),
               certificate.validTo().text().c_str(), certificate.fingerprint().c_str());
}

/// Yes only when somebody types it.
bool isAgreed() {
  if (!::isatty(STDIN_FILENO) || !::isatty(STDERR_FILENO)) return false;
  std::fprintf(stderr, "Trust it from now on? [y/N] ");
  char answer[16] = {};
  return std::fgets(answer, sizeof answer, stdin) && (answer[0] == 'y' || answer[0] == 'Y');
}

Result<void> judge(const ByteString& chain, const std::string& host, const std::string& applicationUri,
                   const std::string& trusted) {
  const auto store = ownTrust();
  const secure::Expected expected{DateTime::from(std::chrono::system_clock::now()), host, applicationUri};
  auto fine = secure::validate(chain, store.load(), expected);
  if (fine || fine.code() != status::BadCertificateUntrusted) {
    if (fine) return fine;
    Error error = fine.error();
    error.cause = "this client refuses the server's certificate: " + error.cause;
    return error;
  }
  auto certificate = secure::Certificate::fromDer(chain);
  if (!certificate) return certificate.error();
  // Sixteen octets, as fewer can be searched for; in hexadecimal digits.
  constexpr std::size_t kEnough = 32;
  const std::string print = plain(certificate->fingerprint()), wanted = plain(trusted);
  const bool isNamed = wanted.size() >= kEnough && print.starts_with(wanted);
  if (!isNamed) show(*certificate, host);
  if (!isNamed && !isAgreed())
    return Error{status::BadCertificateUntrusted, "this client does not trust the server's certificate",
                 fmt::format("compare the fingerprint, then the same with --trust {}",
                             certificate->fingerprint().substr(0, kEnough / 2 * 3 - 1))};
  if (auto kept = store.trust(*certificate); !kept) return kept;
  return secure::validate(chain, store.load(), expected);
}

}  // namespace

admin::TrustStore ownTrust() {
  namespace fs = std::filesystem;
  if (const char* config = std::getenv("XDG_CONFIG_HOME"); config && *config)
    return admin::TrustStore(fs::path(config) / "zunth/trust");
  const char* home = std::getenv("HOME");
  return admin::TrustStore(fs::path(home ? home : ".") / ".config/zunth/trust");
}

client::Security securityFrom(const Options& options) {
  client::Security out;
  out.wish = options.security;
  out.policy = options.policy;
  if (!out.policy.empty() && out.wish == client::Security::Wish::Auto) out.wish = client::Security::Wish::Encrypt;
  out.trust = [trusted = options.trust](const ByteString& chain, const std::string& host,
                                        const std::string& applicationUri) {
    return judge(chain, host, applicationUri, trusted);
  };
  out.identity = [](secure::KeyKind kind) -> Result<std::shared_ptr<const secure::Identity>> {
    const std::string host = boost::asio::ip::host_name();
    auto identity =
        ownTrust().identity("Zunth on " + host, "urn:" + host + ":zunth", std::vector<std::string>(1, host), kind);
    if (!identity) return identity.error();
    return std::make_shared<const secure::Identity>(std::move(*identity));
  };
  return out;
}

}  // namespace zunth::cli
