#include "service/admin/office.hpp"
#include "service/admin/own_certificate.hpp"
#include "service/console/console.hpp"

namespace zunth::console {

using namespace ua;

namespace {

Awaitable<Answer> tellCertificates(Console& console, Visit visit) {
  return passOn(console, std::move(visit), Json{{"verb", "certificates"}});
}
Awaitable<Answer> trust(Console& console, Visit visit) {
  Json asked{{"verb", "trust"}, {"fingerprint", visit.body.at("fingerprint").get<std::string>()}};
  return passOn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> distrust(Console& console, Visit visit) {
  Json asked{{"verb", "distrust"}, {"fingerprint", visit.body.at("fingerprint").get<std::string>()}};
  return passOn(console, std::move(visit), std::move(asked));
}

/// A file's octets, in base64: PEM or DER.
Awaitable<Answer> upload(Console& console, Visit visit) {
  Json asked{{"verb", "trust"}, {"certificate", visit.body.at("certificate").get<std::string>()}};
  return passOn(console, std::move(visit), std::move(asked));
}

// The server's own

constexpr int kMostDays = 3'650;

/// The verb with what a certificate of this server says; refused where the time is none.
Awaitable<Answer> makeOwn(Console& console, Visit visit, Json asked) {
  const int days = visit.body.value("days", 730);
  if (days < 1 || days > kMostDays)
    co_return Answer::of(Error{status::BadOutOfRange, "a certificate is valid for 1 to 3650 days", "730"});
  const std::string kind = visit.body.value("kind", "rsa");
  if (secure::keyKindNamed(kind) == secure::KeyKind::Other)
    co_return Answer::of(
        Error{status::BadInvalidArgument, "there are no keys of this kind", "rsa, nistP256 or nistP384"});
  asked["kind"] = kind;
  asked["wish"] = admin::jsonOf(admin::usualCertificate(console.server().settings(), std::chrono::hours(24 * days)));
  auto told = co_await console.perform(*visit.login, std::move(asked));
  co_return told ? Answer::of(*told) : Answer::of(told.error());
}
Awaitable<Answer> renewOwn(Console& console, Visit visit) {
  Json asked{{"verb", "renew certificate"}};
  return makeOwn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> requestOwn(Console& console, Visit visit) {
  Json asked{{"verb", "request certificate"}, {"newKey", visit.body.value("newKey", false)}};
  return makeOwn(console, std::move(visit), std::move(asked));
}
Awaitable<Answer> importOwn(Console& console, Visit visit) {
  Json asked{{"verb", "import certificate"}, {"certificate", visit.body.at("certificate").get<std::string>()}};
  if (visit.body.contains("key")) asked["key"] = visit.body["key"].get<std::string>();
  return passOn(console, std::move(visit), std::move(asked));
}

}  // namespace

std::vector<Route> certificateRoutes() {
  const Parameter fingerprint{"fingerprint", "of the certificate, whole", true};
  const Parameter file{"certificate", "a file of PEM or DER, in base64", true};
  const Parameter kind{"kind", "of the key: rsa, nistP256 or nistP384; rsa without it"};
  const Parameter days{"days", "that it is valid for; 730 without it"};
  return {
      {"GET",
       "/api/certificates",
       "Whose certificates are trusted, and who was refused",
       Needs::SecurityAdmin,
       tellCertificates,
       {},
       "zunth trust"},
      {"POST",
       "/api/certificates/trust",
       "Trust one that was refused",
       Needs::SecurityAdmin,
       trust,
       {fingerprint},
       "zunth trust allow WHO"},
      {"POST",
       "/api/certificates/remove",
       "Trust one no longer, or forget that it was refused",
       Needs::SecurityAdmin,
       distrust,
       {fingerprint},
       "zunth trust remove WHO"},
      {"POST",
       "/api/certificates/upload",
       "Trust the client with this certificate",
       Needs::SecurityAdmin,
       upload,
       {file},
       "zunth trust add FILE"},
      {"POST",
       "/api/certificates/own/renew",
       "Make the server a new certificate, with a new key; open connections go on with the old one",
       Needs::SecurityAdmin,
       renewOwn,
       {kind, days},
       "zunth certificate renew"},
      {"POST",
       "/api/certificates/own/request",
       "A request for an authority to sign: PKCS #10 in DER, in base64",
       Needs::SecurityAdmin,
       requestOwn,
       {kind, {"newKey", "true for a new key"}},
       "zunth certificate request FILE"},
      {"POST",
       "/api/certificates/own/import",
       "Take what an authority made of the request",
       Needs::SecurityAdmin,
       importOwn,
       {file, {"key", "its private key in PEM, where it isn't the server's own"}},
       "zunth certificate import FILE"},
  };
}

}  // namespace zunth::console
