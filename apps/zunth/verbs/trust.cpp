#include "apps/zunth/own_trust.hpp"

#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

/// A site's store, or this user's own.
Result<admin::TrustStore> storeOf(const std::string& site) {
  if (site.empty() && !fs::exists("site.yaml")) return ownTrust();
  const fs::path folder = site.empty() ? fs::path(".") : fs::path(site);
  if (!fs::exists(folder / "site.yaml"))
    return Error{status::BadSyntaxError, folder.string() + " is no site: it has no site.yaml",
                 "zunth trust --site FOLDER"};
  return admin::TrustStore(folder / "state/trust");
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

int allow(const Options& options, const admin::TrustStore& store, const std::string& what) {
  if (fs::exists(what)) {
    std::ifstream file(what, std::ios::binary);
    std::ostringstream octets;
    octets << file.rdbuf();
    auto certificate = secure::Certificate::fromFile(octets.str());
    if (!certificate) return fail(certificate.error()), kWrongUse;
    if (auto kept = store.trust(*certificate); !kept) return fail(kept.error());
    if (!options.quiet) std::printf("%s is trusted\n", certificate->subject().c_str());
    return kDone;
  }
  auto found = store.find(what);
  std::erase_if(found, [](const auto& entry) { return entry.kind != admin::TrustStore::Kind::Rejected; });
  if (found.size() != 1) {
    if (found.empty())
      return wrongUse(fmt::format("nobody like '{}' was refused here, and no such file is there", what), "zunth trust");
    return wrongUse(fmt::format("'{}' fits {} that were refused", what, found.size()), "more of the fingerprint");
  }
  if (auto kept = store.trust(found[0].certificate); !kept) return fail(kept.error());
  if (!options.quiet) std::printf("%s is trusted from now on\n", found[0].certificate.subject().c_str());
  return kDone;
}

int remove(const Options& options, const admin::TrustStore& store, const std::string& what) {
  const auto found = store.find(what);
  if (found.empty()) return wrongUse(fmt::format("nobody like '{}' is known here", what), "zunth trust");
  if (found.size() > 1)
    return wrongUse(fmt::format("'{}' fits {} certificates", what, found.size()), "more of the fingerprint");
  if (auto gone = store.remove(found[0]); !gone) return fail(gone.error());
  if (!options.quiet) std::printf("%s is trusted no longer\n", found[0].certificate.subject().c_str());
  return kDone;
}

}  // namespace

void addTrust(Program program) {
  auto* verb = program.app.add_subcommand(
      "trust", "Whose certificates are trusted, by a site or by this client; alone: list them.");
  verb->footer(
      "Example: zunth trust --site my-plant\n         zunth trust allow 3F:A0:2C --site my-plant\n"
      "Without --site: the site in this folder, else this user's own client.");
  Options& options = program.options;
  static const std::map<std::string, Format> formats{
      {"table", Format::Table}, {"json", Format::Json}, {"csv", Format::Csv}};
  auto site = std::make_shared<std::string>();
  auto what = std::make_shared<std::string>();
  auto common = [&](CLI::App* to) {
    to->add_option("--site", *site, "A site's folder");
    to->add_option("--output", options.format, "table, json or csv")
        ->transform(CLI::CheckedTransformer(formats, CLI::ignore_case))
        ->type_name("FORMAT");
    to->add_flag("--quiet", options.quiet, "Print results and errors only");
  };
  common(verb);
  auto* allowing = verb->add_subcommand("allow", "Trust one that was refused, or a certificate's file.");
  allowing->add_option("WHO", *what, "How the fingerprint begins, the subject, or a file")->required();
  common(allowing);
  auto* removing = verb->add_subcommand("remove", "Trust one no longer; its connections end.");
  removing->add_option("WHO", *what, "How the fingerprint begins, or the subject")->required();
  common(removing);
  verb->callback([program, site, what, allowing, removing] {
    auto store = storeOf(*site);
    if (!store) {
      program.exitCode = fail(store.error());
      return;
    }
    program.exitCode = *allowing   ? allow(program.options, *store, *what)
                       : *removing ? remove(program.options, *store, *what)
                                   : listTrust(program.options, *store);
  });
}

}  // namespace zunth::cli
