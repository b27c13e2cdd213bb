#include "service/admin/running_site.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <boost/asio/post.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::admin {

using namespace ua;
using space::NodeIndex;

RunningSite::RunningSite(net::asio::io_context& loop, Site site)
    : loop_(loop), site_(std::move(site)), server_(std::make_unique<server::Server>(*site_.space, site_.settings)) {
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

Result<std::vector<std::string>> RunningSite::start() {
  listener_ = std::make_unique<server::Listener>(loop_, *server_);
  std::vector<std::string> urls;
  for (const auto& url : site_.settings.endpointUrls) {
    auto listening = listener_->listen(url);
    if (!listening) return listening.error();
    urls.push_back(*listening);
  }
  server_->setEndpointUrls(urls);
  for (auto& device : devices_) device->start();
  return urls;
}

void RunningSite::stop() {
  if (!std::exchange(*alive_, false)) return;
  for (auto& device : devices_) device->askToStop();
  for (auto& device : devices_) device->stop();
  server_->shutdown();
  if (listener_) listener_->stop();
}

}  // namespace zunth::admin
