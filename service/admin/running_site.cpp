#include "service/admin/running_site.hpp"

#include "core/secure/token.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/admin/own_certificate.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>

#include <boost/asio/post.hpp>
#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using space::NodeIndex;

namespace {

/// Of a fingerprint, what commands name: 16 octets, which nobody finds a second certificate for.
constexpr std::size_t kShownPrint = 16 * 3 - 1;

}  // namespace

RunningSite::RunningSite(const net::Loops& loops, Site site)
    : loops_(loops),
      trust_(site.folder / "state/trust"),
      users_(site.folder / "state/users.yaml"),
      audit_(site.folder / "state/audit"),
      log_(loops.services(), audit_),
      site_(std::move(site)),
      office_(site_.folder,
              [this](server::AuditRecord record) {
                net::asio::post(loops_.services(), [this, alive = alive_, record = std::move(record)] {
                  if (*alive) audit_.write(record);
                });
              }),
      control_(loops.services(), site_.folder),
      stateTimer_(loops.services()),
      shutdown_(loops.services()) {
  log_.tellUsually(site_.log);
  site_.settings.trust = [this](const ByteString& chain) { return judge(chain); };
  site_.settings.checkPassword = [this](std::string name, std::string password, auto done) {
    checkPassword(std::move(name), std::move(password), std::move(done));
  };
  site_.settings.checkUserCertificate = [this](const ByteString& chain) { return accountOf(chain); };
  site_.settings.checkToken = [this](const std::string& token) { return userOf(token); };
  site_.settings.hasTokenIssuers = [this] {
    std::error_code none;
    return std::filesystem::directory_iterator(trust_.folder() / "token-issuers", none) !=
           std::filesystem::directory_iterator();
  };
  site_.settings.hasPasswords = [this] { return std::filesystem::exists(users_.file()); };
  site_.settings.hasUserCertificates = [this] {
    std::error_code none;
    return std::filesystem::directory_iterator(trust_.folder() / "users", none) !=
           std::filesystem::directory_iterator();
  };
  secured_ = secure();
  const auto changedRoles = site_.folder / "state/roles.json";
  auto roles = RoleConfiguration::changed(site_.settings.roles, changedRoles);
  if (roles)
    site_.settings.roles = std::move(*roles);
  else
    secured_ = roles.error();
  // A start on a damaged file would shut everybody out without a word.
  if (auto users = users_.readable(); !users) secured_ = users.error();
  server_ = std::make_unique<server::Server>(*site_.space, site_.settings);
  server_->announcer().setAuditLog([this](const server::AuditRecord& record) { audit_.write(record); });
  pushed_ = std::make_unique<PushConfiguration>(*server_, trust_, site_.settings.applicationUri, [this] {
    // What was pushed counts before the client hears that it was taken.
    net::asio::post(loops_.services(), [this, alive = alive_] {
      if (!*alive) return;
      renewIdentity();
      if (listener_) listener_->trustChanged();
    });
  });
  roles_ = std::make_unique<RoleConfiguration>(*server_, changedRoles);
  const auto after = [this](Duration pause, std::function<void()> work) {
    const auto timer = std::make_shared<net::asio::steady_timer>(loops_.services());
    timer->expires_after(pause);
    timer->async_wait([timer, alive = alive_, work = std::move(work)](const auto& cancelled) {
      if (!cancelled && *alive) work();
    });
  };
  discovered_.emplace(DiscoveryFile::Parts{site_.folder / "state/discovered.json", after,
                                           [this](std::function<void()> work) { net::asio::post(hashing_, work); }});
  if (auto known = discovered_->load(); !known) logs::site().error("{}; {}", known.error().text(), known.error().next);
  devices_ = std::make_shared<device::BoundDevices>(
      *site_.space, server_->owners(),
      device::BoundDevices::Loop{[this, alive = alive_](std::function<void()> work) {
                                   net::asio::post(loops_.services(), [alive, work = std::move(work)] {
                                     if (*alive) work();
                                   });
                                 },
                                 [this] {
                                   if (listener_) listener_->served();
                                 },
                                 [this](NodeIndex node, const device::DeviceState& device) {
                                   desk_->cameOrWent(node, device);
                                   if (listener_) listener_->served();
                                 },
                                 [this](std::vector<ModelChangeStructureDataType> changes) {
                                   server_->bindAlarms();
                                   server_->announcer().modelChanged(std::move(changes));
                                 },
                                 after, [this](NodeIndex variable) { return server_->interestIn(variable); },
                                 [this](NodeIndex variable, DataValue value) {
                                   if (historian_) historian_->take(variable, std::move(value));
                                 },
                                 &*discovered_});
  desk_.emplace(*server_, *devices_);
  clients_.emplace(*server_, [this](const server::AuditRecord& record) { audit_.write(record); });
  const auto post = [this, alive = alive_](std::function<void()> work) {
    net::asio::post(loops_.services(), [this, alive, work = std::move(work)] {
      if (!*alive) return;
      work();
      if (listener_) listener_->served();
    });
  };
  historian_.emplace(*server_, site_.folder / "state/history", post);
  alarmKeeper_.emplace(*server_, site_.folder / "state/alarms.sqlite", post);
  certificateAlarm_.emplace(*server_);
  certificateAlarm_->add();
  trustListAlarm_.emplace(*server_);
  trustListAlarm_->expect(site_.trustReview);
  server_->setHistorizingHandler([this] { bindHistory(); });
  devices_->rebind(site_.devices, site_.bindings);
  applying_ = std::make_unique<Applying>(Applying::Parts{loops_.services(), site_, *server_, *devices_,
                                                         [this](const Site& wanted) { return settle(wanted); }});
  control_.on("apply", [this](const Actor& actor, const Json& asked, Control::Answer answer) {
    const Applying::Wish wish{asked.value("show", false), asked.value("yes", false)};
    applying_->apply(wish, [this, wish, name = actor.name, answer = std::move(answer)](Json told) {
      if (!wish.onlyShow) applied(name, told);
      answer(std::move(told));
    });
  });
  openOffice();
  desk_->open(control_);
  desk_->alsoShown([this](const NodeId& node) {
    device::Trace out;
    for (const auto& file : site_.registers)
      for (const auto& one : file.registers)
        if (const auto& place = one.point.place; one.node == node)
          out.push_back(
              {"shown by registers/" + file.name,
               fmt::format("{} {} at {}", device::modbus::nameOf(place.table), place.address, file.address())});
    return out;
  });
  clients_->open(control_);
  server_->setStateHandler([this](ServerState state, std::uint32_t seconds) {
    shutdown_.cancel();
    if (state != ServerState::Shutdown) return;
    record("shutdown asked for", status::Good, fmt::format("in {} s", seconds));
    shutdown_.expires_after(std::chrono::seconds(seconds));
    shutdown_.async_wait([this, alive = alive_](const boost::system::error_code& cancelled) {
      if (cancelled || !*alive) return;
      stop();
      loops_.stop();
    });
  });
}

RunningSite::~RunningSite() { stop(); }

/// Its verbs read and write files and make keys: that has a thread of its own. What they change counts before they are
/// answered.
void RunningSite::openOffice() {
  for (const auto& verb : Office::verbs())
    control_.on(verb, [this](const Actor& actor, const Json& asked, const Control::Answer& answer) {
      net::asio::post(hashing_, [this, alive = alive_, actor, asked, answer]() mutable {
        Json told;
        try {
          auto outcome = office_.perform(actor, asked);
          told = outcome ? std::move(*outcome) : Json{{"error", jsonOf(outcome.error())}};
        } catch (const Json::exception& wrong) {
          told = Json{{"error", jsonOf(Error{status::BadSyntaxError, wrong.what(), {}})}};
        }
        net::asio::post(loops_.services(), [this, alive, answer = std::move(answer), told = std::move(told)]() mutable {
          if (!*alive) return;
          lookAtState();
          answer(std::move(told));
        });
      });
    });
}

/// What an apply came to, for the log and the audit.
void RunningSite::applied(const std::string& who, const Json& told) {
  const bool isApplied = told.value("applied", false);
  Json summary = told;
  for (const char* list : {"changes", "findings", "restart"})
    if (summary.contains(list)) summary[list] = summary[list].size();
  const std::string words = summary.dump(-1, ' ', false, Json::error_handler_t::replace);
  if (isApplied)
    logs::site().info("the folder was applied: {}", words);
  else
    logs::site().error("the folder was not applied: {}", words);
  audit_.write({DateTime::from(std::chrono::system_clock::now()),
                "site applied",
                who,
                {},
                {},
                isApplied ? status::Good : status::BadConfigurationError,
                words});
  listener_->served();
}

/// What site.yaml says otherwise and may change while it runs.
std::vector<Error> RunningSite::settle(const Site& wanted) {
  site_.ownRoles = wanted.ownRoles;
  site_.history = wanted.history;
  site_.console = wanted.console;
  bindHistory();
  log_.tellUsually(wanted.log);
  {
    const std::lock_guard lock(judging_);
    site_.toleratedFaults = wanted.toleratedFaults;
  }
  site_.registers = wanted.registers;
  site_.settings.endpointUrls = wanted.settings.endpointUrls;
  site_.settings.clientUrls = wanted.settings.clientUrls;
  auto failed = interfaces_->settle(wanted);
  site_.trustReview = wanted.trustReview;
  if (trustListAlarm_->expect(wanted.trustReview)) server_->bindAlarms();
  site_.settings.applicationName = wanted.settings.applicationName;
  server::Settings settings = wanted.settings;
  if (auto roles = RoleConfiguration::changed(settings.roles, site_.folder / "state/roles.json"))
    settings.roles = std::move(*roles);
  else
    settings.roles = site_.settings.roles;
  site_.settings.roles = settings.roles;
  server_->adopt(settings);
  roles_->rulesChanged();
  server_->accountsChanged([this](const server::User& user) { return accountOf(user); });
  if (settled_) settled_();
  return failed;
}

void RunningSite::bindHistory() {
  if (auto fine = historian_->bind(site_.history); !fine)
    logs::site().error("no history is kept: {}", fine.error().text());
}

Result<space::Rights> RunningSite::rightsOf(const std::string& user) const {
  auto found = users_.find(user);
  if (!found) return found.error();
  auto account = accountOf(*found);
  if (!account) return account.error();
  secure::Caller caller;
  caller.isAnonymous = false;
  caller.userName = user;
  auto roles = secure::rolesOf(caller, site_.settings.roles);
  for (const auto& role : account->roles)
    if (std::ranges::find(roles, role) == roles.end()) roles.push_back(role);
  return space::Rights(std::move(roles), MessageSecurityMode::SignAndEncrypt, true);
}

/// Which roles users have by their own names.
void RunningSite::showUsers() {
  const auto users = users_.load();
  if (!users) return;
  std::vector<secure::RoleRule> rules;
  for (const auto& [name, user] : *users)
    for (const auto& role : user.roles)
      if (const auto id = roleNamed(site_, role)) {
        secure::RoleRule& rule = rules.emplace_back();
        rule.role = *id;
        rule.identities.push_back({IdentityCriteriaType::UserName, String(name)});
      }
  server_->showUsers(std::move(rules));
}

/// The site's own identity: made at the first start.
Result<void> RunningSite::secure() {
  const auto usual = usualCertificate(site_.settings, std::chrono::hours(0));
  auto identities = trust_.identities(usual.commonName, usual.applicationUri, usual.hosts);
  if (!identities) return identities.error();
  site_.settings.identities = std::move(*identities);
  return {};
}

/// Whether a client may open a channel. Who is refused is kept for the administrator to decide about.
Result<void> RunningSite::judge(const ByteString& chain) {
  // Channels are judged away from the loop, several threads may come.
  const std::lock_guard lock(judging_);
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  const secure::Expected expected{now, {}, {}, site_.toleratedFaults};
  auto fine = secure::validate(chain, *trust_.current(), expected);
  if (fine) return {};
  boost::asio::post(loops_.services(), [this, alive = alive_, chain, why = fine.error()] {
    if (*alive) server_->announcer().certificateRefused(chain, why);
  });
  auto certificate = secure::Certificate::fromDer(chain);
  if (!certificate) return fine;
  if (fine.code() != status::BadCertificateUntrusted) return fine;
  if (const auto awaited = trust_.firstContact();
      awaited && now < awaited->until &&
      (awaited->applicationUri.empty() || awaited->applicationUri == certificate->applicationUri())) {
    // Whoever was waited for has come: nobody else gets in by this.
    trust_.endFirstContact();
    if (auto kept = trust_.trust(*certificate); !kept) return kept;
    logs::site().warn("{} ({}) came while first contact was open, and is trusted from now on: {}",
                      shown(certificate->subject()), shown(certificate->applicationUri()), certificate->fingerprint());
    recordLater("first contact", status::Good,
                fmt::format("{} {}", shown(certificate->subject()), certificate->fingerprint()));
    return secure::validate(chain, *trust_.current(), expected);
  }
  trust_.reject(*certificate);
  recordLater("certificate refused", fine.code(),
              fmt::format("{} {}", shown(certificate->subject()), certificate->fingerprint()));
  logs::site().warn("a client is not trusted: {} ({}); to let it in: zunth trust allow {} --site {}",
                    shown(certificate->subject()), shown(certificate->applicationUri()),
                    certificate->fingerprint().substr(0, kShownPrint), site_.folder.string());
  // Part 4, 6.1.3: what is told to strangers is that they failed; the words are for the engineer at the client.
  return Error{status::BadSecurityChecksFailed,
               fmt::format("the server does not trust this client's certificate; there: zunth trust allow {}",
                           certificate->fingerprint().substr(0, kShownPrint)),
               {}};
}

void RunningSite::recordLater(const char* what, StatusCode outcome, std::string about) {
  boost::asio::post(loops_.services(), [this, alive = alive_, what, outcome, about = std::move(about)] {
    if (*alive) record(what, outcome, about);
  });
}

void RunningSite::record(const char* what, StatusCode outcome, std::string about) {
  audit_.write({DateTime::from(std::chrono::system_clock::now()), what, {}, {}, {}, outcome, std::move(about)});
}

/// Hashing takes a tenth of a second by design: it has a thread of its own, and a short queue.
void RunningSite::checkPassword(std::string name, std::string password,
                                std::function<void(Result<server::Account>)> done) {
  constexpr int kMostWaiting = 20;
  if (passwordsWaiting_ >= kMostWaiting)
    return done(Error{status::BadTooManyOperations, "too many users log in at once: try again in a second", {}});
  ++passwordsWaiting_;
  net::asio::post(hashing_, [this, alive = alive_, name = std::move(name), password = std::move(password),
                             done = std::move(done)]() mutable {
    auto user = users_.check(name, password);
    --passwordsWaiting_;
    // Who waits is handed back, and ends there.
    net::asio::post(loops_.services(), [this, alive, done = std::move(done), user = std::move(user)] {
      if (*alive) done(user ? accountOf(*user) : Result<server::Account>(user.error()));
    });
  });
}

Result<server::Account> RunningSite::accountOf(const UserStore::User& user) const {
  server::Account account;
  for (const auto& name : user.roles)
    if (const auto role = roleNamed(site_, name))
      account.roles.push_back(*role);
    else
      logs::site().warn("a user has the role '{}', which this site doesn't know", name);
  return account;
}

/// A user's certificate is trusted by its file in state/trust/users; its roles come from rules.
Result<server::Account> RunningSite::accountOf(const ByteString& chain) const {
  const secure::Expected expected{DateTime::from(std::chrono::system_clock::now()), {}, {}};
  if (auto fine = secure::validate(chain, trust_.loadUsers(), expected); !fine)
    return Error{status::BadUserAccessDenied, "the user's certificate is not trusted: " + fine.error().cause, {}};
  return server::Account{};
}

/// Who a token says its bearer is; its roles are those of the site by the same names.
Result<server::User> RunningSite::userOf(const std::string& token) const {
  auto claims = secure::checkToken(token, trust_.loadTokenIssuers(), site_.settings.applicationUri,
                                   DateTime::from(std::chrono::system_clock::now()));
  if (!claims) return claims.error();
  server::User user;
  user.name = String(claims->subject);
  user.mechanism = "IssuedToken";
  user.caller.isAnonymous = false;
  user.caller.tokenRoles = claims->roles;
  user.validTo = claims->validTo;
  for (const auto& name : claims->roles)
    if (const auto role = roleNamed(site_, name)) user.ownRoles.push_back(*role);
  return user;
}

Result<server::Account> RunningSite::accountOf(const server::User& user) const {
  if (!user.certificate.empty()) return accountOf(user.certificate);
  if (user.mechanism.view() != "UserName") return server::Account{user.ownRoles};
  auto found = users_.find(user.name.str());
  return found ? accountOf(*found) : Result<server::Account>(found.error());
}

/// Looks at the folders of trust and the users each second: who is taken out loses the connection, who may do less
/// does less.
void RunningSite::watchState() {
  lookAtState();
  audit_.flush();
  historian_->tick();
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  certificateAlarm_->look(site_.settings.identities, now);
  trustListAlarm_->look(trust_.updated(), now);
  server_->endRunOut();
  stateTimer_.expires_after(std::chrono::seconds(1));
  stateTimer_.async_wait([this, alive = alive_](const boost::system::error_code& error) {
    if (!error && *alive) watchState();
  });
}

void RunningSite::lookAtState() {
  std::error_code ignored;
  const auto look = [&](std::initializer_list<const char*> parts) {
    std::string seen;
    for (const char* part : parts)
      for (const auto& entry : std::filesystem::directory_iterator(trust_.folder() / part, ignored))
        seen +=
            fmt::format("{} {}\n", entry.path().string(), entry.last_write_time(ignored).time_since_epoch().count());
    return seen;
  };
  const std::string trust = look({"trusted", "issuers"}), userTrust = look({"users"});
  if (std::exchange(trustSeen_, trust) != trust) listener_->trustChanged();
  std::string own;
  for (const auto kind : TrustStore::kKinds)
    own += fmt::format(
        "{} ", std::filesystem::last_write_time(trust_.ownCertificateFile(kind), ignored).time_since_epoch().count());
  if (std::exchange(ownSeen_, own) != own) renewIdentity();
  const auto written = std::filesystem::last_write_time(users_.file(), ignored).time_since_epoch().count();
  const std::string users = std::to_string(written);
  const bool usersChanged = std::exchange(usersSeen_, users) != users;
  if (std::exchange(userTrustSeen_, userTrust) != userTrust || usersChanged)
    server_->accountsChanged([this](const server::User& user) { return accountOf(user); });
  if (usersChanged) showUsers();
}

/// The certificate in own/ is another one: new connections get it, those that are open go on with theirs.
void RunningSite::renewIdentity() {
  const auto before = site_.settings.identities;
  const auto hosts = before ? before.main()->certificate.hosts() : std::vector<std::string>();
  auto now = trust_.identities(site_.settings.applicationName, site_.settings.applicationUri, hosts);
  if (!now) return logs::site().error("the certificate can't be renewed: {}", now.error().text());
  site_.settings.identities = *now;
  server_->setIdentities(std::move(*now));
  for (const auto kind : TrustStore::kKinds) {
    const auto old = before.of(kind), fresh = site_.settings.identities.of(kind);
    if (old && fresh->chain().view() == old->chain().view()) continue;
    const auto& certificate = fresh->certificate;
    logs::site().info("the certificate was renewed: {} until {}", certificate.subject(), certificate.validTo().text());
    record("certificate renewed", status::Good, certificate.fingerprint());
  }
}

Result<std::vector<std::string>> RunningSite::start() {
  if (!secured_) return secured_.error();
  listener_ = std::make_unique<endpoint::Listener>(loops_, *server_);
  interfaces_.emplace(Interfaces::Parts{loops_, *server_, *listener_, site_.folder,
                                        [this](const server::AuditRecord& record) { audit_.write(record); },
                                        [this] {
                                          if (settled_) settled_();
                                        }});
  auto urls = interfaces_->open(site_);
  if (!urls) return urls.error();
  interfaces_->answer(control_);
  if (auto kept = historian_->bind(site_.history); !kept) return kept.error();
  if (auto kept = alarmKeeper_->open(); !kept) {
    logs::site().error("{}; {}", kept.error().text(), kept.error().next);
    record("alarms", kept.code(), kept.error().cause);
  }
  if (auto open = control_.open(); !open) return open.error();
  devices_->start();
  record("start", status::Good, fmt::format("{}", fmt::join(*urls, ", ")));
  watchState();
  return urls;
}

void RunningSite::stop() {
  if (!std::exchange(*alive_, false)) return;
  stateTimer_.cancel();
  control_.close();
  if (interfaces_) interfaces_->close();
  devices_->stop();
  server_->shutdown();
  alarmKeeper_->stop();
  historian_->stop();
  if (listener_) listener_->stop();
  hashing_.stop();
  hashing_.join();
  discovered_->finish();
  record("stop", status::Good, {});
  audit_.flush();
}

}  // namespace zunth::admin
