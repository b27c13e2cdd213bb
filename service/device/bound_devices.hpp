#pragma once

#include "core/space/owner.hpp"
#include "service/device/awaited.hpp"
#include "service/device/bindings.hpp"
#include "service/device/device.hpp"
#include "service/device/device_nodes.hpp"
#include "service/device/wire_log.hpp"

#include <list>

namespace zunth::device {

/// A device and how it is doing, for people.
struct DeviceState {
  std::string name, driver, address;
  double every = 0;         // ms
  std::size_t points = 0;   // that are bound
  bool isStarting = false;  // it waits for the one before it on the same line to end
  Health health;
};

/// What the devices of a site have discovered, from one run to the next. On the services' thread.
class DiscoveredPoints {
 public:
  virtual ~DiscoveredPoints() = default;
  /// Those of a device while its file asks for the same.
  virtual std::vector<Discovered> of(const DeviceFile& device) const = 0;
  virtual void add(const DeviceFile& device, const std::vector<Discovered>& points) = 0;
  /// It discovers nothing any more.
  virtual void forget(const std::string& device) = 0;
};

/// The devices of a site and the nodes that show them: the owner of each node that is bound to one, or computed out of
/// others. Called on the services' thread; what devices bring is posted there.
class BoundDevices final : public space::Owner, public std::enable_shared_from_this<BoundDevices> {
 public:
  struct Loop {
    std::function<void(std::function<void()>)> post;  // from any thread, to the services'
    std::function<void()> served;                     // new values are in the space
    /// A device came or went; `node` shows how it is.
    std::function<void(space::NodeIndex node, const DeviceState& device)> cameOrWent = {};
    /// Nodes of devices were added or deleted.
    std::function<void(std::vector<ua::ModelChangeStructureDataType>)> modelChanged = {};
    /// Does something after a while, on the services' thread.
    std::function<void(ua::Duration, std::function<void()>)> after = {};
    /// How fast somebody wants a variable's values: ms between samples, 0 for each; nothing while nobody does.
    std::function<std::optional<double>(space::NodeIndex variable)> interest = {};
    /// A value that a device kept, and that isn't its newest, for history alone.
    std::function<void(space::NodeIndex variable, ua::DataValue value)> past = {};
    /// What devices have discovered is kept elsewhere, for the next run.
    DiscoveredPoints* discovered = nullptr;
  };
  BoundDevices(space::Space& space, space::Owners& owners, Loop loop)
      : space_(space),
        owners_(owners),
        loop_(std::move(loop)),
        nodes_(space),
        computed_(std::make_shared<Computed>(space, owners)) {}
  ~BoundDevices() override { stop(); }

  /// Makes these the devices and bindings. What is as before goes on without missing a poll; a device that is spoken to
  /// otherwise is left before it is connected to again; a variable that is bound no longer keeps its last value as
  /// UncertainLastUsableValue; one that is bound anew waits for its first (BadWaitingForInitialData,
  /// UncertainInitialValue with the model's value).
  void rebind(std::vector<DeviceFile> files, const Bindings& bindings);
  /// Devices connect from now on.
  void start();
  void stop();
  std::vector<DeviceState> states() const;
  /// What goes over the line of a device; null when there is no such device.
  std::shared_ptr<WireLog> wireOf(const std::string& device) const;
  /// How the value of a variable comes about, from the wire to the node, read anew for it; on the services' thread.
  /// BadNotFound for one that is bound to no device.
  using ExplainDone = std::function<void(ua::Result<Trace>)>;
  void explain(space::NodeIndex variable, ua::Instant deadline, ExplainDone done);

  // As owner
  bool isOlderThan(space::NodeIndex variable, ua::Duration age) const override;
  void refresh(std::vector<space::NodeIndex> variables, ua::Instant deadline, std::function<void()> done) override;
  void write(std::vector<Write> writes, ua::Instant deadline, WriteDone done) override;
  void call(space::NodeIndex method, std::vector<ua::Variant> inputs, ua::Instant deadline,
            std::function<void(space::CallOutcome)> done) override;
  void removed(space::NodeIndex node) override;

 private:
  static constexpr std::uint32_t kWhole = UINT32_MAX;
  /// Where a point is shown: in a variable, or in a part of one.
  struct Place {
    space::NodeIndex variable;
    std::uint32_t part = kWhole;
    bool operator==(const Place&) const = default;
  };
  struct Bound {
    DeviceFile file;            // with what it has discovered behind its own points
    std::size_t ownPoints = 0;  // that the file names
    std::unique_ptr<Device> device;
    std::span<const DevicePoint> discovered() const { return std::span(file.points).subspan(ownPoints); }
    /// Where each point is shown; several may show the same.
    std::map<PointIndex, std::vector<Place>> shown;
    std::map<PointIndex, std::shared_ptr<const Trace>> traces;  // of points that somebody looks at
    Device::Paces asked;                                        // of the points that are read when somebody asks
    bool hasWhenAsked = false;                                  // any of those
    bool isStarted = false;
    std::optional<bool> wasConnected;
    ua::Instant toldAt{};  // how it is doing
  };
  struct Source {
    std::shared_ptr<Bound> bound;
    PointIndex point;
    std::uint32_t part = kWhole;
    bool operator==(const Source&) const = default;
  };
  /// What brings a variable's value: a point, or several that are put together.
  struct Sources {
    std::vector<Source> all;
    std::unique_ptr<Composition> composition{};
  };
  struct Command {
    std::shared_ptr<Bound> bound;
    Action action;
    std::vector<ua::Argument> inputs, outputs;
  };

  /// Makes of one who waits what a device may hold and call on its thread.
  template <class... Answer>
  std::function<void(Answer...)> later(Awaited<Answer...> BoundDevices::*desk, std::function<void(Answer...)> done) {
    const auto number = (this->*desk).keep(std::move(done));
    return [self = weak_from_this(), post = loop_.post, desk, number](Answer... answer) {
      post([self, desk, number, ... answer = std::move(answer)]() mutable {
        if (const auto devices = self.lock()) ((*devices).*desk).answer(number, std::move(answer)...);
      });
    };
  }
  std::shared_ptr<Bound> make(DeviceFile file);
  void retire(std::shared_ptr<Bound> old);
  void startAll();
  bool isLeaving(const std::string& line) const;
  void bindDiscovered(std::vector<VariableBinding>& variables, std::vector<ua::ModelChangeStructureDataType>& changes);
  void forgetNodes(const Bound& bound);
  void want(Bound& bound);
  std::optional<Device::Paces> pacesOf(const Bound& bound) const;
  void watchInterest(std::uint64_t watch);
  void showDiscovered(Bound& bound, PointIndex first, std::vector<DevicePoint> points);
  void bindVariable(const std::shared_ptr<Bound>& bound, PointIndex point, Place place);
  void bindVariables(const std::vector<std::shared_ptr<Bound>>& devices, const std::vector<VariableBinding>& variables);
  void bindMethods(const std::vector<std::shared_ptr<Bound>>& devices, const Bindings& bindings);
  void show(Bound& bound, const std::vector<Shown>& batch);
  void bindComputed(const std::vector<ComputedBinding>& bindings);
  Trace wayOf(const Computed::Way& way, space::NodeIndex variable) const;
  void showNode(Trace& way, space::NodeIndex variable) const;
  Trace wayOf(Bound& bound, PointIndex point, space::NodeIndex variable);
  Trace wayOf(const Sources& sources, space::NodeIndex variable) const;
  void showLost(const Bound& bound, ua::DateTime when);
  void tellHealth(Bound& bound, bool isNews);
  void tellLink(Bound& bound, bool isConnected);
  static DeviceState stateOf(const Bound& bound);
  void showReleased(space::NodeIndex variable);
  void showAwaited(space::NodeIndex variable);

  space::Space& space_;
  space::Owners& owners_;
  Loop loop_;
  DeviceNodes nodes_;
  std::shared_ptr<Computed> computed_;
  std::vector<std::shared_ptr<Bound>> devices_;
  std::unordered_map<space::NodeIndex, Sources> sources_;
  std::unordered_map<space::NodeIndex, Command> commands_;
  std::list<std::shared_ptr<Bound>> leaving_;  // that say goodbye: a device may take as long as its time-out
  Awaited<> refreshes_;
  Awaited<std::vector<ua::Error>> writes_;
  Awaited<Device::Outcome> calls_;
  bool isRunning_ = false;
  std::uint64_t interestWatch_ = 0;  // another one ends it
};

}  // namespace zunth::device
