#include "service/admin/trust_store.hpp"

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

Result<void> writeFile(const fs::path& path, std::string_view octets, fs::perms permissions) {
  std::error_code failed;
  fs::create_directories(path.parent_path(), failed);
  // Beside it first, so that nobody ever reads half a file, and nobody else a key.
  const fs::path temporary = path.string() + ".new";
  {
    std::ofstream file(temporary, std::ios::binary);
    fs::permissions(temporary, permissions, failed);
    file.write(octets.data(), static_cast<std::streamsize>(octets.size()));
    file.flush();
    if (!file) return Error{status::BadConfigurationError, fmt::format("{} can't be written", path.string()), {}};
  }
  fs::rename(temporary, path, failed);
  if (failed) return Error{status::BadConfigurationError, fmt::format("{} can't be written", path.string()), {}};
  return {};
}

constexpr fs::perms kForAll =
    fs::perms::owner_read | fs::perms::owner_write | fs::perms::group_read | fs::perms::others_read;
constexpr fs::perms kForOwner = fs::perms::owner_read | fs::perms::owner_write;

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

}  // namespace

std::string_view nameOf(TrustStore::Kind kind) {
  switch (kind) {
    case TrustStore::Kind::Trusted: return "trusted";
    case TrustStore::Kind::Issuer: return "issuer";
    case TrustStore::Kind::Rejected: return "refused";
  }
  return "";
}

Result<secure::Identity> TrustStore::identity(const std::string& commonName, const std::string& applicationUri,
                                              const std::vector<std::string>& hosts) const {
  const fs::path certificateFile = folder_ / "own/certificate.der", keyFile = folder_ / "own/key.pem";
  if (fs::exists(certificateFile)) {
    auto certificate = secure::Certificate::fromFile(readFile(certificateFile));
    if (!certificate)
      return Error{certificate.code(), fmt::format("{}: {}", certificateFile.string(), certificate.error().cause), {}};
    auto key = secure::PrivateKey::fromPem(readFile(keyFile));
    if (!key) return Error{key.code(), fmt::format("{}: {}", keyFile.string(), key.error().cause), {}};
    return secure::Identity{std::move(*certificate), std::move(*key)};
  }
  const auto key = secure::PrivateKey::generate();
  const auto now = std::chrono::system_clock::now();
  secure::Certificate::Wish wish;
  wish.commonName = commonName.substr(0, 64);
  wish.applicationUri = applicationUri;
  wish.hosts = hosts;
  // An hour ago, for clocks that are behind.
  wish.validFrom = DateTime::from(now - std::chrono::hours(1));
  wish.validTo = DateTime::from(now + kValidity);
  auto certificate = secure::Certificate::selfSigned(wish, key);
  if (auto written = writeFile(keyFile, key.pem(), kForOwner); !written) return written.error();
  if (auto written = writeFile(certificateFile, octetsOf(certificate), kForAll); !written) return written.error();
  return secure::Identity{std::move(certificate), key};
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
  for (auto& entry : entries()) {
    if (entry.kind == Kind::Trusted) list.trusted.push_back(std::move(entry.certificate));
    if (entry.kind == Kind::Issuer) list.issuers.push_back(std::move(entry.certificate));
  }
  std::error_code ignored;
  for (const char* part : {"trusted", "issuers"})
    for (const auto& entry : fs::directory_iterator(folder_ / part, ignored))
      if (auto revocations = secure::RevocationList::fromFile(readFile(entry.path())))
        list.revocations.push_back(std::move(*revocations));
  return list;
}

void TrustStore::reject(const secure::Certificate& certificate) const {
  (void)writeFile(folder_ / "rejected" / fileNameOf(certificate), octetsOf(certificate), kForAll);
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
  if (auto written = writeFile(folder_ / "trusted" / fileNameOf(certificate), octetsOf(certificate), kForAll); !written)
    return written;
  std::error_code ignored;
  for (const auto& entry : entries())
    if (entry.kind == Kind::Rejected && entry.certificate == certificate) fs::remove(entry.file, ignored);
  return {};
}

Result<void> TrustStore::remove(const Entry& entry) const {
  std::error_code failed;
  if (!fs::remove(entry.file, failed))
    return Error{status::BadConfigurationError, fmt::format("{} can't be removed", entry.file.string()), {}};
  return {};
}

}  // namespace zunth::admin
