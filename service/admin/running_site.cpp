#include "service/admin/running_site.hpp"

#include "core/model/apply.hpp"
#include "core/secure/token.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/net/url.hpp"

#include <algorithm>
#include <fstream>

#include <boost/asio/ip/host_name.hpp>
#include <boost/asio/post.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <spdlog/spdlog.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;
using space::NodeIndex;

namespace {

/// Of a fingerprint, what commands name: 16 octets, which nobody finds a second certificate for.
constexpr std::size_t kShownPrint = 16 * 3 - 1;

/// A device as where values come from. It is not asked more often than fifty times a second.
class DeviceSource final : public server::ValueSource {
 public:
  DeviceSource(device::Device& device, net::asio::io_context& loop, std::shared_ptr<bool> alive)
      : device_(device), loop_(loop), alive_(std::move(alive)) {}
  bool isOlderThan(Duration age) const override {
    return device_.isOlderThan(std::max<Duration>(age, std::chrono::milliseconds(20)));
  }
  void refresh(std::function<void()> done) override {
    // On the device's thread this source may be gone already, when the device is bound no longer.
    device_.refresh([&loop = loop_, alive = alive_, done = std::move(done)] {
      // The values were posted before: they are shown by then.
      net::asio::post(loop, [alive, done] {
        if (*alive) done();
      });
    });
  }

 private:
  device::Device& device_;
  net::asio::io_context& loop_;
  std::shared_ptr<bool> alive_;
};

}  // namespace

RunningSite::RunningSite(net::asio::io_context& loop, Site site)
    : loop_(loop),
      trust_(site.folder / "state/trust"),
      users_(site.folder / "state/users.yaml"),
      audit_(site.folder / "state/audit"),
      site_(std::move(site)),
      stateTimer_(loop),
      shutdown_(loop) {
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
  site_.settings.roles = RoleConfiguration::changed(std::move(site_.settings.roles), changedRoles);
  server_ = std::make_unique<server::Server>(*site_.space, site_.settings);
  server_->announcer().setAuditLog([this](const server::AuditRecord& record) { audit_.write(record); });
  pushed_ = std::make_unique<PushConfiguration>(*server_, trust_, site_.settings.applicationUri, [this] {
    // What was pushed counts before the client hears that it was taken.
    net::asio::post(loop_, [this, alive = alive_] {
      if (!*alive) return;
      renewIdentity();
      if (listener_) listener_->trustChanged();
    });
  });
  roles_ = std::make_unique<RoleConfiguration>(*server_, changedRoles);
  writeRunningModel(*site_.space);
  bindDevices();
  server_->setStateHandler([this](ServerState state, std::uint32_t seconds) {
    shutdown_.cancel();
    if (state != ServerState::Shutdown) return;
    record("shutdown asked for", status::Good, fmt::format("in {} s", seconds));
    shutdown_.expires_after(std::chrono::seconds(seconds));
    shutdown_.async_wait([this, alive = alive_](const boost::system::error_code& cancelled) {
      if (cancelled || !*alive) return;
      stop();
      loop_.stop();
    });
  });
  server_->setRemovalHandler([this](NodeIndex node) {
    for (const auto& shown : shown_)
      for (auto& [point, variables] : *shown) std::erase(variables, node);
  });
}

RunningSite::~RunningSite() { stop(); }

void RunningSite::bindDevices() {
  for (std::size_t i = 0; i < site_.devices.size(); ++i) bindDevice(i);
}

namespace {

/// The nodes that bindings lead to, found in another space by their ids.
void moveBindings(device::Bindings& bindings, const space::Space& from, const space::Space& to) {
  const auto moved = [&](NodeIndex node) {
    const NodeId& id = from.nodeId(node);
    const auto ns = to.namespaceIndex(from.namespaces()[id.namespaceIndex()].view());
    return ns ? to.find(id.inNamespace(*ns)) : space::kNoNode;
  };
  for (auto& binding : bindings.variables) binding.variable = moved(binding.variable);
  for (auto& binding : bindings.methods) binding.method = moved(binding.method);
  std::erase_if(bindings.variables, [](const auto& binding) { return binding.variable == space::kNoNode; });
  std::erase_if(bindings.methods, [](const auto& binding) { return binding.method == space::kNoNode; });
}

}  // namespace

void RunningSite::apply() {
  using Json = nlohmann::ordered_json;
  Site wanted = loadSite(site_.folder);
  Json told{{"applied", wanted.isSound()}};
  if (wanted.isSound()) {
    // Devices that are bound no longer may take their time to end: that holds nobody up.
    for (const auto& shown : shown_) shown->clear();
    shown_.clear();
    server_->unbind();
    for (auto& device : devices_) device->askToStop();
    retiring_.emplace_back([old = std::make_shared<decltype(devices_)>(std::move(devices_))] { old->clear(); });
    devices_.clear();

    auto applied = model::apply(*site_.space, *wanted.space);
    writeRunningModel(*wanted.space);
    moveBindings(wanted.bindings, *wanted.space, *site_.space);
    site_.devices = std::move(wanted.devices);
    site_.bindings = std::move(wanted.bindings);
    bindDevices();
    for (auto& device : devices_) device->start();
    told["added"] = applied.added;
    told["removed"] = applied.removed;
    told["changed"] = applied.changed;
    server_->showModels();
    server_->bindAlarms();
    server_->announcer().modelChanged(std::move(applied.changes));
    server_->accountsChanged([this](const server::User& user) { return accountOf(user); });
    listener_->served();
    spdlog::info("the model was applied: {}", told.dump());
  } else {
    told["findings"] = wanted.report();
    spdlog::error("the model has mistakes and was not applied");
  }
  record("model applied", wanted.isSound() ? status::Good : status::BadConfigurationError, told.dump());
  const auto file = site_.folder / "state/applied.json", beside = site_.folder / "state/applied.json.new";
  std::ofstream(beside) << told.dump(2) << '\n';
  std::error_code ignored;
  std::filesystem::rename(beside, file, ignored);
}

/// What runs, for `zunth diff` to compare with what is saved.
void RunningSite::writeRunningModel(const space::Space& model) const {
  std::vector<std::uint16_t> namespaces;
  for (std::size_t i = 2; i < model.namespaces().size(); ++i) namespaces.push_back(static_cast<std::uint16_t>(i));
  std::error_code ignored;
  std::filesystem::create_directories(site_.folder / "state", ignored);
  std::ofstream(site_.folder / "state/running.xml") << model::writeNodeSet(model, namespaces);
}

void RunningSite::bindDevice(std::size_t index) {
  device::DeviceFile& file = site_.devices[index];
  auto shown = shown_.emplace_back(std::make_shared<Shown>());
  std::vector<device::PointIndex> polled;
  for (const auto& binding : site_.bindings.variables) {
    if (binding.device != index) continue;
    auto& list = (*shown)[binding.point];
    if (list.empty()) polled.push_back(binding.point);
    list.push_back(binding.variable);
  }
  // What happens on the device's thread is handed to the loop, whole batches at a time.
  device::Device::Events events;
  events.values = [this, shown, alive = alive_](std::vector<std::pair<device::PointIndex, DataValue>> batch) {
    net::asio::post(loop_, [this, shown, alive, batch = std::move(batch)] {
      if (!*alive) return;
      for (const auto& [point, value] : batch)
        for (NodeIndex variable : (*shown)[point])
          site_.space->setValue(variable, device::shownAs(*site_.space, variable, value));
      listener_->served();
    });
  };
  events.connection = [this, shown, alive = alive_](bool isConnected, DateTime when, const Error&) {
    // A device that comes back shows itself by its next values.
    if (isConnected) return;
    net::asio::post(loop_, [this, shown, alive, when] {
      if (*alive) showLost(*shown, when);
    });
  };
  auto device = std::make_unique<device::Device>(file.name, std::move(file.speaks), milliseconds(file.every), polled,
                                                 std::move(events));
  device::Device* running = device.get();
  devices_.push_back(std::move(device));

  const auto source = std::make_shared<DeviceSource>(*running, loop_, alive_);
  for (const auto& [point, variables] : *shown)
    for (NodeIndex variable : variables) server_->setSource(variable, source);
  for (const auto& binding : site_.bindings.variables) {
    if (binding.device != index) continue;
    const BuiltInType type = file.points[binding.point].type;
    server_->setWriteHandler(binding.variable, [this, running, point = binding.point, type, alive = alive_](
                                                   Variant value, std::function<void(Error)> done) {
      auto converted = convert(value, type);
      if (!converted) return done(converted.error());
      running->write(point, std::move(*converted),
                     [this, alive, done = std::move(done)](device::Driver::Outcome outcome) {
                       net::asio::post(loop_, [alive, done, outcome = std::move(outcome)] {
                         if (*alive) done(outcome.error);
                       });
                     });
    });
  }
  for (const auto& binding : site_.bindings.methods) {
    if (binding.device != index) continue;
    const auto inputs = space::methodArguments(*site_.space, binding.method, "InputArguments");
    const auto outputs = space::methodArguments(*site_.space, binding.method, "OutputArguments");
    server_->setCallHandler(
        binding.method, [this, running, action = *file.action(binding.action), inputs, outputs, alive = alive_](
                            std::vector<Variant> given, std::function<void(server::CallOutcome)> done) {
          std::map<std::string, Variant> named;
          for (std::size_t i = 0; i < inputs.size(); ++i) named[inputs[i].name.str()] = given[i];
          running->act(action, std::move(named),
                       [this, alive, outputs, done = std::move(done)](device::Driver::Outcome outcome) {
                         net::asio::post(loop_, [this, alive, outputs, done, outcome = std::move(outcome)] {
                           if (!*alive) return;
                           server::CallOutcome answer{outcome.error, {}};
                           for (const auto& output : outputs) {
                             const auto found = outcome.outputs.find(output.name.str());
                             const BuiltInType wanted = site_.space->builtInType(site_.space->find(output.dataType));
                             auto value = found == outcome.outputs.end() ? Result<Variant>(Variant())
                                                                         : convert(found->second, wanted, true);
                             answer.outputs.push_back(value ? *value : Variant());
                           }
                           done(std::move(answer));
                         });
                       });
        });
  }
}

void RunningSite::showLost(const Shown& shown, DateTime when) {
  for (const auto& [point, variables] : shown)
    for (NodeIndex variable : variables)
      site_.space->setValue(variable, DataValue(Variant(), when, status::BadNoCommunication));
  listener_->served();
}

/// The site's own identity: made at the first start.
Result<void> RunningSite::secure() {
  std::vector<std::string> hosts{boost::asio::ip::host_name(), "localhost", "127.0.0.1"};
  for (const auto& url : site_.settings.endpointUrls)
    if (auto parsed = net::Url::parse(url); parsed && std::ranges::find(hosts, parsed->host) == hosts.end())
      hosts.push_back(parsed->host);
  auto identities = trust_.identities(site_.settings.applicationName, site_.settings.applicationUri, hosts);
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
  auto certificate = secure::Certificate::fromDer(chain);
  if (!certificate) return fine;
  if (fine.code() != status::BadCertificateUntrusted) return fine;
  if (const auto awaited = trust_.firstContact();
      awaited && now < awaited->until &&
      (awaited->applicationUri.empty() || awaited->applicationUri == certificate->applicationUri())) {
    // Whoever was waited for has come: nobody else gets in by this.
    trust_.endFirstContact();
    if (auto kept = trust_.trust(*certificate); !kept) return kept;
    spdlog::warn("{} ({}) came while first contact was open, and is trusted from now on: {}",
                 shown(certificate->subject()), shown(certificate->applicationUri()), certificate->fingerprint());
    recordLater("first contact", status::Good,
                fmt::format("{} {}", shown(certificate->subject()), certificate->fingerprint()));
    return secure::validate(chain, *trust_.current(), expected);
  }
  trust_.reject(*certificate);
  recordLater("certificate refused", fine.code(),
              fmt::format("{} {}", shown(certificate->subject()), certificate->fingerprint()));
  spdlog::warn("a client is not trusted: {} ({}); to let it in: zunth trust allow {} --site {}",
               shown(certificate->subject()), shown(certificate->applicationUri()),
               certificate->fingerprint().substr(0, kShownPrint), site_.folder.string());
  // Part 4, 6.1.3: what is told to strangers is that they failed; the words are for the engineer at the client.
  return Error{status::BadSecurityChecksFailed,
               fmt::format("the server does not trust this client's certificate; there: zunth trust allow {}",
                           certificate->fingerprint().substr(0, kShownPrint)),
               {}};
}

void RunningSite::recordLater(const char* what, StatusCode outcome, std::string about) {
  boost::asio::post(loop_, [this, alive = alive_, what, outcome, about = std::move(about)] {
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
  net::asio::post(
      hashing_, [this, alive = alive_, name = std::move(name), password = std::move(password), done = std::move(done)] {
        auto user = users_.check(name, password);
        --passwordsWaiting_;
        net::asio::post(loop_, [this, alive, done, user = std::move(user)] {
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
      spdlog::warn("a user has the role '{}', which this site doesn't know", name);
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
  audit_.flush();
  const auto written = std::filesystem::last_write_time(users_.file(), ignored).time_since_epoch().count();
  const std::string users = std::to_string(written);
  const bool usersChanged = std::exchange(usersSeen_, users) != users;
  if (std::exchange(userTrustSeen_, userTrust) != userTrust || usersChanged)
    server_->accountsChanged([this](const server::User& user) { return accountOf(user); });
  server_->endRunOut();
  stateTimer_.expires_after(std::chrono::seconds(1));
  stateTimer_.async_wait([this, alive = alive_](const boost::system::error_code& error) {
    if (!error && *alive) watchState();
  });
}

/// The certificate in own/ is another one: new connections get it, those that are open go on with theirs.
void RunningSite::renewIdentity() {
  const auto before = site_.settings.identities;
  const auto hosts = before ? before.main()->certificate.hosts() : std::vector<std::string>();
  auto now = trust_.identities(site_.settings.applicationName, site_.settings.applicationUri, hosts);
  if (!now) return spdlog::error("the certificate can't be renewed: {}", now.error().text());
  site_.settings.identities = *now;
  server_->setIdentities(std::move(*now));
  for (const auto kind : TrustStore::kKinds) {
    const auto old = before.of(kind), fresh = site_.settings.identities.of(kind);
    if (old && fresh->chain().view() == old->chain().view()) continue;
    const auto& certificate = fresh->certificate;
    spdlog::info("the certificate was renewed: {} until {}", certificate.subject(), certificate.validTo().text());
    record("certificate renewed", status::Good, certificate.fingerprint());
  }
}

Result<std::vector<std::string>> RunningSite::start() {
  if (!secured_) return secured_.error();
  listener_ = std::make_unique<endpoint::Listener>(loop_, *server_);
  std::vector<std::string> urls;
  for (const auto& url : site_.settings.endpointUrls) {
    auto listening = listener_->listen(url);
    if (!listening) return listening.error();
    urls.push_back(*listening);
  }
  server_->setEndpointUrls(urls);
  for (const auto& url : site_.settings.clientUrls)
    if (auto fine = listener_->reach(url); !fine) return fine.error();
  for (auto& device : devices_) device->start();
  record("start", status::Good, fmt::format("{}", fmt::join(urls, ", ")));
  std::ofstream(site_.folder / "state/zunthd.pid") << ::getpid() << '\n';
  watchState();
  return urls;
}

void RunningSite::stop() {
  if (!std::exchange(*alive_, false)) return;
  stateTimer_.cancel();
  for (auto& device : devices_) device->askToStop();
  for (auto& device : devices_) device->stop();
  server_->shutdown();
  if (listener_) listener_->stop();
  hashing_.stop();
  record("stop", status::Good, {});
  std::error_code ignored;
  std::filesystem::remove(site_.folder / "state/zunthd.pid", ignored);
  audit_.flush();
}

}  // namespace zunth::admin
