#include "core/model/apply.hpp"
#include "core/model/difference.hpp"

#include "tests/core/alarm_plant.hpp"

namespace zunth::alarm_test {

/// Alarms as people write them, judged as the plant moves.

using namespace zunth::ua;
using alarm::bitOf;
using alarm::Exceeded;
using space::LimitLevel;

namespace {

const char* const kModel =
    "namespace: http://fernhollow.example/alarms\n"
    "types:\n"
    "  Filter:\n"
    "    pressure: Double kPa 0..50 = 10\n"
    "    speed: Double Hz 0..50 = 20\n"
    "    goal: Double Hz 0..50 = 20\n"
    "    mode: FilterMode = Auto\n"
    "    running: Boolean Still | Turning = true\n"
    "    alarms:\n"
    "      clogged: limit pressure high 30 highhigh 38 low 5 deadband 1 severity 400 700\n"
    "      slow: limit pressure high 30 delay 2s 1s\n"
    "      each: limit pressure high 30 highhigh 38 nonexclusive\n"
    "      drifting: deviation speed from goal high 5 low -5\n"
    "      surging: rate pressure high 2\n"
    "      stopped: {is: off-normal running normal Turning severity 800 confirm, message: The screen stands still}\n"
    "      off: discrete mode when Off\n"
    "  FilterMode: enum Off | Auto | Wash\n"
    "objects:\n"
    "  Plant:\n"
    "    DF1: Filter\n"
    "    DF2: {is: Filter, alarms: {clogged: high 25}}\n";

struct Plant : test::AlarmPlant {
  explicit Plant(const std::string& text = kModel) : AlarmPlant(text) {}
};

}  // namespace

TEST_CASE("every time that an alarm shows is one", "[alarm]") {
  Plant plant;
  int times = 0;
  for (const auto& [name, alarm] :
       {std::pair{"DF1/clogged", plant.at("DF1/clogged")}, {"DF1/off", plant.at("DF1/off")}}) {
    std::vector<space::NodeIndex> below{alarm};
    for (std::size_t i = 0; i < below.size(); ++i)
      for (const auto& reference : plant.space->references(below[i]))
        if (reference.isForward() && plant.space->isSubtype(reference.type(), plant.space->at(id::Aggregates)))
          below.push_back(reference.target());
    for (const auto node : below) {
      if (plant.space->nodeClass(node) != NodeClass::Variable || !plant.space->value(node).status.isGood()) continue;
      const auto type = plant.space->traits(node).dataType;
      if (type == space::kNoNode || !plant.space->isSubtype(type, id::UtcTime)) continue;
      INFO(name << " " << plant.space->path(node));
      const auto held = plant.space->value(node).value;
      REQUIRE(held.get<DateTime>());
      CHECK(!held.get<DateTime>()->isNull());
      ++times;
    }
  }
  CHECK(times >= 8);
}

TEST_CASE("limits are exceeded, and left when the value has come back by the deadband", "[alarm]") {
  alarm::Limits limits;
  limits.levels[0] = alarm::Limits::One{38, 2};
  limits.levels[1] = alarm::Limits::One{30, 1};
  limits.levels[3] = alarm::Limits::One{-5, 0};
  const Exceeded high = bitOf(LimitLevel::High), highHigh = bitOf(LimitLevel::HighHigh),
                 lowLow = bitOf(LimitLevel::LowLow);
  struct Row {
    double value;
    Exceeded before, after;
  };
  for (const Row& row : {Row{10, 0, 0},
                         {30, 0, 0},
                         {30.1, 0, high},
                         {29.5, high, high},
                         {29, high, 0},
                         {39, high, static_cast<Exceeded>(high | highHigh)},
                         {37, static_cast<Exceeded>(high | highHigh), static_cast<Exceeded>(high | highHigh)},
                         {36, static_cast<Exceeded>(high | highHigh), high},
                         {-6, 0, lowLow},
                         {-5, lowLow, 0},
                         {NAN, high, high}}) {
    INFO(row.value << " after " << int(row.before));
    CHECK(judge(limits, row.value, row.before) == row.after);
  }
  CHECK(alarm::outermost(static_cast<Exceeded>(high | highHigh)) == LimitLevel::HighHigh);
  CHECK_FALSE(alarm::outermost(0));
}

TEST_CASE("an alarm comes, becomes worse, is acknowledged and goes", "[alarm][cu:A & C Basic][cu:A & C Alarm]") {
  Plant plant;
  const std::string clogged = "DF1/clogged";
  CHECK(plant.text(clogged + "/ActiveState") == "Inactive");
  CHECK(plant.field(clogged + "/Retain") == Variant(false));
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.told(clogged) == std::vector<std::string>{"Active"});
  CHECK(plant.text(clogged + "/LimitState/CurrentState") == "High");
  CHECK(plant.field(clogged + "/LimitState/CurrentState/Id") ==
        Variant(NodeId(id::ExclusiveLimitStateMachineType_High)));
  CHECK(plant.field(clogged + "/Severity") == Variant(std::uint16_t{400}));
  CHECK(plant.text(clogged + "/AckedState") == "Unacknowledged");
  CHECK(plant.text(clogged + "/Message") == "DF1/pressure is too high: 31, the limit is 30");
  CHECK(plant.field(clogged + "/InputNode") == Variant(NodeId(2, String("Plant/DF1/pressure"))));
  // Nothing new: nothing is told.
  plant.set("DF1/pressure", Variant(32.0));
  CHECK(plant.told(clogged).empty());
  CHECK(plant.acknowledge(clogged, "on my way").isGood());
  CHECK(plant.told(clogged).size() == 1);
  CHECK(plant.text(clogged + "/Comment") == "on my way");
  CHECK(plant.text(clogged + "/Message") == "DF1/pressure is too high: 31, the limit is 30 (acknowledged by mia)");
  CHECK(plant.field(clogged + "/ClientUserId") == Variant(String("mia")));
  CHECK(plant.acknowledge(clogged) == status::BadConditionBranchAlreadyAcked);
  CHECK(plant.call(clogged + "/Acknowledge", {Variant(ByteString("old", 3)), Variant(LocalizedText())}) ==
        status::BadEventIdUnknown);
  // Worse: somebody has to look again. Better: nobody has.
  plant.set("DF1/pressure", Variant(40.0));
  CHECK(plant.text(clogged + "/AckedState") == "Unacknowledged");
  CHECK(plant.field(clogged + "/Severity") == Variant(std::uint16_t{700}));
  CHECK(plant.field(clogged + "/LastSeverity") == Variant(std::uint16_t{400}));
  CHECK(plant.acknowledge(clogged).isGood());
  plant.set("DF1/pressure", Variant(35.0));
  CHECK(plant.text(clogged + "/AckedState") == "Acknowledged");
  plant.set("DF1/pressure", Variant(10.0));
  CHECK(plant.text(clogged + "/Message") == "DF1/pressure is normal: 10");
  CHECK(plant.field(clogged + "/Retain") == Variant(false));
  CHECK(plant.text(clogged + "/Comment") == "on my way");
  // From one side to the other is news, too.
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.text(clogged + "/Comment") == "");
  CHECK(plant.acknowledge(clogged).isGood());
  plant.set("DF1/pressure", Variant(4.0));
  CHECK(plant.text(clogged + "/LimitState/CurrentState") == "Low");
  CHECK(plant.text(clogged + "/AckedState") == "Unacknowledged");
}

TEST_CASE("each kind of alarm judges in its way", "[alarm][cu:A & C Alarm]") {
  Plant plant;
  SECTION("an instance has limits of its own") {
    plant.set("DF2/pressure", Variant(26.0));
    CHECK(plant.told("DF2/clogged").size() == 1);
    plant.set("DF1/pressure", Variant(26.0));
    CHECK(plant.told("DF1/clogged").empty());
  }
  SECTION("several limits at once") {
    plant.set("DF1/pressure", Variant(40.0));
    CHECK(plant.field("DF1/each/HighState/Id") == Variant(true));
    CHECK(plant.field("DF1/each/HighHighState/Id") == Variant(true));
    plant.set("DF1/pressure", Variant(33.0));
    CHECK(plant.field("DF1/each/HighState/Id") == Variant(true));
    CHECK(plant.field("DF1/each/HighHighState/Id") == Variant(false));
  }
  SECTION("a deviation, by the variable or by what it should be") {
    plant.set("DF1/speed", Variant(24.0));
    CHECK(plant.told("DF1/drifting").empty());
    plant.set("DF1/goal", Variant(30.0));
    CHECK(plant.text("DF1/drifting/LimitState/CurrentState") == "Low");
    plant.set("DF1/speed", Variant(36.0));
    CHECK(plant.text("DF1/drifting/LimitState/CurrentState") == "High");
  }
  SECTION("a rate of change") {
    plant.set("DF1/pressure", Variant(10.0));
    plant.pass(1);
    plant.set("DF1/pressure", Variant(11.0));
    CHECK(plant.told("DF1/surging").empty());
    plant.pass(1);
    plant.set("DF1/pressure", Variant(14.0));
    CHECK(plant.told("DF1/surging") == std::vector<std::string>{"Active"});
    plant.pass(10);
    plant.set("DF1/pressure", Variant(15.0));
    CHECK(plant.told("DF1/surging") == std::vector<std::string>{"Inactive"});
  }
  SECTION("what isn't normal, with words of its own") {
    plant.set("DF1/running", Variant(false));
    CHECK(plant.text("DF1/stopped/Message") == "The screen stands still");
    CHECK(plant.field("DF1/stopped/Severity") == Variant(std::uint16_t{800}));
    plant.set("DF1/running", Variant(true));
    CHECK(plant.text("DF1/stopped/Message") == "DF1/running is normal: Turning");
  }
  SECTION("a value that is one") {
    plant.set("DF1/mode", Variant(std::int32_t{2}));
    CHECK(plant.told("DF1/off").empty());
    plant.set("DF1/mode", Variant(std::int32_t{0}));
    CHECK(plant.text("DF1/off/Message") == "DF1/mode is Off");
  }
}

TEST_CASE("an alarm with delays waits both ways", "[alarm]") {
  Plant plant;
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.told("DF1/slow").empty());
  CHECK(plant.alarms.nextDue() == plant.now + std::chrono::seconds(2));
  plant.pass(1);
  plant.set("DF1/pressure", Variant(20.0));  // only a bump
  plant.pass(5);
  CHECK(plant.told("DF1/slow").empty());
  plant.set("DF1/pressure", Variant(31.0));
  plant.pass(2);
  CHECK(plant.told("DF1/slow") == std::vector<std::string>{"Active"});
  plant.set("DF1/pressure", Variant(20.0));
  plant.pass(0.5);
  CHECK(plant.told("DF1/slow").empty());
  plant.pass(0.5);
  CHECK(plant.told("DF1/slow") == std::vector<std::string>{"Inactive"});
}

TEST_CASE("a value that moves between two limits is beyond the first all the time", "[alarm]") {
  alarm::Delay delay;
  const alarm::Exceeded high = alarm::bitOf(space::LimitLevel::High),
                        both = high | alarm::bitOf(space::LimitLevel::HighHigh);
  Instant now{};
  for (int second = 0; second < 60; second += 2, now += std::chrono::seconds(2)) {
    const auto counts = delay.settle(second % 4 ? both : high, now, 5'000, 5'000);
    INFO(second);
    CHECK(counts == (second >= 6 ? high : 0));  // the second limit is never exceeded for five seconds
  }
}

TEST_CASE("a deadband counts on the way down from a limit beyond, too", "[alarm]") {
  Plant plant;
  plant.set("DF1/pressure", Variant(40.0));
  plant.set("DF1/pressure", Variant(29.5));
  CHECK(plant.text("DF1/clogged/LimitState/CurrentState") == "High");
  plant.set("DF1/pressure", Variant(29.0));
  CHECK(plant.text("DF1/clogged/LimitState/CurrentState") == "");
}

TEST_CASE("what was acknowledged may have to be confirmed", "[alarm]") {
  Plant plant;
  plant.set("DF1/running", Variant(false));
  plant.set("DF1/running", Variant(true));
  const auto confirm = [&] {
    return plant.call("DF1/stopped/Confirm", {plant.field("DF1/stopped/EventId"), Variant(LocalizedText())});
  };
  CHECK(confirm() == status::BadConditionBranchAlreadyConfirmed);
  CHECK(plant.acknowledge("DF1/stopped").isGood());
  CHECK(plant.text("DF1/stopped/ConfirmedState") == "Unconfirmed");
  CHECK(plant.field("DF1/stopped/Retain") == Variant(true));
  CHECK(confirm().isGood());
  CHECK(plant.field("DF1/stopped/Retain") == Variant(false));
}

TEST_CASE("a disabled alarm is silent, and one that is enabled looks again", "[alarm][cu:A & C Enable]") {
  Plant plant;
  CHECK(plant.call("DF1/clogged/Enable") == status::BadConditionAlreadyEnabled);
  CHECK(plant.call("DF1/clogged/Disable").isGood());
  CHECK(plant.call("DF1/clogged/Disable") == status::BadConditionAlreadyDisabled);
  plant.events.clear();
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.told("DF1/clogged").empty());
  CHECK(plant.acknowledge("DF1/clogged") == status::BadConditionDisabled);
  CHECK(plant.call("DF1/clogged/Enable").isGood());
  CHECK(plant.text("DF1/clogged/ActiveState") == "Active");
  CHECK(plant.alarms.retained().size() >= 1);
}

TEST_CASE("a bad value changes nothing but the quality", "[alarm]") {
  Plant plant;
  plant.set("DF1/pressure", Variant(31.0));
  plant.events.clear();
  plant.set("DF1/pressure", Variant(), status::BadNoCommunication);
  CHECK(plant.told("DF1/clogged") == std::vector<std::string>{"Active"});
  CHECK(plant.field("DF1/clogged/Quality") == Variant(StatusCode(status::BadNoCommunication)));
  CHECK(plant.text("DF1/clogged/Message").find("DF1/pressure is not known (BadNoCommunication)") == 0);
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.field("DF1/clogged/Quality") == Variant(StatusCode(status::Good)));
}

TEST_CASE("alarms stand as they stood when the model changes, and go with their nodes", "[alarm]") {
  Plant plant;
  plant.set("DF1/pressure", Variant(31.0));
  CHECK(plant.acknowledge("DF1/clogged", "on my way").isGood());
  plant.set("DF2/pressure", Variant(26.0));
  plant.events.clear();
  const Variant eventId = plant.field("DF1/clogged/EventId");
  std::string changed = kModel;
  changed.replace(changed.find("    DF2: {is: Filter, alarms: {clogged: high 25}}\n"), 50, "    DF3: Filter\n");
  const auto wanted = test::spaceOf(changed);
  CHECK(model::apply(*plant.space, *wanted).removed > 50);
  plant.alarms.bind();
  CHECK(plant.field("DF1/clogged/EventId") == eventId);
  // Whoever has the other one on a list hears that it is of no interest any more.
  const auto last = std::ranges::find_if(plant.events, [](const auto& event) {
    const Variant condition = event.field({{0, "ConditionId"}});
    return condition == Variant(NodeId(2, String("Plant/DF2/clogged")));
  });
  REQUIRE(last != plant.events.end());
  CHECK(last->field({{0, "Retain"}}) == Variant(false));
  CHECK(plant.text("DF1/clogged/ActiveState") == "Active");
  CHECK(plant.text("DF1/clogged/AckedState") == "Acknowledged");
  CHECK(plant.text("DF1/clogged/Comment") == "on my way");
  CHECK(plant.alarms.count() == 14);
  plant.events.clear();
  plant.set("DF3/pressure", Variant(31.0));
  CHECK(plant.told("DF3/clogged").size() == 1);
  // How they stand is no part of the model.
  model::CompareOptions options;
  options.initialValues = false;
  std::string differences;
  for (const auto& change : model::compare(*plant.space, *wanted, options))
    differences += change.path + " " + change.what + "\n";
  CHECK(differences == "");
  plant.space->remove(plant.at("DF1/pressure"));
  CHECK(plant.alarms.count() == 10);
}

}  // namespace zunth::alarm_test
