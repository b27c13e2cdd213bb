#include "service/admin/office.hpp"

#include "core/secure/password.hpp"
#include "core/secure/policy.hpp"
#include "core/ua/base64.hpp"
#include "core/ua/foreign.hpp"
#include "service/admin/audit_log.hpp"
#include "service/admin/site_lock.hpp"

#include <algorithm>
#include <deque>

#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;

namespace {

const std::vector<std::pair<std::string, Office::UserChange>>& userChanges() {
  static const std::vector<std::pair<std::string, Office::UserChange>> words{
      {"add", Office::UserChange::Add},       {"password", Office::UserChange::Password},
      {"role", Office::UserChange::Roles},    {"disable", Office::UserChange::Disable},
      {"enable", Office::UserChange::Enable}, {"remove", Office::UserChange::Remove}};
  return words;
}

std::string named(const secure::Certificate& certificate) {
  return fmt::format("{} {}", shown(certificate.subject()), certificate.fingerprint());
}

Result<std::string> octetsOf(const Json& asked, const char* key) {
  const auto octets = fromBase64(asked.value(key, ""));
  if (!octets) return Error{status::BadDecodingError, fmt::format("'{}' is no base64", key), {}};
  return std::string(reinterpret_cast<const char*>(octets->data()), octets->size());
}

secure::Certificate::Wish wishOf(const Json& asked) {
  secure::Certificate::Wish wish;
  const Json& json = asked.at("wish");
  wish.commonName = json.value("name", "");
  wish.organization = json.value("organization", "");
  wish.applicationUri = json.value("application", "");
  wish.hosts = json.value("hosts", std::vector<std::string>());
  wish.validFrom = DateTime{json.value("from", std::int64_t{0})};
  wish.validTo = DateTime{json.value("to", std::int64_t{0})};
  return wish;
}

Json jsonOf(const secure::Certificate& certificate) { return {{"certificate", toBase64(certificate.der().bytes())}}; }

}  // namespace

Json jsonOf(const secure::Certificate::Wish& wish) {
  return {{"name", wish.commonName}, {"organization", wish.organization}, {"application", wish.applicationUri},
          {"hosts", wish.hosts},     {"from", wish.validFrom.ticks},      {"to", wish.validTo.ticks}};
}

template <class Outcome>
Outcome Office::recorded(const char* what, const Actor& actor, Outcome outcome, std::string about) {
  record_(
      {DateTime::from(std::chrono::system_clock::now()), what, actor.name, {}, {}, outcome.code(), std::move(about)});
  return outcome;
}

Result<void> Office::trust(const Actor& actor, const secure::Certificate& certificate) {
  return recorded("certificate trusted", actor, trust_.trust(certificate), named(certificate));
}

Result<void> Office::distrust(const Actor& actor, const std::string& fingerprint) {
  Result<void> outcome = Error{status::BadNotFound, "no certificate has this fingerprint", "zunth trust"};
  std::string about = shown(fingerprint);
  for (const auto& entry : trust_.entries()) {
    if (entry.certificate.fingerprint() != fingerprint) continue;
    about = named(entry.certificate);
    outcome = trust_.remove(entry);
    if (!outcome) break;
  }
  return recorded("certificate trusted no longer", actor, outcome, about);
}

Result<void> Office::reviewTrust(const Actor& actor) {
  return recorded("trust list reviewed", actor, trust_.review(), fmt::format("{} entries", trust_.entries().size()));
}

Result<void> Office::awaitContact(const Actor& actor, const TrustStore::FirstContact& window) {
  return recorded("first contact opened", actor, trust_.openFirstContact(window),
                  fmt::format("until {} for {}", window.until.text(),
                              window.applicationUri.empty() ? "whoever comes first" : shown(window.applicationUri)));
}

Result<void> Office::changeUser(const Actor& actor, UserChange change, const std::string& name,
                                const UserStore::User& wanted) {
  const auto act = [&]() -> Result<void> {
    auto users = users_.load();
    if (!users) return users.error();
    const bool isThere = users->contains(name);
    if (change == UserChange::Add && isThere)
      return Error{status::BadEntryExists, fmt::format("there is a user '{}' already", shown(name)),
                   fmt::format("zunth user password {}", shown(name))};
    if (change != UserChange::Add && !isThere)
      return Error{status::BadNotFound, fmt::format("there is no user '{}'", shown(name)), "zunth user"};
    if ((change == UserChange::Add || change == UserChange::Password) && wanted.hash.empty())
      return Error{status::BadInvalidArgument, "a user has a password", "say one"};
    auto& user = (*users)[name];
    switch (change) {
      case UserChange::Add: user = wanted; break;
      case UserChange::Password: user.hash = wanted.hash; break;
      case UserChange::Roles: user.roles = wanted.roles; break;
      case UserChange::Disable: user.isEnabled = false; break;
      case UserChange::Enable: user.isEnabled = true; break;
      case UserChange::Remove: users->erase(name); break;
    }
    return users_.save(*users);
  };
  const auto word = std::ranges::find(userChanges(), change, &std::pair<std::string, UserChange>::second);
  const bool namesRoles = change == UserChange::Add || change == UserChange::Roles;
  return recorded("user changed", actor, act(),
                  fmt::format("{} {}{}", word->first, shown(name),
                              namesRoles ? fmt::format(": {}", fmt::join(wanted.roles, ", ")) : ""));
}

Result<secure::Certificate> Office::renew(const Actor& actor, const secure::Certificate::Wish& wish,
                                          secure::KeyKind kind) {
  const auto made = trust_.renew(wish, kind);
  Result<secure::Certificate> outcome = made ? Result<secure::Certificate>(made->certificate) : made.error();
  return recorded("own certificate made", actor, outcome, made ? named(*outcome) : made.error().cause);
}

Result<std::string> Office::request(const Actor& actor, const secure::Certificate::Wish& wish, bool newKey,
                                    secure::KeyKind kind) {
  return recorded("signing request made", actor, trust_.signingRequest(wish, newKey, kind),
                  fmt::format("{}{}", shown(wish.commonName), newKey ? ", with a new key" : ""));
}

Result<secure::Certificate> Office::import(const Actor& actor, std::string_view certificate, std::string_view keyPem) {
  auto taken = trust_.import(certificate, keyPem);
  return recorded("own certificate imported", actor, taken, taken ? named(*taken) : taken.error().cause);
}

const std::vector<std::string>& Office::verbs() {
  static const std::vector<std::string> all{"trust",
                                            "distrust",
                                            "review trust",
                                            "await contact",
                                            "user",
                                            "renew certificate",
                                            "request certificate",
                                            "import certificate",
                                            "certificates",
                                            "users",
                                            "audit"};
  return all;
}

Result<Json> Office::listCertificates() const {
  Json list = Json::array();
  for (const auto& entry : trust_.entries()) {
    const auto& certificate = entry.certificate;
    list.push_back({{"state", std::string(nameOf(entry.kind))},
                    {"fingerprint", certificate.fingerprint()},
                    {"subject", shown(certificate.subject())},
                    {"application", shown(certificate.applicationUri())},
                    {"validFrom", certificate.validFrom().text()},
                    {"validTo", certificate.validTo().text()}});
  }
  return Json{{"certificates", std::move(list)}};
}

Result<Json> Office::listUsers() const {
  const auto users = users_.load();
  if (!users) return users.error();
  Json list = Json::array();
  for (const auto& [name, user] : *users)
    list.push_back({{"name", shown(name)}, {"isEnabled", user.isEnabled}, {"roles", user.roles}});
  return Json{{"users", std::move(list)}};
}

/// The newest lines that have all that is asked for, the newest first.
Result<Json> Office::listAudit(const Json& asked) const {
  const std::string like = asked.value("like", ""), who = asked.value("who", ""), what = asked.value("what", "");
  const bool onlyFailed = asked.value("failed", false);
  const std::size_t most = std::min<std::size_t>(asked.value("most", std::size_t{200}), 10'000);
  const auto has = [](const std::string& text, const std::string& words) { return text.find(words) != text.npos; };
  std::deque<server::AuditRecord> found;
  AuditLog::read(auditFolder_, [&](const server::AuditRecord& record) {
    if ((onlyFailed && !record.outcome.isBad()) || (!who.empty() && record.who != who) ||
        (!what.empty() && record.what != what))
      return;
    if (!like.empty() && !has(record.about, like) && !has(record.application, like) && !has(record.from, like) &&
        !has(record.who, like) && !has(record.what, like))
      return;
    found.push_back(record);
    if (found.size() > most) found.pop_front();
  });
  Json lines = Json::array();
  for (auto record = found.rbegin(); record != found.rend(); ++record)
    lines.push_back({{"time", record->time.text()},
                     {"what", record->what},
                     {"who", record->who},
                     {"from", record->from},
                     {"application", record->application},
                     {"outcome", std::string(record->outcome.name())},
                     {"about", record->about}});
  return Json{{"lines", std::move(lines)}};
}

Result<Json> Office::perform(const Actor& actor, const Json& asked) {
  const std::string verb = asked.value("verb", "");
  const auto kind = secure::keyKindNamed(asked.value("kind", "rsa"));
  const auto plain = [](const Result<void>& outcome) {
    return outcome ? Result<Json>(Json::object()) : outcome.error();
  };
  const auto shownOf = [](const Result<secure::Certificate>& made) {
    return made ? Result<Json>(jsonOf(*made)) : made.error();
  };
  if (verb == "certificates") return listCertificates();
  if (verb == "users") return listUsers();
  if (verb == "audit") return listAudit(asked);
  if (verb == "trust" && asked.contains("fingerprint")) {
    const std::string wanted = asked.value("fingerprint", "");
    for (const auto& entry : trust_.entries())
      if (entry.certificate.fingerprint() == wanted) return plain(trust(actor, entry.certificate));
    return Error{status::BadNotFound, "no certificate has this fingerprint", "zunth trust"};
  }
  if (verb == "trust" || verb == "import certificate") {
    const auto octets = octetsOf(asked, "certificate");
    if (!octets) return octets.error();
    if (verb != "trust") return shownOf(import(actor, *octets, asked.value("key", "")));
    const auto certificate = secure::Certificate::fromFile(*octets);
    return certificate ? plain(trust(actor, *certificate)) : certificate.error();
  }
  if (verb == "distrust") return plain(distrust(actor, asked.value("fingerprint", "")));
  if (verb == "review trust") return plain(reviewTrust(actor));
  if (verb == "await contact")
    return plain(
        awaitContact(actor, {DateTime{asked.value("until", std::int64_t{0})}, asked.value("application", "")}));
  if (verb == "renew certificate") return shownOf(renew(actor, wishOf(asked), kind));
  if (verb == "request certificate") {
    const auto made = request(actor, wishOf(asked), asked.value("newKey", false), kind);
    return made ? Result<Json>(Json{{"request", toBase64(std::as_bytes(std::span(*made)))}}) : made.error();
  }
  if (verb != "user") return Error{status::BadNotImplemented, fmt::format("nobody knows '{}' here", shown(verb)), {}};
  const auto change =
      std::ranges::find(userChanges(), asked.value("change", ""), &std::pair<std::string, UserChange>::first);
  const std::string name = asked.value("name", "");
  if (change == userChanges().end() || name.empty())
    return Error{status::BadSyntaxError, "a user is changed by name, in a way that there is", {}};
  UserStore::User wanted;
  wanted.hash = asked.value("hash", "");
  if (const std::string password = asked.value("password", ""); !password.empty()) {
    if (password.size() < 8)
      return Error{status::BadInvalidArgument, "a password has eight characters or more", "another one"};
    wanted.hash = secure::hashPassword(password);
  }
  wanted.roles = asked.value("roles", wanted.roles);
  return plain(changeUser(actor, change->second, name, wanted));
}

Result<Json> administer(const std::filesystem::path& site, const Json& asked, Duration patience) {
  auto told = Control::ask(site, asked, patience);
  if (told || told.code() != status::BadConnectionRejected) return told;
  // Nobody serves it, and nobody begins to while it is changed here.
  const auto lock = SiteLock::take(site);
  if (!lock) return lock.error();
  AuditLog audit(site / "state/audit");
  Office office(site, [&audit](const server::AuditRecord& record) { audit.write(record); });
  const passwd* user = ::getpwuid(::geteuid());
  return office.perform({fmt::format("{} at the command line", user ? user->pw_name : "somebody")}, asked);
}

}  // namespace zunth::admin
