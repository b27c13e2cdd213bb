#include "service/admin/trust_store.hpp"

#include "service/admin/state_file.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

namespace {

constexpr std::size_t kMostRejected = 20;
constexpr auto kValidity = std::chrono::hours(24 * 730);

std::string readFile(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  return std::move(text).str();
}

constexpr unsigned kForAll = 0644, kForOwner = 0600;

std::string_view octetsOf(const secure::Certificate& certificate) { return certificate.der().view(); }

/// "filter-house-3FA0C2": the common name as far as it can be a file's, and the fingerprint's beginning.
std::string fileNameOf(const secure::Certificate& certificate) {
  std::string name;
  const std::string& subject = certificate.subject();
  const auto from = subject.find("CN = ");
  for (std::size_t i = from == std::string::npos ? 0 : from + 5; i < subject.size() && subject[i] != ','; ++i)
    name += std::isalnum(static_cast<unsigned char>(subject[i])) ? subject[i] : '-';
  std::string print = certificate.fingerprint().substr(0, 17);
  std::erase(print, ':');
  return name.substr(0, 40) + "-" + print + ".der";
}

void readFolder(const fs::path& folder, TrustStore::Kind kind, std::vector<TrustStore::Entry>& out) {
  std::error_code ignored;
  std::vector<fs::path> files;
  for (const auto& entry : fs::directory_iterator(folder, ignored)) files.push_back(entry.path());
  std::ranges::sort(files);
  for (const auto& file : files)
    if (auto certificate = secure::Certificate::fromFile(readFile(file)))
      out.push_back({kind, std::move(*certificate), file});
}

void readRevocations(const fs::path& folder, std::vector<secure::RevocationList>& out) {
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder, ignored))
    if (auto list = secure::RevocationList::fromFile(readFile(entry.path()))) out.push_back(std::move(*list));
}

}  // namespace

std::string_view nameOf(TrustStore::Kind kind) {
  switch (kind) {
    case TrustStore::Kind::Trusted: return "trusted";
    case TrustStore::Kind::Issuer: return "issuer";
    case TrustStore::Kind::Rejected: return "refused";
  }
  return "";
}

fs::path TrustStore::ownFolder(secure::KeyKind kind) const {
  const fs::path own = folder_ / "own";
  return kind == secure::KeyKind::Rsa ? own : own / secure::fileNameOf(kind);
}

Result<secure::Identity> TrustStore::identity(const std::string& commonName, const std::string& applicationUri,
                                              const std::vector<std::string>& hosts, secure::KeyKind kind) const {
  const fs::path own = ownFolder(kind), certificateFile = own / "certificate.der", keyFile = own / "key.pem";
  if (fs::exists(certificateFile)) {
    auto certificate = secure::Certificate::fromFile(readFile(certificateFile));
    if (!certificate)
      return Error{certificate.code(), fmt::format("{}: {}", certificateFile.string(), certificate.error().cause), {}};
    auto key = secure::PrivateKey::fromPem(readFile(keyFile));
    if (!key) return Error{key.code(), fmt::format("{}: {}", keyFile.string(), key.error().cause), {}};
    if (certificate->keyKind() != kind || key->kind() != kind)
      return Error{status::BadConfigurationError,
                   fmt::format("{} and {} hold no {} key and certificate", keyFile.string(), certificateFile.string(),
                               secure::nameOf(kind)),
                   fmt::format("keys of other kinds belong into folders of their own below {}", own.string())};
    if (!certificate->fits(*key))
      return Error{status::BadConfigurationError,
                   fmt::format("{} is not the key to {}", keyFile.string(), certificateFile.string()),
                   "put both of one pair there"};
    const std::string issuers = readFile(own / "chain.der");
    return secure::Identity{std::move(*certificate), std::move(*key), ByteString(issuers.data(), issuers.size())};
  }
  // A key that is there already belongs to somebody: it is never written over, a certificate is made for it.
  auto key = fs::exists(keyFile) ? secure::PrivateKey::fromPem(readFile(keyFile)) : secure::PrivateKey::generate(kind);
  if (!key || key->kind() != kind)
    return Error{status::BadConfigurationError,
                 fmt::format("{} is missing, and {} holds no {} key", certificateFile.string(), keyFile.string(),
                             secure::nameOf(kind)),
                 "put the certificate back beside its key, or move the key away"};
  const auto now = std::chrono::system_clock::now();
  secure::Certificate::Wish wish;
  wish.commonName = commonName.substr(0, 64);
  wish.applicationUri = applicationUri;
  wish.hosts = hosts;
  // An hour ago, for clocks that are behind.
  wish.validFrom = DateTime::from(now - std::chrono::hours(1));
  wish.validTo = DateTime::from(now + kValidity);
  auto certificate = secure::Certificate::selfSigned(wish, *key);
  if (auto written = replaceFile(keyFile, key->pem(), kForOwner); !written) return written.error();
  if (auto written = replaceFile(certificateFile, octetsOf(certificate), kForAll); !written) return written.error();
  return secure::Identity{std::move(certificate), std::move(*key)};
}

Result<secure::Identities> TrustStore::identities(const std::string& commonName, const std::string& applicationUri,
                                                  const std::vector<std::string>& hosts) const {
  secure::Identities out;
  for (const auto kind : kKinds) {
    auto one = identity(commonName, applicationUri, hosts, kind);
    if (!one) return one.error();
    out.add(std::make_shared<const secure::Identity>(std::move(*one)));
  }
  return out;
}

namespace {

/// The certificate last: whoever sees the new one finds the key to it, and its issuers.
Result<void> writeIdentity(const fs::path& own, const secure::Identity& identity) {
  std::error_code ignored;
  for (const char* name : {"certificate.der", "key.pem", "chain.der"})
    fs::copy_file(own / name, own / (std::string(name) + ".old"), fs::copy_options::overwrite_existing, ignored);
  if (auto written = replaceFile(own / "key.pem", identity.key.pem(), kForOwner); !written) return written;
  fs::remove(own / "chain.der", ignored);
  if (!identity.issuers.empty())
    if (auto written = replaceFile(own / "chain.der", identity.issuers.view(), kForAll); !written) return written;
  return replaceFile(own / "certificate.der", octetsOf(identity.certificate), kForAll);
}

}  // namespace

Result<secure::Identity> TrustStore::renew(const secure::Certificate::Wish& wish, secure::KeyKind kind) const {
  const auto key = secure::PrivateKey::generate(kind);
  secure::Identity made{secure::Certificate::selfSigned(wish, key), key};
  if (auto written = writeIdentity(ownFolder(kind), made); !written) return written.error();
  return made;
}

Result<std::string> TrustStore::signingRequest(const secure::Certificate::Wish& wish, bool newKey,
                                               secure::KeyKind kind) const {
  const fs::path own = ownFolder(kind);
  if (newKey) {
    const auto key = secure::PrivateKey::generate(kind);
    if (auto written = replaceFile(own / "key-waiting.pem", key.pem(), kForOwner); !written) return written.error();
    return secure::Certificate::signingRequest(wish, key);
  }
  auto key = secure::PrivateKey::fromPem(readFile(own / "key.pem"));
  if (!key) return Error{key.code(), fmt::format("{} has no key yet", own.string()), "start the site once"};
  return secure::Certificate::signingRequest(wish, *key);
}

Result<secure::PrivateKey> TrustStore::keyFor(const secure::Certificate& certificate, std::string_view keyPem) const {
  if (certificate.keyKind() == secure::KeyKind::Other)
    return Error{status::BadCertificateInvalid, "the certificate's key is neither RSA nor on NIST's P-256 or P-384",
                 "have one made for: zunth certificate request"};
  const fs::path own = ownFolder(certificate.keyKind());
  std::vector<std::string> candidates{std::string(keyPem)};
  if (keyPem.empty()) candidates = {readFile(own / "key.pem"), readFile(own / "key-waiting.pem")};
  for (const auto& pem : candidates)
    if (auto key = secure::PrivateKey::fromPem(pem); key && certificate.fits(*key)) return key;
  return Error{status::BadCertificateInvalid, "the certificate is for another key than this site's",
               "give its key with --key, or have one made for: zunth certificate request"};
}

Result<void> TrustStore::checkImport(std::string_view octets, std::string_view keyPem) const {
  auto chain = secure::Certificate::chainFromFile(octets);
  if (!chain) return chain.error();
  auto key = keyFor(chain->front(), keyPem);
  return key ? Result<void>() : Result<void>(key.error());
}

Result<secure::Certificate> TrustStore::import(std::string_view octets, std::string_view keyPem) const {
  auto chain = secure::Certificate::chainFromFile(octets);
  if (!chain) return chain.error();
  auto key = keyFor(chain->front(), keyPem);
  if (!key) return key.error();
  std::string issuers;
  for (std::size_t i = 1; i < chain->size(); ++i) issuers += octetsOf((*chain)[i]);
  const fs::path own = ownFolder(chain->front().keyKind());
  const secure::Identity identity{chain->front(), *key, ByteString(issuers.data(), issuers.size())};
  if (auto written = writeIdentity(own, identity); !written) return written.error();
  std::error_code ignored;
  fs::remove(own / "key-waiting.pem", ignored);
  return identity.certificate;
}

std::vector<TrustStore::Entry> TrustStore::entries() const {
  std::vector<Entry> out;
  readFolder(folder_ / "trusted", Kind::Trusted, out);
  readFolder(folder_ / "issuers", Kind::Issuer, out);
  readFolder(folder_ / "rejected", Kind::Rejected, out);
  return out;
}

secure::TrustList TrustStore::load() const {
  secure::TrustList list;
  // Who was refused is nobody's business here: their certificates are not even read.
  std::vector<Entry> found;
  readFolder(folder_ / "trusted", Kind::Trusted, found);
  readFolder(folder_ / "issuers", Kind::Issuer, found);
  for (auto& entry : found)
    (entry.kind == Kind::Trusted ? list.trusted : list.issuers).push_back(std::move(entry.certificate));
  for (const char* part : {"trusted", "issuers"}) readRevocations(folder_ / part, list.revocations);
  return list;
}

std::shared_ptr<const secure::TrustList> TrustStore::current() const {
  std::string seen;
  std::error_code ignored;
  for (const char* part : {"trusted", "issuers"})
    for (const auto& entry : fs::directory_iterator(folder_ / part, ignored))
      seen += fmt::format("{} {} {}\n", entry.path().filename().string(), entry.file_size(ignored),
                          entry.last_write_time(ignored).time_since_epoch().count());
  const std::lock_guard lock(cache_->guard);
  if (!cache_->list || cache_->seen != seen) {
    cache_->list = std::make_shared<const secure::TrustList>(load());
    cache_->seen = std::move(seen);
  }
  return cache_->list;
}

secure::TrustList TrustStore::loadUsers() const {
  std::vector<Entry> users;
  readFolder(folder_ / "users", Kind::Trusted, users);
  secure::TrustList list;
  for (auto& user : users) list.trusted.push_back(std::move(user.certificate));
  readRevocations(folder_ / "users", list.revocations);
  return list;
}

std::vector<secure::Certificate> TrustStore::loadTokenIssuers() const {
  std::vector<Entry> found;
  readFolder(folder_ / "token-issuers", Kind::Trusted, found);
  std::vector<secure::Certificate> out;
  for (auto& entry : found) out.push_back(std::move(entry.certificate));
  return out;
}

std::optional<TrustStore::FirstContact> TrustStore::firstContact() const {
  std::istringstream lines(readFile(folder_ / "first-contact"));
  std::string until;
  FirstContact window;
  std::getline(lines, until);
  std::getline(lines, window.applicationUri);
  auto time = DateTime::parse(until);
  if (!time) return std::nullopt;
  window.until = *time;
  return window;
}

Result<void> TrustStore::openFirstContact(const FirstContact& window) const {
  return replaceFile(folder_ / "first-contact", window.until.text() + "\n" + window.applicationUri + "\n", kForOwner);
}

void TrustStore::endFirstContact() const {
  std::error_code ignored;
  fs::remove(folder_ / "first-contact", ignored);
}

void TrustStore::reject(const secure::Certificate& certificate) const {
  (void)replaceFile(folder_ / "rejected" / fileNameOf(certificate), octetsOf(certificate), kForAll);
  std::error_code ignored;
  std::vector<std::pair<fs::file_time_type, fs::path>> files;
  for (const auto& entry : fs::directory_iterator(folder_ / "rejected", ignored))
    files.emplace_back(entry.last_write_time(ignored), entry.path());
  std::ranges::sort(files);
  for (std::size_t i = 0; i + kMostRejected < files.size(); ++i) fs::remove(files[i].second, ignored);
}

std::vector<TrustStore::Entry> TrustStore::find(const std::string& words) const {
  std::string print = words;
  std::erase(print, ':');
  std::ranges::transform(print, print.begin(), [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  std::vector<Entry> out;
  for (auto& entry : entries()) {
    std::string own = entry.certificate.fingerprint();
    std::erase(own, ':');
    const bool byPrint = print.size() >= 4 && own.starts_with(print);
    const bool byWords =
        entry.certificate.subject().find(words) != std::string::npos || entry.certificate.applicationUri() == words;
    if (byPrint || byWords) out.push_back(std::move(entry));
  }
  return out;
}

Result<void> TrustStore::trust(const secure::Certificate& certificate) const {
  if (auto written = replaceFile(folder_ / "trusted" / fileNameOf(certificate), octetsOf(certificate), kForAll);
      !written)
    return written;
  std::error_code ignored;
  for (const auto& entry : entries())
    if (entry.kind == Kind::Rejected && entry.certificate == certificate) fs::remove(entry.file, ignored);
  return {};
}

DateTime TrustStore::updated() const {
  std::error_code none;
  const auto written = fs::last_write_time(folder_ / "trusted", none);
  return none ? DateTime{} : DateTime::from(std::chrono::file_clock::to_sys(written));
}

Result<void> TrustStore::review() const {
  std::error_code failed;
  fs::create_directories(folder_ / "trusted", failed);
  if (!failed) fs::last_write_time(folder_ / "trusted", fs::file_time_type::clock::now(), failed);
  if (failed) return Error{status::BadConfigurationError, "the list can't be marked: " + failed.message(), {}};
  return {};
}

Result<void> TrustStore::add(const secure::Certificate& certificate, Kind kind) const {
  return replaceFile(folder_ / (kind == Kind::Issuer ? "issuers" : "trusted") / fileNameOf(certificate),
                     octetsOf(certificate), kForAll);
}

TrustListDataType TrustStore::lists(std::uint32_t masks) const {
  TrustListDataType out;
  out.specifiedLists = masks;
  auto certificates = [this](const char* part, Kind kind, List<ByteString>& list) {
    std::vector<Entry> found;
    readFolder(folder_ / part, kind, found);
    for (const auto& entry : found) list.push_back(entry.certificate.der());
  };
  auto revocations = [this](const char* part, List<ByteString>& list) {
    std::vector<secure::RevocationList> found;
    readRevocations(folder_ / part, found);
    for (const auto& one : found) list.push_back(one.der());
  };
  if (masks & TrustListMasks::TrustedCertificates) certificates("trusted", Kind::Trusted, out.trustedCertificates);
  if (masks & TrustListMasks::TrustedCrls) revocations("trusted", out.trustedCrls);
  if (masks & TrustListMasks::IssuerCertificates) certificates("issuers", Kind::Issuer, out.issuerCertificates);
  if (masks & TrustListMasks::IssuerCrls) revocations("issuers", out.issuerCrls);
  return out;
}

Result<void> TrustStore::replace(const TrustListDataType& lists) const {
  struct Part {
    std::uint32_t mask;
    const char* folder;
    const List<ByteString>& octets;
    bool isRevocations;
  };
  const Part parts[] = {{TrustListMasks::TrustedCertificates, "trusted", lists.trustedCertificates, false},
                        {TrustListMasks::TrustedCrls, "trusted", lists.trustedCrls, true},
                        {TrustListMasks::IssuerCertificates, "issuers", lists.issuerCertificates, false},
                        {TrustListMasks::IssuerCrls, "issuers", lists.issuerCrls, true}};
  for (const auto& part : parts)
    for (const auto& octets : part.octets)
      if (part.isRevocations ? secure::RevocationList::fromFile(octets.view()).code().isBad()
                             : secure::Certificate::fromFile(octets.view()).code().isBad())
        return Error{status::BadCertificateInvalid,
                     fmt::format("the list for {}/ has something else in it than {}", part.folder,
                                 part.isRevocations ? "revocation lists" : "certificates"),
                     {}};
  for (const auto& part : parts) {
    if (!(lists.specifiedLists & part.mask)) continue;
    std::error_code ignored;
    std::vector<fs::path> old;
    for (const auto& entry : fs::directory_iterator(folder_ / part.folder, ignored))
      if (const auto octets = readFile(entry.path()); part.isRevocations
                                                          ? !secure::RevocationList::fromFile(octets).code().isBad()
                                                          : !secure::Certificate::fromFile(octets).code().isBad())
        old.push_back(entry.path());
    for (const auto& file : old) fs::remove(file, ignored);
    for (std::size_t i = 0; i < part.octets.size(); ++i) {
      const std::string name = part.isRevocations ? fmt::format("pushed-{}.crl", i)
                                                  : fileNameOf(*secure::Certificate::fromFile(part.octets[i].view()));
      if (auto written = replaceFile(folder_ / part.folder / name, part.octets[i].view(), kForAll); !written)
        return written;
    }
  }
  return {};
}

Result<void> TrustStore::remove(const Entry& entry) const {
  std::error_code failed;
  if (!fs::remove(entry.file, failed))
    return Error{status::BadConfigurationError, fmt::format("{} can't be removed", entry.file.string()), {}};
  return {};
}

}  // namespace zunth::admin
