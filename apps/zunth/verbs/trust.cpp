#include "apps/zunth/own_trust.hpp"
#include "core/ua/base64.hpp"
#include "core/ua/foreign.hpp"
#include "service/admin/office.hpp"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>
#include <unistd.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

/// A site's store, or this user's own. A site's is changed by its office, whether or not a service is at work.
struct Keeper {
  admin::TrustStore store;
  std::optional<fs::path> site;
  Duration patience;

  Result<void> trust(const secure::Certificate& certificate) const {
    if (!site) return store.trust(certificate);
    return asked({{"verb", "trust"}, {"certificate", toBase64(certificate.der().bytes())}});
  }
  Result<void> remove(const admin::TrustStore::Entry& entry) const {
    if (!site) return store.remove(entry);
    return asked({{"verb", "distrust"}, {"fingerprint", entry.certificate.fingerprint()}});
  }
  Result<void> review() const { return site ? asked({{"verb", "review trust"}}) : store.review(); }
  Result<void> asked(const Json& request) const {
    const auto told = admin::administer(*site, request, patience);
    return told ? Result<void>() : told.error();
  }
};

Result<Keeper> keeperOf(const std::string& site, const Options& options) {
  const Duration patience = milliseconds(options.timeout * 1000);
  if (site.empty() && !fs::exists("site.yaml")) return Keeper{ownTrust(), {}, patience};
  const auto folder = siteFolder(site, "zunth trust --site FOLDER");
  if (!folder) return folder.error();
  return Keeper{admin::TrustStore(*folder / "state/trust"), *folder, patience};
}

Records recordsOf(const std::vector<admin::TrustStore::Entry>& entries) {
  Records records({"state", "fingerprint", "subject", "application", "valid until"});
  for (const auto& entry : entries)
    records.add({std::string(nameOf(entry.kind)),
                 Cell(entry.certificate.fingerprint().substr(0, 17), entry.certificate.fingerprint()),
                 entry.certificate.subject(), entry.certificate.applicationUri(), entry.certificate.validTo().text()});
  return records;
}

int listTrust(const Options& options, const admin::TrustStore& store) {
  const auto entries = store.entries();
  if (entries.empty() && options.format == Format::Table)
    std::fprintf(stderr, "nobody is known here yet: %s\n", store.folder().c_str());
  else
    std::fputs(recordsOf(entries).text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

/// Who names a certificate by 16 octets of its fingerprint means that one. A name, or a few digits, somebody else's
/// can have as well: then the whole is shown, and asked about.
int isMeant(const secure::Certificate& certificate, const std::string& what) {
  constexpr std::size_t kEnough = 16 * 3 - 1;
  const std::string& print = certificate.fingerprint();
  const auto digits = [](std::string text) {
    std::erase(text, ':');
    std::ranges::transform(text, text.begin(), [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return text;
  };
  const std::string given = digits(what);
  if (given.size() >= digits(print.substr(0, kEnough)).size() && digits(print).starts_with(given)) return kDone;
  if (!::isatty(STDIN_FILENO))
    return wrongUse(fmt::format("'{}' is too little to tell certificates apart: this one is {}", shown(what), print),
                    fmt::format("zunth trust allow {}", print.substr(0, kEnough)));
  std::fprintf(stderr, "%s\n  calls itself %s\n  SHA-256 %s\nCompare it with what the client shows. Let it in? [y/N] ",
               shown(certificate.subject()).c_str(), shown(certificate.applicationUri()).c_str(), print.c_str());
  const int answer = std::getchar();
  return answer == 'y' || answer == 'Y' ? kDone : kWrongUse;
}

int allow(const Options& options, const Keeper& keeper, const std::string& what) {
  if (fs::exists(what)) {
    std::ifstream file(what, std::ios::binary);
    std::ostringstream octets;
    octets << file.rdbuf();
    auto certificate = secure::Certificate::fromFile(octets.str());
    if (!certificate) return fail(certificate.error()), kWrongUse;
    if (auto kept = keeper.trust(*certificate); !kept) return fail(kept.error());
    if (!options.quiet) std::printf("%s is trusted\n", shown(certificate->subject()).c_str());
    return kDone;
  }
  auto found = keeper.store.find(what);
  std::erase_if(found, [](const auto& entry) { return entry.kind != admin::TrustStore::Kind::Rejected; });
  if (found.size() != 1) {
    if (found.empty())
      return wrongUse(fmt::format("nobody like '{}' was refused here, and no such file is there", what), "zunth trust");
    return wrongUse(fmt::format("'{}' fits {} that were refused", what, found.size()), "more of the fingerprint");
  }
  if (const auto sure = isMeant(found[0].certificate, what); sure != kDone) return sure;
  if (auto kept = keeper.trust(found[0].certificate); !kept) return fail(kept.error());
  if (!options.quiet) std::printf("%s is trusted from now on\n", shown(found[0].certificate.subject()).c_str());
  return kDone;
}

int remove(const Options& options, const Keeper& keeper, const std::string& what) {
  const auto found = keeper.store.find(what);
  if (found.empty()) return wrongUse(fmt::format("nobody like '{}' is known here", what), "zunth trust");
  if (found.size() > 1)
    return wrongUse(fmt::format("'{}' fits {} certificates", what, found.size()), "more of the fingerprint");
  if (auto gone = keeper.remove(found[0]); !gone) return fail(gone.error());
  if (!options.quiet) std::printf("%s is trusted no longer\n", shown(found[0].certificate.subject()).c_str());
  return kDone;
}

int review(const Options& options, const Keeper& keeper) {
  if (auto done = keeper.review(); !done) return fail(done.error());
  if (!options.quiet) std::printf("the list of trusted certificates was looked through today\n");
  return kDone;
}

/// Lets one client of a site in that isn't known yet, for a while.
int openFor(const Options& options, const Keeper& keeper, double minutes, const std::string& application) {
  const auto until = std::chrono::system_clock::now() + std::chrono::duration_cast<std::chrono::system_clock::duration>(
                                                            std::chrono::duration<double, std::ratio<60>>(minutes));
  if (auto opened = keeper.asked(
          {{"verb", "await contact"}, {"until", DateTime::from(until).ticks}, {"application", application}});
      !opened)
    return fail(opened.error());
  if (!options.quiet)
    std::printf("until %s %s is trusted at first contact\n", localTime(until).c_str(),
                application.empty() ? "whoever comes first" : application.c_str());
  return kDone;
}

}  // namespace

void addTrust(Program program) {
  auto site = std::make_shared<std::string>();
  auto what = std::make_shared<std::string>();
  auto minutes = std::make_shared<double>(10);
  const auto verb = addLocalVerb(program, program.top, "trust",
                                 "Whose certificates are trusted, by a site or by this client; alone: list them.",
                                 "zunth trust --site my-plant", *site);
  const auto allowing =
      addLocalVerb(program, verb, "allow", "Trust one that was refused, or a certificate's file.", {}, *site);
  allowing.option("WHO", *what, "How the fingerprint begins, the subject, or a file").required();
  const auto removing = addLocalVerb(program, verb, "remove", "Trust one no longer; its connections end.", {}, *site);
  removing.option("WHO", *what, "How the fingerprint begins, or the subject").required();
  const auto reviewing = addLocalVerb(program, verb, "reviewed",
                                      "Say that the list was looked through: an alarm about its age goes.", {}, *site);
  const auto opening =
      addLocalVerb(program, verb, "open", "Trust the next client that isn't known yet, for a while.", {}, *site);
  opening.option("--for", *minutes, "Minutes").range(0.1, 1440.0).showsDefault();
  opening.option("--application", *what, "Only this one, by its application URI");
  verb.runs([program, site, what, minutes, allowing, removing, reviewing, opening] {
    auto keeper = keeperOf(*site, program.options);
    if (!keeper) {
      program.exitCode = fail(keeper.error());
      return;
    }
    program.exitCode = allowing.isGiven()    ? allow(program.options, *keeper, *what)
                       : removing.isGiven()  ? remove(program.options, *keeper, *what)
                       : reviewing.isGiven() ? review(program.options, *keeper)
                       : opening.isGiven() && site->empty() && !fs::exists("site.yaml")
                           ? wrongUse("it is a site that awaits a client", "zunth trust open --site FOLDER")
                       : opening.isGiven() ? openFor(program.options, *keeper, *minutes, *what)
                                           : listTrust(program.options, keeper->store);
  });
}

}  // namespace zunth::cli
