// Each failure of the standard's certificate checks, over the wire and in both directions: a client whose certificate
// is at fault is refused by the server with that code, a server whose certificate is at fault by the client.
#include "core/space/namespace0.hpp"
#include "service/client/session.hpp"
#include "service/endpoint/listener.hpp"
#include "service/server/server.hpp"

#include "tests/authority.hpp"
#include "tests/identity.hpp"
#include "tests/service/run_loop.hpp"
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::certificate_test {

using namespace zunth::ua;
using test::Authority;
namespace asio = net::asio;

namespace {

const char* const kUri = "urn:fernhollow.example:device";

/// One certificate that is wrong in one way, and what whoever sees it knows.
struct Fault {
  const char* name;
  StatusCode code;
  std::shared_ptr<const secure::Identity> identity;
  secure::TrustList list;
  bool onlyOfServers = false;  // a client's host and name are not checked against anything
};

std::vector<Fault> faults() {
  static const Authority authority, other;
  Authority::Wish weakIssuer;  // an end entity that signs others
  weakIssuer.name = "Fernhollow impostor";
  static const Authority noAuthority(weakIssuer, &authority);
  Authority::Wish oldIssuer = Authority::root();
  oldIssuer.name = "Fernhollow old authority";
  oldIssuer.validFrom = -30 * 86'400;
  oldIssuer.validTo = -86'400;
  static const Authority outdated(oldIssuer);
  Authority::Wish middle = Authority::root();
  middle.name = "Fernhollow workshop";
  static const Authority workshop(middle, &authority);
  const auto issued = [](const Authority& by, const std::function<void(Authority::Wish&)>& change = {}) {
    Authority::Wish wish;
    wish.uri = kUri;
    if (change) change(wish);
    return std::make_shared<const secure::Identity>(by.issue(wish));
  };
  const secure::TrustList trusting{{authority.certificate()}, {}, {authority.revoke({})}};
  std::vector<Fault> out;
  out.push_back({"trusted by its issuer", status::Good, issued(authority), trusting});
  out.push_back({"trusted through two issuers",
                 status::Good,
                 issued(workshop),
                 {{authority.certificate()}, {workshop.certificate()}, {authority.revoke({}), workshop.revoke({})}}});
  out.push_back({"issuer unknown", status::BadCertificateChainIncomplete, issued(other), trusting});
  out.push_back({"issuer known, not trusted",
                 status::BadCertificateUntrusted,
                 issued(other),
                 {{}, {other.certificate()}, {other.revoke({})}}});
  out.push_back({"not valid yet", status::BadCertificateTimeInvalid,
                 issued(authority, [](auto& w) { w.validFrom = 3 * 3600; }), trusting});
  out.push_back(
      {"run out", status::BadCertificateTimeInvalid, issued(authority, [](auto& w) { w.validTo = -3600; }), trusting});
  out.push_back({"issuer run out",
                 status::BadCertificateIssuerTimeInvalid,
                 issued(outdated),
                 {{outdated.certificate()}, {}, {outdated.revoke({})}}});
  out.push_back({"for another host", status::BadCertificateHostNameInvalid,
                 issued(authority, [](auto& w) { w.hosts = "DNS:filter-house"; }), trusting, true});
  out.push_back({"of another application", status::BadCertificateUriInvalid,
                 issued(authority, [](auto& w) { w.uri = "urn:fernhollow.example:other"; }), trusting, true});
  out.push_back({"not for messages", status::BadCertificateUseNotAllowed,
                 issued(authority, [](auto& w) { w.usage = "critical,cRLSign"; }), trusting});
  out.push_back(
      {"issuer that may not issue",
       status::BadCertificateIssuerUseNotAllowed,
       issued(noAuthority),
       {{authority.certificate()}, {noAuthority.certificate()}, {authority.revoke({}), noAuthority.revoke({})}}});
  out.push_back({"no revocation list",
                 status::BadCertificateRevocationUnknown,
                 issued(authority),
                 {{authority.certificate()}, {}, {}}});
  out.push_back({"no revocation list of the issuer's issuer",
                 status::BadCertificateIssuerRevocationUnknown,
                 issued(workshop),
                 {{authority.certificate()}, {workshop.certificate()}, {workshop.revoke({})}}});
  out.push_back({"signed with SHA-1", status::BadCertificatePolicyCheckFailed,
                 issued(authority, [](auto& w) { w.digest = EVP_sha1; }), trusting});
  out.push_back({"signed with MD5", status::BadCertificatePolicyCheckFailed,
                 issued(authority, [](auto& w) { w.digest = EVP_md5; }), trusting});
  out.push_back({"for signing programs", status::BadCertificateUseNotAllowed,
                 issued(authority, [](auto& w) { w.extended = "codeSigning"; }), trusting});
  Authority::Wish only = Authority::root();
  only.constraints = "critical,CA:TRUE,pathlen:0";
  static const Authority last(only);
  static const Authority below(middle, &last);
  out.push_back({"an issuer below one that allows none",
                 status::BadCertificateIssuerUseNotAllowed,
                 issued(below),
                 {{last.certificate()}, {below.certificate()}, {last.revoke({}), below.revoke({})}}});
  const auto taken = issued(authority);
  out.push_back({"revoked by the newer of two lists",
                 status::BadCertificateRevoked,
                 taken,
                 {{authority.certificate()}, {}, {authority.revoke({}), authority.revoke({taken->certificate})}}});
  out.push_back({"the same, the other way round",
                 status::BadCertificateRevoked,
                 taken,
                 {{authority.certificate()}, {}, {authority.revoke({taken->certificate}), authority.revoke({})}}});
  out.push_back({"a revocation list that has run out",
                 status::BadCertificateRevocationUnknown,
                 taken,
                 {{authority.certificate()}, {}, {authority.revoke({}, -1)}}});
  const auto gone = issued(authority);
  out.push_back({"revoked",
                 status::BadCertificateRevoked,
                 gone,
                 {{authority.certificate()}, {}, {authority.revoke({gone->certificate})}}});
  out.push_back({"issuer revoked",
                 status::BadCertificateIssuerRevoked,
                 issued(workshop),
                 {{authority.certificate()},
                  {workshop.certificate()},
                  {authority.revoke({workshop.certificate()}), workshop.revoke({})}}});
  const auto weak = issued(authority, [](auto& w) { w.bits = 1024; });
  out.push_back({"a key that is too short", status::BadCertificatePolicyCheckFailed, weak, trusting});
  return out;
}

/// Opens an encrypted session between two applications of which one is as the fault says.
Result<void> connect(const Fault& fault, bool isServers) {
  spdlog::set_level(spdlog::level::off);
  asio::io_context loop{1};
  space::Space space{String(kUri)};
  space::loadNamespace0(space);
  const auto good = test::identity(kUri);
  const auto now = [] { return DateTime::from(std::chrono::system_clock::now()); };
  server::Settings settings;
  settings.applicationUri = kUri;
  settings.allowAnonymous = true;
  settings.identities = isServers ? fault.identity : good;
  settings.trust = [&](const ByteString& chain) {
    return isServers ? Result<void>() : secure::validate(chain, fault.list, {now(), {}, {}});
  };
  server::Server server(space, settings);
  endpoint::Listener listener(loop, server);
  const auto url = listener.listen("opc.tcp://127.0.0.1:0");
  REQUIRE(url);
  server.setEndpointUrls({*url});
  client::Session::Options options;
  options.timeout = std::chrono::seconds(10);
  options.security.wish = client::Security::Wish::Encrypt;
  options.security.identity = [&](auto) -> Result<std::shared_ptr<const secure::Identity>> {
    return isServers ? good : fault.identity;
  };
  options.security.trust = [&](const ByteString& chain, const std::string& host, const std::string& uri) {
    return isServers ? secure::validate(chain, fault.list, {now(), host, uri}) : Result<void>();
  };
  Result<void> outcome;
  test::run(loop, [&]() -> client::Awaitable<void> {
    auto session = co_await client::Session::open(*url, options);
    if (session)
      co_await (*session)->close();
    else
      outcome = session.error();
  });
  return outcome;
}

}  // namespace

TEST_CASE("what a site tolerates is let in, and nothing else", "[certificate]") {
  const Authority authority;
  Authority::Wish old;
  old.uri = kUri;
  old.validTo = -3600;
  const auto outdated = authority.issue(old);
  const secure::TrustList list{{authority.certificate()}, {}, {}};  // and no revocation list
  const auto check = [&](std::vector<StatusCode> tolerated) {
    return secure::validate(outdated.certificate.der(), list,
                            {DateTime::from(std::chrono::system_clock::now()), {}, {}, std::move(tolerated)})
        .code();
  };
  CHECK(check({}) == status::BadCertificateTimeInvalid);
  CHECK(check({status::BadCertificateTimeInvalid}) == status::BadCertificateRevocationUnknown);
  CHECK(check({status::BadCertificateTimeInvalid, status::BadCertificateRevocationUnknown}).isGood());
  Authority::Wish far;
  far.validTo = 5000L * 365 * 86'400;  // beyond what a clock of nanoseconds holds
  CHECK(Authority::self(far).certificate.validTo().text().starts_with("70"));
}

TEST_CASE("users log in with certificates and with issued tokens", "[certificate][cu:Security User X509]") {
  spdlog::set_level(spdlog::level::off);
  asio::io_context loop{1};
  space::Space space{String(kUri)};
  space::loadNamespace0(space);
  const auto mia = std::make_shared<const secure::Identity>(Authority::self({}));
  server::Settings settings;
  settings.applicationUri = kUri;
  settings.identities = test::identities(kUri);
  settings.trust = [](const ByteString&) { return Result<void>(); };
  settings.allowUnsecured = true;
  const auto leo = test::identity("urn:fernhollow.example:leo", secure::KeyKind::NistP256);
  settings.checkUserCertificate = [&](const ByteString& chain) -> Result<server::Account> {
    if (chain == mia->certificate.der() || chain == leo->certificate.der()) return server::Account{};
    return Error{status::BadUserAccessDenied, "not trusted", {}};
  };
  settings.checkPassword = [](const std::string& name, const std::string& password, const auto& done) {
    if (name == "nora" && password == "of course")
      done(server::Account{});
    else
      done(Error{status::BadUserAccessDenied, "no", {}});
  };
  settings.checkToken = [](const std::string& token) -> Result<server::User> {
    const auto now = DateTime::from(std::chrono::system_clock::now());
    server::User user;
    user.name = "otto";
    if (token == "late.token.indeed")
      user.validTo = DateTime{now.ticks - 1};
    else if (token != "good.token.indeed")
      return Error{status::BadIdentityTokenRejected, "no", {}};
    user.caller.isAnonymous = false;
    return user;
  };
  server::Server server(space, settings);
  endpoint::Listener listener(loop, server);
  const auto url = listener.listen("opc.tcp://127.0.0.1:0");
  REQUIRE(url);
  server.setEndpointUrls({*url});
  std::function<void()> meanwhile;  // once somebody is logged in
  std::size_t ended = 0;            // sessions that this ends
  struct Channel {
    client::Security::Wish wish;
    const char* policy;
  };
  const auto logIn = [&](const Channel& channel, const std::function<void(client::Session::Options&)>& as) {
    client::Session::Options options;
    options.timeout = std::chrono::seconds(10);
    options.security.wish = channel.wish;
    options.security.policy = channel.policy;
    options.security.identity = [](secure::KeyKind kind) {
      return Result<std::shared_ptr<const secure::Identity>>(test::identity("urn:fernhollow.example:client", kind));
    };
    options.security.trust = [](const ByteString&, const std::string&, const std::string&) { return Result<void>(); };
    as(options);
    StatusCode code = status::Good;
    loop.restart();
    test::run(loop, [&]() -> client::Awaitable<void> {
      auto session = co_await client::Session::open(*url, options);
      code = session.code();
      const std::size_t before = server.sessionCount();
      if (session && meanwhile) meanwhile();
      ended = before - server.sessionCount();
      if (session) co_await (*session)->close();
    });
    return code;
  };
  using Wish = client::Security::Wish;
  for (const Channel& wish : {Channel{Wish::None, ""},
                              {Wish::Encrypt, "Aes256_Sha256_RsaPss"},
                              {Wish::Sign, "Basic256Sha256"},
                              {Wish::Encrypt, "ECC_nistP256"},
                              {Wish::Encrypt, "ECC_nistP384"}}) {
    INFO(wish.policy);
    CHECK(logIn(wish, [](auto& o) { o.user = "nora", o.password = "of course"; }).isGood());
    CHECK(logIn(wish, [](auto& o) { o.user = "nora", o.password = "of course not"; }) == status::BadUserAccessDenied);
    CHECK(logIn(wish, [&](auto& o) { o.userIdentity = mia; }).isGood());
    CHECK(logIn(wish, [&](auto& o) {
            o.userIdentity = std::make_shared<const secure::Identity>(Authority::self({}));
          }) == status::BadUserAccessDenied);
    // Her certificate, but not her key.
    CHECK(logIn(wish, [&](auto& o) {
            o.userIdentity = std::make_shared<const secure::Identity>(
                secure::Identity{mia->certificate, secure::PrivateKey::generate()});
          }) == status::BadUserSignatureInvalid);
    CHECK(logIn(wish, [](auto& o) { o.token = "good.token.indeed"; }).isGood());
    CHECK(logIn(wish, [](auto& o) { o.token = "bad.token.indeed"; }) == status::BadIdentityTokenRejected);
    CHECK(logIn(wish, [](auto&) {}) == status::BadIdentityTokenRejected);
  }
  // Keys on curves sign; they can't encrypt, and a channel that only signs keeps nothing secret.
  CHECK(logIn({Wish::Encrypt, "ECC_nistP256"}, [&](auto& o) { o.userIdentity = leo; }).isGood());
  CHECK(logIn({Wish::Sign, "ECC_nistP256"}, [&](auto& o) { o.userIdentity = leo; }).isGood());
  CHECK(logIn({Wish::Sign, "ECC_nistP256"}, [&](auto& o) { o.userIdentity = mia; }).isGood());
  CHECK(logIn({Wish::Encrypt, "ECC_nistP384"}, [&](auto& o) { o.userIdentity = leo; }) ==
        status::BadIdentityTokenRejected);
  CHECK(logIn({Wish::Sign, "ECC_nistP256"}, [](auto& o) { o.user = "nora", o.password = "of course"; }) ==
        status::BadIdentityTokenRejected);
  CHECK(logIn({Wish::Sign, "ECC_nistP256"}, [](auto& o) { o.token = "good.token.indeed"; }) ==
        status::BadIdentityTokenRejected);
  // What they logged in with doesn't last for ever.
  const Channel wish{Wish::None, ""};
  meanwhile = [&] { server.endRunOut(); };
  CHECK(logIn(wish, [](auto& o) { o.token = "good.token.indeed"; }).isGood());
  CHECK(ended == 0);
  CHECK(logIn(wish, [](auto& o) { o.token = "late.token.indeed"; }).isGood());
  CHECK(ended == 1);
  for (const bool isStillTrusted : {true, false}) {
    meanwhile = [&] {
      server.accountsChanged([&](const server::User& user) -> Result<server::Account> {
        if (isStillTrusted && user.certificate == mia->certificate.der()) return server::Account{};
        return Error{status::BadUserAccessDenied, "trusted no longer", {}};
      });
    };
    CHECK(logIn(wish, [&](auto& o) { o.userIdentity = mia; }).isGood());
    CHECK(ended == (isStillTrusted ? 0u : 1u));
  }
}

TEST_CASE("a certificate is shown with its issuers", "[certificate][cu:Security Certificate Validation]") {
  const Authority authority, workshop(Authority::root(), &authority);
  Authority::Wish wish;
  wish.uri = kUri;
  const auto own = workshop.issue(wish);
  const secure::TrustList list{{authority.certificate()}, {}, {authority.revoke({}), workshop.revoke({})}};
  const auto& issuer = workshop.certificate().der();
  for (const bool isServers : {true, false}) {
    const auto shown = [&](const ByteString& issuers) {
      return connect({"", status::Good, std::make_shared<secure::Identity>(own.certificate, own.key, issuers), list},
                     isServers);
    };
    CHECK(shown({}).code() == (isServers ? status::BadCertificateChainIncomplete : status::BadSecurityChecksFailed));
    const auto whole = shown(issuer);
    INFO(whole.error().text());
    CHECK(whole);
  }
}

TEST_CASE("a faulty certificate is refused with its own code, in both directions",
          "[certificate][cu:Security Certificate Validation]") {
  for (const auto& fault : faults()) {
    INFO(fault.name);
    const auto byClient = connect(fault, true);
    INFO(byClient.error().text());
    CHECK(byClient.code() == fault.code);
    if (fault.onlyOfServers) continue;
    const auto byServer = connect(fault, false);
    INFO(byServer.error().text());
    // Part 4, 6.1.3: who isn't trusted is told that something is wrong, and not what.
    const bool isStranger =
        fault.code == status::BadCertificateChainIncomplete || fault.code == status::BadCertificateUntrusted ||
        fault.code == status::BadCertificatePolicyCheckFailed || fault.code == status::BadCertificateInvalid;
    CHECK(byServer.code() == (isStranger ? status::BadSecurityChecksFailed : fault.code));
  }
}

}  // namespace zunth::certificate_test
