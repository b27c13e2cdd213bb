#include "service/admin/running_site.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"
#include "service/net/url.hpp"

#include <algorithm>

#include <boost/asio/ip/host_name.hpp>
#include <boost/asio/post.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::admin {

using namespace ua;
using space::NodeIndex;

RunningSite::RunningSite(net::asio::io_context& loop, Site site)
    : loop_(loop),
      trust_(site.folder / "state/trust"),
      users_(site.folder / "state/users.yaml"),
      site_(std::move(site)),
      trustTimer_(loop) {
  site_.settings.trust = [this](const ByteString& chain) { return judge(chain); };
  site_.settings.checkPassword = [this](const std::string& name, const std::string& password) {
    return users_.check(name, password);
  };
  secured_ = secure();
  server_ = std::make_unique<server::Server>(*site_.space, site_.settings);
  for (std::size_t i = 0; i < site_.devices.size(); ++i) bindDevice(i);
  server_->setRemovalHandler([this](NodeIndex node) {
    for (const auto& shown : shown_)
      for (auto& [point, variables] : *shown) std::erase(variables, node);
  });
}

RunningSite::~RunningSite() { stop(); }

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
  auto identity = trust_.identity(site_.settings.applicationName, site_.settings.applicationUri, hosts);
  if (!identity) return identity.error();
  site_.settings.identity = std::make_shared<const secure::Identity>(std::move(*identity));
  return {};
}

/// Whether a client may open a channel. Who is refused is kept for the administrator to decide about.
Result<void> RunningSite::judge(const ByteString& chain) {
  const secure::Expected expected{DateTime::from(std::chrono::system_clock::now()), {}, {}};
  auto fine = secure::validate(chain, trust_.load(), expected);
  if (fine) return {};
  auto certificate = secure::Certificate::fromDer(chain);
  if (!certificate) return fine;
  if (fine.code() != status::BadCertificateUntrusted) return fine;
  trust_.reject(*certificate);
  spdlog::warn("a client is not trusted: {} ({}); to let it in: zunth trust allow {} --site {}", certificate->subject(),
               certificate->applicationUri(), certificate->fingerprint().substr(0, 11), site_.folder.string());
  // Part 4, 6.1.3: what is told to strangers is that they failed; the words are for the engineer at the client.
  return Error{status::BadSecurityChecksFailed,
               fmt::format("the server does not trust this client's certificate; there: zunth trust allow {}",
                           certificate->fingerprint().substr(0, 11)),
               {}};
}

/// Looks at the folders of trust each second: who is taken out loses the connection.
void RunningSite::watchTrust() {
  std::string seen;
  std::error_code ignored;
  for (const char* part : {"trusted", "issuers"})
    for (const auto& entry : std::filesystem::directory_iterator(trust_.folder() / part, ignored))
      seen += fmt::format("{} {}\n", entry.path().string(), entry.last_write_time(ignored).time_since_epoch().count());
  if (std::exchange(trustSeen_, seen) != seen) listener_->trustChanged();
  trustTimer_.expires_after(std::chrono::seconds(1));
  trustTimer_.async_wait([this, alive = alive_](const boost::system::error_code& error) {
    if (!error && *alive) watchTrust();
  });
}

Result<std::vector<std::string>> RunningSite::start() {
  if (!secured_) return secured_.error();
  listener_ = std::make_unique<server::Listener>(loop_, *server_);
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
  watchTrust();
  return urls;
}

void RunningSite::stop() {
  if (!std::exchange(*alive_, false)) return;
  trustTimer_.cancel();
  for (auto& device : devices_) device->askToStop();
  for (auto& device : devices_) device->stop();
  server_->shutdown();
  if (listener_) listener_->stop();
}

}  // namespace zunth::admin
