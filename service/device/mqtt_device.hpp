#pragma once

#include "core/ua/json_parser.hpp"
#include "service/device/driver_kinds.hpp"
#include "service/device/mqtt_broker.hpp"
#include "service/device/topic_pattern.hpp"

#include <set>
#include <unordered_map>

/// Devices that say what is new through a broker.
namespace zunth::device::mqtt {

DriverSetup readDevice(const DeviceText& text, model::Findings& findings);

/// A point: what of which message it is, and where what is written goes.
struct MqttPoint {
  Point point;
  std::string topic;              // or a filter with + and #
  std::vector<std::string> path;  // into a JSON payload; empty for the payload as it is
  std::vector<std::string> time;  // of the value's own time in the same payload
  std::string sendsTo;            // a topic; empty for read-only
  bool isKept = false;            // the broker keeps what is sent
  bool isDiscovered = false;      // by a pattern, which is subscribed to in its place
};
/// "TOPIC [$.path.to.value] [time $.path] [send TOPIC] [kept]" and the words of a conversion. Nothing and a finding
/// when it is not sound.
std::optional<MqttPoint> parsePoint(const DeviceText::PointText& point, Conversion& conversion,
                                    model::Findings& findings);
/// What came, read as JSON once for all points that look into it.
class Message {
 public:
  Message(std::string topic, std::string_view payload, bool isOld)
      : topic_(std::move(topic)), payload_(payload), isOld_(isOld) {}
  const std::string& topic() const { return topic_; }
  const std::string& payload() const { return payload_; }
  /// The broker had kept it.
  bool isOld() const { return isOld_; }
  /// Null for what is no JSON.
  const ua::Json* json() const;

 private:
  std::string topic_, payload_;
  bool isOld_;
  mutable std::optional<ua::Result<ua::Json>> json_;
};
/// What a message says of a point, with the device's own time where it gives one. BadDecodingError as status for a
/// payload that is no JSON where one is needed, BadNoData where the path leads nowhere.
ua::DataValue valueIn(const MqttPoint& point, const Message& message, ua::DateTime now);

struct MqttSettings {
  BrokerSettings broker;
  std::string aliveTopic, alivePayload;  // what tells that the device is there; empty for the broker's session alone
  double quiet = 0;                      // ms without a message after which it counts as away; 0 for never
  std::vector<TopicPattern> discovers = {};
};

/// What the file of a device says of its broker, and of how it is known to be there.
MqttSettings readSettings(const DeviceText& text, model::Findings& findings);

/// A device behind a broker. Values come when it sends them: a beat means nothing to it.
class MqttDevice final : public Driver, Broker::Listener {
 public:
  MqttDevice(MqttSettings settings, std::vector<MqttPoint> points);
  ~MqttDevice() override;

  const std::vector<Point>& points() const override { return names_; }
  std::vector<DevicePoint> remember(const std::vector<Discovered>& points) override;
  void start(Sink& sink) override;
  void stop(std::function<void()> done) override;
  void want(std::vector<Wish> wishes) override;
  /// Nobody can be asked: who looks is shown the last message again.
  void refresh(std::vector<PointIndex> points, ua::Instant deadline, std::function<void()> done) override;
  void write(std::vector<PointWrite> writes, ua::Instant deadline, WritesDone done) override;
  void act(std::vector<Step> steps, ua::Instant deadline, ActDone done) override;
  Figures figures() const override;

 private:
  void session(bool isThere, const ua::Error& why) override;
  void message(const std::string& topic, std::string_view payload, bool isOld) override;
  void tick() override;
  void judge();
  void add(MqttPoint point);
  std::optional<DevicePoint> add(const Discovered& point);
  std::vector<DevicePoint> discover(const Message& message);
  void take(PointIndex point, const std::shared_ptr<const Message>& message);
  bool isLate(PointIndex point, ua::DateTime time);
  Sample sampleOf(PointIndex point, const Message& message) const;
  void bring();
  std::vector<std::string> topics() const;

  const MqttSettings settings_;
  Sink* sink_ = nullptr;
  std::shared_ptr<Broker> broker_;

  mutable std::mutex mutex_;
  // Under the mutex
  std::vector<MqttPoint> points_;
  std::vector<Point> names_;
  std::set<std::string> known_;  // the names of points
  std::unordered_multimap<std::string, PointIndex> byTopic_;
  std::vector<PointIndex> byFilter_;    // whose topics have wildcards
  std::size_t room_ = kMostDiscovered;  // for more
  std::set<PointIndex> wanted_;
  std::map<PointIndex, std::shared_ptr<const Message>> last_;
  struct Newest {
    ua::DateTime time;  // by the device's clock
    ua::Instant came;
  };
  std::map<PointIndex, Newest> newest_;  // of points with times of their own
  Figures figures_;
  // That came before it was known whether the device is there, or while there was no room for it.
  std::vector<Sample> waiting_;
  // Touched as a listener alone
  bool hasSession_ = false, isAlive_ = true, wasConnected_ = false, isFull_ = false;
  std::string toldWhy_;  // it is away
  ua::Error why_{ua::status::Good, {}, {}};
  ua::Instant heardAt_{}, sessionAt_{};
};

}  // namespace zunth::device::mqtt
