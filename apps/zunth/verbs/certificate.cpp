#include "apps/zunth/command.hpp"
#include "apps/zunth/own_trust.hpp"
#include "core/ua/base64.hpp"
#include "service/admin/office.hpp"
#include "service/admin/own_certificate.hpp"
#include "service/admin/site.hpp"

#include <filesystem>
#include <fstream>
#include <sstream>

#include <boost/asio/ip/host_name.hpp>
#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

struct CertificateWish {
  std::string site, name, organization, file, key, kind = "rsa";
  std::vector<std::string> hosts;
  int days = 730;
  bool newKey = false;
};

/// Whose certificate it is, with what a new one says when nothing else is asked for.
struct Owner {
  admin::TrustStore store;
  secure::Certificate::Wish wish;
  std::optional<fs::path> site;  // whose office changes it
  secure::KeyKind kind;
  Duration patience;
};

Result<Owner> ownerOf(const CertificateWish& asked, const Options& options) {
  const std::string host = boost::asio::ip::host_name();
  const bool isSite = !asked.site.empty() || fs::exists("site.yaml");
  Owner owner{ownTrust(), {}, {}, secure::keyKindNamed(asked.kind), milliseconds(options.timeout * 1000)};
  if (owner.kind == secure::KeyKind::Other)
    return Error{status::BadSyntaxError, "there are no keys of the kind '" + asked.kind + "'",
                 "--kind rsa, nistP256 or nistP384"};
  owner.wish = {"Zunth on " + host, {}, "urn:" + host + ":zunth", {host}, {}, {}};
  if (isSite) {
    const auto found = siteFolder(asked.site, "zunth certificate --site FOLDER");
    if (!found) return found.error();
    const fs::path& folder = *found;
    const auto site = admin::loadSite(folder);
    owner.site = folder;
    owner.store = admin::TrustStore(folder / "state/trust");
    owner.wish = admin::usualCertificate(site.settings, {});
  }
  if (!asked.name.empty()) owner.wish.commonName = asked.name;
  owner.wish.organization = asked.organization;
  if (!asked.hosts.empty()) owner.wish.hosts = asked.hosts;
  const auto now = std::chrono::system_clock::now();
  owner.wish.validFrom = DateTime::from(now - std::chrono::hours(1));
  owner.wish.validTo = DateTime::from(now + std::chrono::hours(24) * asked.days);
  return owner;
}

int show(const Options& options, const secure::Certificate& certificate) {
  Records records({"what", "is"});
  records.add({"subject", certificate.subject()});
  records.add({"issuer", certificate.isSelfSigned() ? std::string("itself") : certificate.issuer()});
  records.add({"application", certificate.applicationUri()});
  records.add({"hosts", fmt::format("{}", fmt::join(certificate.hosts(), ", "))});
  records.add({"valid from", certificate.validFrom().text()});
  records.add({"valid to", certificate.validTo().text()});
  records.add({"key", fmt::format("{}, {} bits", nameOf(certificate.keyKind()), certificate.keyBits())});
  records.add({"SHA-256", certificate.fingerprint()});
  records.add({"SHA-1", certificate.thumbprintText()});
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

Result<std::string> contentOf(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  if (!in) return Error{status::BadSyntaxError, file + " can't be read", {}};
  return std::move(text).str();
}

const char* whenItCounts(const Owner& owner) {
  return owner.site ? "a running service has it already; open connections go on with the old one"
                    : "it counts from the next connection on";
}

/// What the office of a site says, as far as it is a certificate.
Result<secure::Certificate> askedFor(const Owner& owner, Json request) {
  request["wish"] = admin::jsonOf(owner.wish);
  request["kind"] = std::string(fileNameOf(owner.kind));
  const auto told = admin::administer(*owner.site, request, owner.patience);
  if (!told) return told.error();
  const auto der = fromBase64(told->value("certificate", ""));
  return secure::Certificate::fromDer(der ? ByteString(der->data(), der->size()) : ByteString());
}

int renew(const Options& options, const Owner& owner) {
  Result<secure::Certificate> made = Error{status::Bad, {}, {}};
  if (owner.site) {
    made = askedFor(owner, {{"verb", "renew certificate"}});
  } else if (auto own = owner.store.renew(owner.wish, owner.kind)) {
    made = own->certificate;
  } else {
    made = own.error();
  }
  if (!made) return fail(made.error());
  if (!options.quiet) std::fprintf(stderr, "made: %s\n", whenItCounts(owner));
  return show(options, *made);
}

int request(const Options& options, const Owner& owner, const CertificateWish& asked) {
  Result<std::string> der = std::string();
  if (owner.site) {
    const auto told = admin::administer(*owner.site,
                                        {{"verb", "request certificate"},
                                         {"wish", admin::jsonOf(owner.wish)},
                                         {"kind", std::string(fileNameOf(owner.kind))},
                                         {"newKey", asked.newKey}},
                                        owner.patience);
    if (!told) return fail(told.error());
    if (const auto octets = fromBase64(told->value("request", "")))
      der = std::string(reinterpret_cast<const char*>(octets->data()), octets->size());
  } else {
    der = owner.store.signingRequest(owner.wish, asked.newKey, owner.kind);
  }
  if (!der) return fail(der.error());
  std::ofstream out(asked.file, std::ios::binary);
  out << *der;
  out.close();
  if (!out) return fail({status::BadConfigurationError, asked.file + " can't be written", {}});
  if (!options.quiet)
    std::printf("%s is for your authority to sign\n  then: zunth certificate import CERTIFICATE%s\n",
                asked.file.c_str(), asked.site.empty() ? "" : (" --site " + asked.site).c_str());
  return kDone;
}

int import(const Options& options, const Owner& owner, const CertificateWish& asked) {
  auto octets = contentOf(asked.file);
  if (!octets) return fail(octets.error()), kWrongUse;
  Result<std::string> key = std::string();
  if (!asked.key.empty()) key = contentOf(asked.key);
  if (!key) return fail(key.error()), kWrongUse;
  const auto taken = owner.site ? askedFor(owner, {{"verb", "import certificate"},
                                                   {"certificate", toBase64(std::as_bytes(std::span(*octets)))},
                                                   {"key", *key}})
                                : owner.store.import(*octets, *key);
  if (!taken) return fail(taken.error()), kNo;
  if (!options.quiet) std::fprintf(stderr, "taken: %s\n", whenItCounts(owner));
  return show(options, *taken);
}

}  // namespace

void addCertificate(Program program) {
  auto asked = std::make_shared<CertificateWish>();
  const auto verb = addLocalVerb(program, program.top, "certificate",
                                 "The certificate of a site, or this user's own; alone: show it.",
                                 "zunth certificate new --site my-plant --organization Fernhollow", asked->site);
  const auto fresh =
      addLocalVerb(program, verb, "new", "Make a new key and a self-signed certificate.", {}, asked->site);
  const auto wanted =
      addLocalVerb(program, verb, "request", "Write a signing request for an authority.", {}, asked->site);
  const auto taken =
      addLocalVerb(program, verb, "import", "Take the certificate that an authority made.", {}, asked->site);
  for (const auto& part : {fresh, wanted}) {
    part.option("--name", asked->name, "The subject's common name; the site's own without it");
    part.option("--organization", asked->organization, "The subject's organization");
    part.option("--host", asked->hosts, "Names and addresses under which clients reach it");
  }
  fresh.option("--days", asked->days, "How long it is valid").range(1, 36500).showsDefault();
  wanted.option("FILE", asked->file, "Where to write it (PKCS #10, DER)").required();
  wanted.flag("--new-key", asked->newKey, "For a new key, which counts when its certificate is imported");
  for (const auto& part : {verb, fresh, wanted})
    part.option("--kind", asked->kind, "Of which key: rsa; nistP256 or nistP384 for policies with curves");
  taken.option("FILE", asked->file, "The certificate, PEM or DER; its issuers may follow it").required();
  taken.option("--key", asked->key, "Its key (PEM), when it wasn't made here");
  verb.runs([program, asked, fresh, wanted, taken] {
    const Options& options = program.options;
    auto owner = ownerOf(*asked, options);
    if (!owner) {
      program.exitCode = fail(owner.error());
      return;
    }
    if (fresh.isGiven())
      program.exitCode = renew(options, *owner);
    else if (wanted.isGiven())
      program.exitCode = request(options, *owner, *asked);
    else if (taken.isGiven())
      program.exitCode = import(options, *owner, *asked);
    else if (auto own = owner->store.identity(owner->wish.commonName, owner->wish.applicationUri, owner->wish.hosts,
                                              owner->kind))
      program.exitCode = show(options, own->certificate);
    else
      program.exitCode = fail(own.error());
  });
}

}  // namespace zunth::cli
