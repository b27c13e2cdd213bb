#include "core/monitor/sampling.hpp"
#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

namespace zunth::sink_test {

using namespace zunth::ua;
using namespace zunth::monitor;

namespace {

const DateTime kWall{133'000'000'000'000'000};

/// What a writer of messages would be: it takes what an item has as soon as it is told.
struct Writer : NotificationSink {
  using NotificationSink::NotificationSink;
  void itemQueued(MonitoredItem& item) override {
    while (item.hasQueued()) written.push_back(item.takeValue());
  }
  std::vector<DataValue> written;
};

}  // namespace

TEST_CASE("what is watched goes to any sink, not to subscriptions alone", "[monitor]") {
  space::Space space("urn:fernhollow.example:test");
  loadNamespace0(space);
  space::NewNode node;
  node.nodeId = NodeId(1, 1u);
  node.nodeClass = NodeClass::Variable;
  node.browseName = {1, "pressure"};
  node.traits.dataType = space.at(id::Double);
  node.value = Variant(0.0);
  const auto variable = *space.add(node);
  Sampling sampling(space);
  Instant now{std::chrono::hours(1)};
  const auto tap = space.tap([&](auto changes) { sampling.valuesChanged(changes, now, kWall); });
  sampling.setTap(tap);

  Writer each(1), coarse(2);
  ItemSettings settings;
  settings.queueSize = 10;
  MonitoredItem every(1, each, variable, AttributeId::Value, IndexRange(), settings, MonitoringMode::Reporting);
  settings.filter = *ChangeFilter::from({DataChangeTrigger::StatusValue, 1, 10.0}, true, std::nullopt);
  MonitoredItem large(2, coarse, variable, AttributeId::Value, IndexRange(), settings, MonitoringMode::Reporting);
  sampling.add(every, now, kWall);
  sampling.add(large, now, kWall);
  for (const double value : {1.0, 2.0, 30.0}) space.setValue(variable, DataValue(Variant(value), kWall));
  space.remove(variable);
  sampling.nodeRemoved(variable, kWall);

  const auto told = [](const Writer& writer) {
    std::string out;
    for (const auto& value : writer.written)
      out += value.status.isBad() ? std::string(value.status.name())
                                  : std::to_string(*value.value.get<double>()).substr(0, 4) + " ";
    return out;
  };
  CHECK(told(each) == "0.00 1.00 2.00 30.0 BadNodeIdUnknown");
  CHECK(told(coarse) == "0.00 30.0 BadNodeIdUnknown");
  space.untap(tap);
}

}  // namespace zunth::sink_test
