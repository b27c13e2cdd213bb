#pragma once

#include "core/alarm/alarms.hpp"

#include "tests/core/model_space.hpp"

namespace zunth::test {

/// A plant with alarms whose time stands still until it is told to pass.
struct AlarmPlant {
  explicit AlarmPlant(const std::string& text) : space(spaceOf(text)) {
    space->setRemovalListener([this](space::NodeIndex node) { alarms.nodeRemoved(node); });
    alarms.bind();
    events.clear();
  }
  space::NodeIndex at(const std::string& path) const { return space->find(ua::NodeId(2, ua::String("Plant/" + path))); }
  void set(const std::string& path, ua::Variant value, ua::StatusCode status = ua::status::Good) {
    space->setValue(at(path), ua::DataValue(std::move(value), wall, status));
  }
  void pass(double seconds) {
    now += ua::milliseconds(seconds * 1000);
    wall.ticks += static_cast<std::int64_t>(seconds * 1e7);
    alarms.tick();
  }
  ua::Variant field(const std::string& path) const { return space->value(at(path)).value; }
  std::string text(const std::string& path) const {
    const ua::Variant held = field(path);
    const auto* words = held.get<ua::LocalizedText>();
    return words ? words->text.str() : std::string();
  }
  bool isTrue(const std::string& path) const { return field(path) == ua::Variant(true); }
  /// Those that were told since, as "DF1/clogged Active": of one alarm, if that is named.
  std::vector<std::string> told(const std::string& of = "") {
    std::vector<std::string> out;
    for (const auto& event : std::exchange(events, {})) {
      const ua::Variant condition = event.field({{0, "ConditionId"}}), active = event.field({{0, "ActiveState"}});
      const std::string name(condition.get<ua::NodeId>()->octets().view().substr(6));
      if (of.empty() || name == of) out.push_back(active.get<ua::LocalizedText>()->text.str());
    }
    return out;
  }
  ua::StatusCode call(const std::string& method, std::vector<ua::Variant> inputs = {}) {
    const auto answer = alarms.call(at(method), inputs, "mia");
    return answer ? answer->code : ua::StatusCode(ua::status::BadMethodInvalid);
  }
  ua::StatusCode acknowledge(const std::string& alarm, const char* comment = nullptr) {
    return call(alarm + "/Acknowledge",
                {field(alarm + "/EventId"),
                 ua::Variant(comment ? ua::LocalizedText(ua::String(comment)) : ua::LocalizedText())});
  }

  std::unique_ptr<space::Space> space;
  ua::Instant now{std::chrono::hours(1)};
  ua::DateTime wall{134'000'000'000'000'000};
  std::uint64_t lastId = 0;
  std::vector<monitor::Event> events;
  alarm::Alarms alarms{*space,
                       {[this] { return now; }, [this] { return wall; },
                        [this] {
                          ++lastId;
                          return ua::ByteString(&lastId, sizeof lastId);
                        },
                        [this](monitor::Event event) { events.push_back(std::move(event)); }}};
};

}  // namespace zunth::test
