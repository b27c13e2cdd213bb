#include "service/admin/site_versions.hpp"

#include "service/admin/drafts.hpp"
#include "service/device/file_station.hpp"

#include <algorithm>
#include <sstream>

namespace zunth::admin {

using namespace ua;

namespace {

constexpr Duration kGitPatience = std::chrono::seconds(10);

/// `git` in the site's folder, asked for nothing and with nobody's configuration but the repository's own.
Result<std::string> git(const std::filesystem::path& site, std::vector<std::string> words) {
  std::vector<std::string> command{
      "git", "-C", site.string(), "-c", "core.quotePath=false", "-c", "core.hooksPath=/dev/null"};
  command.insert(command.end(), std::make_move_iterator(words.begin()), std::make_move_iterator(words.end()));
  return device::files::outputOf(command, kGitPatience);
}

bool isVersionId(const std::string& id) {
  return id.size() >= 7 && id.size() <= 64 && id.find_first_not_of("0123456789abcdef") == std::string::npos;
}

const Error kNoVersion{status::BadNotFound, "there is no such version", "take one that is listed"};

/// One line, and nothing that a terminal would act on.
std::string plainLine(const std::string& text, std::size_t most) {
  std::string out;
  for (const char c : text.substr(0, most)) out += static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
  return out;
}

std::vector<std::string> siteFilesIn(const std::string& lines) {
  std::vector<std::string> out;
  std::istringstream in(lines);
  for (std::string line; std::getline(in, line);)
    if (isSiteFile(line)) out.push_back(line);
  return out;
}

}  // namespace

bool isVersioned(const std::filesystem::path& site) {
  // Only where somebody has begun one is git asked at all.
  std::error_code failed;
  for (auto at = std::filesystem::canonical(site, failed); !failed && at.has_relative_path(); at = at.parent_path())
    if (std::filesystem::exists(at / ".git", failed))
      return git(site, {"rev-parse", "--is-inside-work-tree"}).code().isGood() &&
             git(site, {"check-ignore", "-q", "site.yaml"}).code().isBad();
  return false;
}

Result<void> commitSite(const std::filesystem::path& site, const std::vector<std::string>& files,
                        const std::string& who, const std::string& why) {
  std::vector<std::string> add{"add", "--"};
  add.insert(add.end(), files.begin(), files.end());
  if (auto added = git(site, std::move(add)); !added) return added.error();
  std::string name = plainLine(who, 100);
  std::erase_if(name, [](char c) { return c == '<' || c == '>'; });
  const std::string reason = plainLine(why, 1000);
  std::vector<std::string> commit{"-c",
                                  "user.name=" + name,
                                  "-c",
                                  "user.email=console@zunth.invalid",
                                  "commit",
                                  "-q",
                                  "--no-gpg-sign",
                                  "-m",
                                  reason.empty() ? std::string("Change the site at the console") : reason,
                                  "--"};
  commit.insert(commit.end(), files.begin(), files.end());
  auto done = git(site, std::move(commit));
  return done ? Result<void>() : Result<void>(done.error());
}

Result<std::vector<SiteVersion>> versionsOf(const std::filesystem::path& site, std::size_t most) {
  auto told =
      git(site, {"log", "-n", std::to_string(most), "--relative", "--name-only", "--format=%x1e%H%x1f%an%x1f%aI%x1f%s",
                 "--", "site.yaml", "model", "devices", "bindings", "registers", "console"});
  if (!told) return told.error();
  std::vector<SiteVersion> out;
  std::istringstream records(*told);
  for (std::string record; std::getline(records, record, '\x1e');) {
    std::istringstream lines(record);
    std::string head;
    if (!std::getline(lines, head)) continue;
    std::istringstream fields(head);
    SiteVersion version;
    for (std::string* field : {&version.id, &version.who, &version.when, &version.why})
      std::getline(fields, *field, '\x1f');
    if (!isVersionId(version.id)) continue;
    std::ostringstream rest;
    rest << lines.rdbuf();
    version.files = siteFilesIn(rest.str());
    out.push_back(std::move(version));
  }
  return out;
}

Result<std::string> textAt(const std::filesystem::path& site, const std::string& version, const std::string& file) {
  if (!isVersionId(version) || !isSiteFile(file)) return kNoVersion;
  if (!git(site, {"cat-file", "-e", version + "^{commit}"})) return kNoVersion;
  auto there = git(site, {"ls-tree", "--name-only", version, "--", file});
  if (!there) return there.error();
  if (there->empty()) return std::string();
  return git(site, {"show", version + ":./" + file});
}

Result<std::vector<std::string>> changedSince(const std::filesystem::path& site, const std::string& version) {
  if (!isVersionId(version) || !git(site, {"cat-file", "-e", version + "^{commit}"})) return kNoVersion;
  auto told = git(site, {"diff", "--relative", "--name-only", version, "--", "site.yaml", "model", "devices",
                         "bindings", "registers", "console"});
  if (!told) return told.error();
  return siteFilesIn(*told);
}

}  // namespace zunth::admin
