#pragma once

#include "service/device/dnp3_application.hpp"
#include "service/device/dnp3_line.hpp"
#include "service/device/driver_kinds.hpp"
#include "service/device/scan.hpp"
#include "service/device/station.hpp"

#include <map>
#include <set>

/// A master of outstations by DNP3 (IEEE 1815).
namespace zunth::device::dnp3 {

struct StationSettings {
  LinkAddress at;
  std::uint16_t master = 1, outstation = 10;
  ua::Duration timeout = std::chrono::seconds(2);
  ua::Duration integrity = std::chrono::minutes(60);  // between looks at all points
  bool wantsUnsolicited = true;                       // events come by themselves
  bool setsClock = true;                              // when the outstation asks for it
  bool isConfirmed = false;                           // by its link layer, whatever is sent to it
  ua::Duration keepAlive =
      std::chrono::seconds(60);   // of silence, after which its link layer is asked whether it is there
  std::set<Kind> discovers = {};  // points of these become points without a word in the file
};
StationSettings readSettings(const DeviceText& text, model::Findings& findings);
DriverSetup readDevice(const DeviceText& text, model::Findings& findings);
ua::Result<std::vector<FoundPoint>> scanOutstation(const DeviceText& text, const ScanWish& wish,
                                                   model::Findings& findings);

/// "analog 3", "binary-output 0 select pulse 500 ms", "analog-output 1 Float".
struct StationPoint {
  Point point;
  Kind kind = Kind::Analog;
  std::uint16_t index = 0;
  bool isSelected = false;     // select before operate
  std::uint32_t pulse = 0;     // ms; 0 latches
  std::uint8_t variation = 1;  // of an analogue output: 1 Int32, 2 Int16, 3 Float, 4 Double
};
std::optional<StationPoint> parsePoint(const DeviceText::PointText& point, Conversion& conversion,
                                       model::Findings& findings);

/// An outstation. It is looked at as a whole when it comes, when it has restarted or lost events, and once in a while;
/// between that its events are asked for at each beat, and come by themselves where it can. Events bring their own
/// times, all of them in their order.
class OutstationStation final : public Station {
 public:
  OutstationStation(StationSettings settings, std::vector<StationPoint> points);

  const std::vector<Point>& points() const override { return names_; }
  std::vector<DevicePoint> remember(const std::vector<Discovered>& points) override;
  std::vector<DevicePoint> takeDiscovered() override { return std::exchange(discovered_, {}); }
  ua::Result<void> connect() override;
  void disconnect() override;
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Explained> explain(PointIndex point) override;
  ua::Result<Outcome> write(const PointWrite& write) override;
  bool sendsByItself() const override { return true; }
  ua::Result<std::vector<Sample>> listen(ua::Duration patience) override;

  /// All that it has shown so far, by kind and index.
  using Shown = std::map<std::pair<Kind, std::uint32_t>, Measurement>;
  const Shown& shown() const { return shown_; }

 private:
  void add(StationPoint point);
  std::optional<DevicePoint> add(const Discovered& point);
  void discover(const Measurement& measurement);
  ua::Result<void> lookAtAll();
  ua::Result<void> askForEvents();
  ua::Result<void> synchronize();
  /// Sends a request and takes all fragments of its response.
  template <class Make>
  ua::Result<Fragment> ask(Make request);
  ua::Result<Fragment> answerTo(std::uint8_t sequence);
  ua::Result<void> take(Fragment fragment);
  ua::Result<void> heed(const Indications& indications);
  ua::Result<void> confirmTo(const Fragment& fragment);
  ua::DataValue valueOf(PointIndex point) const;
  ua::Instant deadline() const;

  const StationSettings settings_;
  std::vector<StationPoint> points_;
  std::size_t room_ = kMostDiscovered;   // for more
  std::vector<DevicePoint> discovered_;  // that nobody has been told of
  std::vector<Point> names_;
  std::multimap<std::pair<Kind, std::uint32_t>, PointIndex> byPlace_;
  std::shared_ptr<Line> line_;
  bool isConnected_ = false;
  int generation_ = 0;
  std::uint8_t sequence_ = 0;
  std::optional<std::uint8_t> lastUnsolicited_;
  Shown shown_;
  std::map<std::pair<Kind, std::uint32_t>, ua::DateTime> shownAt_;
  std::vector<Sample> came_;  // that listen() hands on
  Indications indications_;
  bool isHeeding_ = false;
  ua::Instant lookedAt_{}, heardAt_{};
  std::vector<Kind> outputs_;  // that it has, and that are bound
};

}  // namespace zunth::device::dnp3
