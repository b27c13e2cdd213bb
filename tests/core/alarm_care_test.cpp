// What operators do with alarms, and what alarms do by themselves: Part 9, 5.5 to 5.8.
#include "core/model/language_writer.hpp"

#include <random>

#include "tests/core/alarm_plant.hpp"

namespace zunth::alarm_care_test {

using namespace ua;
using alarm::ConditionState;
using alarm::Shelved;

namespace {

const char* const kModel =
    "namespace: http://fernhollow.example/care\n"
    "types:\n"
    "  Pump:\n"
    "    heat: Double 0..100 = 10\n"
    "    wanted: Double 0..100 = 10\n"
    "    ok: Boolean = true\n"
    "    alarms:\n"
    "      hot: limit heat high 50 highhigh 80 confirm shelvable for 1h latched suppressible removable audible\n"
    "      slow: discrepancy heat from wanted tolerance 2 within 10s\n"
    "      tripped: trip ok normal true realarm 10min group Pumps class maintenance\n"
    "      again: limit heat high 60 branches 2\n"
    "      plain: limit heat high 70 shelvable suppressed while Plant/cleaning\n"
    "      quiet: limit heat high 20 suppressed by Pumps\n"
    "objects:\n"
    "  Plant:\n"
    "    cleaning: Boolean = false writable\n"
    "    P1: Pump\n"
    "    P2: Pump\n";

struct Plant : test::AlarmPlant {
  explicit Plant(const std::string& text = kModel) : AlarmPlant(text) {}
  const ConditionState& state(const std::string& alarm) const { return alarms.find(at(alarm))->state(); }
  StatusCode comment(const std::string& method, const char* words, std::optional<double> time = {}) {
    std::vector<Variant> inputs;
    if (time) inputs.push_back(Variant(*time));
    inputs.push_back(Variant(LocalizedText(String(words))));
    return call(method, std::move(inputs));
  }
  Variant told(const monitor::Event& event, const char* path) const {
    monitor::Event::Path names;
    std::string_view rest = path;
    while (!rest.empty()) {
      const auto slash = std::min(rest.find('/'), rest.size());
      names.push_back({0, String(rest.substr(0, slash))});
      rest.remove_prefix(std::min(slash + 1, rest.size()));
    }
    return event.field(names);
  }
};

}  // namespace

TEST_CASE("shelving goes by the table of the standard", "[alarm][cu:A & C Shelving]") {
  struct Row {
    const char *before, *method;
    std::optional<double> time;  // ms
    StatusCode outcome;
    const char *after, *transition;
  };
  const double hour = 3'600'000;
  // Part 9, 5.8.17: each state, each method.
  for (const Row& row : {
           Row{"Unshelved", "TimedShelve", 1000, status::Good, "TimedShelved", "UnshelvedToTimedShelved"},
           Row{"Unshelved", "TimedShelve", hour, status::Good, "TimedShelved", "UnshelvedToTimedShelved"},
           Row{"Unshelved", "TimedShelve", hour + 1, status::BadShelvingTimeOutOfRange, "Unshelved", ""},
           Row{"Unshelved", "TimedShelve", 0, status::BadShelvingTimeOutOfRange, "Unshelved", ""},
           Row{"Unshelved", "TimedShelve", -5, status::BadShelvingTimeOutOfRange, "Unshelved", ""},
           Row{"Unshelved", "TimedShelve", NAN, status::BadShelvingTimeOutOfRange, "Unshelved", ""},
           Row{"Unshelved", "TimedShelve", {}, status::BadInvalidArgument, "Unshelved", ""},
           Row{"Unshelved", "OneShotShelve", {}, status::Good, "OneShotShelved", "UnshelvedToOneShotShelved"},
           Row{"Unshelved", "Unshelve", {}, status::BadConditionNotShelved, "Unshelved", ""},
           Row{"TimedShelved", "TimedShelve", 1000, status::BadConditionAlreadyShelved, "TimedShelved",
               "UnshelvedToTimedShelved"},
           Row{"TimedShelved", "OneShotShelve", {}, status::Good, "OneShotShelved", "TimedShelvedToOneShotShelved"},
           Row{"TimedShelved", "Unshelve", {}, status::Good, "Unshelved", "TimedShelvedToUnshelved"},
           Row{"OneShotShelved", "TimedShelve", 1000, status::Good, "TimedShelved", "OneShotShelvedToTimedShelved"},
           Row{"OneShotShelved",
               "OneShotShelve",
               {},
               status::BadConditionAlreadyShelved,
               "OneShotShelved",
               "UnshelvedToOneShotShelved"},
           Row{"OneShotShelved", "Unshelve", {}, status::Good, "Unshelved", "OneShotShelvedToUnshelved"},
       }) {
    INFO(row.before << " " << row.method << " " << row.time.value_or(0));
    Plant plant;
    const std::string machine = "P1/hot/ShelvingState/";
    if (row.before == std::string("TimedShelved"))
      REQUIRE(plant.call(machine + "TimedShelve", {Variant(2000.0)}).isGood());
    if (row.before == std::string("OneShotShelved")) REQUIRE(plant.call(machine + "OneShotShelve").isGood());
    const auto shelve = [&] {
      return row.time ? plant.call(machine + row.method, {Variant(*row.time)}) : plant.call(machine + row.method);
    };
    CHECK(shelve() == row.outcome);
    CHECK(plant.text(machine + "CurrentState") == row.after);
    CHECK(plant.text(machine + "LastTransition") == row.transition);
    CHECK(plant.isTrue("P1/hot/SuppressedOrShelved") == (row.after != std::string("Unshelved")));
    REQUIRE(plant.call("P1/hot/Disable").isGood());
    CHECK(shelve() == (row.method == std::string("TimedShelve") && !row.time ? status::BadInvalidArgument
                                                                             : status::BadConditionDisabled));
  }
}

TEST_CASE("a shelf ends by itself, and with what is on it", "[alarm]") {
  Plant plant;
  REQUIRE(plant.comment("P1/hot/ShelvingState/TimedShelve2", "it is being repaired", 60'000.0).isGood());
  CHECK(plant.text("P1/hot/Comment") == "it is being repaired");
  CHECK(plant.field("P1/hot/ClientUserId") == Variant(String("mia")));
  plant.pass(20);
  const auto& state = plant.state("P1/hot");
  const auto told = plant.alarms.find(plant.at("P1/hot"))->event(state, plant.wall);
  CHECK(plant.told(told, "ShelvingState/UnshelveTime") == Variant(40'000.0));
  plant.events.clear();
  plant.pass(39);
  CHECK(plant.events.empty());
  plant.pass(1);
  CHECK(plant.text("P1/hot/ShelvingState/CurrentState") == "Unshelved");
  REQUIRE(plant.events.size() == 1);
  CHECK(plant.told(plant.events[0], "SuppressedOrShelved") == Variant(false));
  // Once: until it goes, with one event for both.
  REQUIRE(plant.call("P1/hot/ShelvingState/OneShotShelve").isGood());
  plant.set("P1/heat", Variant(55.0));
  CHECK(state.shelved == Shelved::OneShot);
  plant.events.clear();
  plant.set("P1/heat", Variant(5.0));
  CHECK(state.shelved == Shelved::No);
  CHECK(std::ranges::count_if(plant.events, [&](const auto& event) {
          return plant.told(event, "ConditionName") == Variant(String("hot"));
        }) == 1);
  // Where there is a longest time, that ends it, too; where there is none, nothing does.
  REQUIRE(plant.call("P1/hot/ShelvingState/OneShotShelve").isGood());
  REQUIRE(plant.call("P1/plain/ShelvingState/OneShotShelve").isGood());
  const auto& plain = plant.state("P1/plain");
  CHECK(plant.told(plant.alarms.find(plant.at("P1/plain"))->event(plain, plant.wall), "ShelvingState/UnshelveTime") ==
        Variant(std::numeric_limits<double>::max()));
  plant.pass(3601);
  CHECK(state.shelved == Shelved::No);
  CHECK(plain.shelved == Shelved::OneShot);
  REQUIRE(plant.call("P1/plain/ShelvingState/Unshelve").isGood());
  REQUIRE(plant.call("P1/plain/ShelvingState/TimedShelve", {Variant(1e300)}).isGood());
  plant.pass(1e6);
  CHECK(plain.shelved == Shelved::Timed);
}

TEST_CASE("alarms are suppressed by people, by the plant and by a group", "[alarm][cu:A & C Suppression]") {
  Plant plant;
  plant.events.clear();
  CHECK(plant.comment("P1/hot/Suppress2", "known").isGood());
  CHECK(plant.isTrue("P1/hot/SuppressedState/Id"));
  CHECK(plant.isTrue("P1/hot/SuppressedOrShelved"));
  CHECK(plant.text("P1/hot/Comment") == "known");
  CHECK(plant.events.size() == 1);
  CHECK(plant.call("P1/hot/Suppress").isGood());  // again: nothing new
  CHECK(plant.events.size() == 1);
  // It goes on all the same.
  plant.set("P1/heat", Variant(55.0));
  CHECK(plant.isTrue("P1/hot/ActiveState/Id"));
  CHECK(plant.call("P1/hot/Unsuppress").isGood());
  CHECK(!plant.isTrue("P1/hot/SuppressedOrShelved"));
  // While something is true.
  CHECK(!plant.isTrue("P1/plain/SuppressedOrShelved"));
  plant.set("cleaning", Variant(true));
  CHECK(plant.isTrue("P1/plain/SuppressedOrShelved"));
  CHECK(plant.isTrue("P2/plain/SuppressedState/Id"));
  plant.set("cleaning", Variant(), status::BadNoCommunication);  // nobody knows: as it was
  CHECK(plant.isTrue("P1/plain/SuppressedOrShelved"));
  plant.set("cleaning", Variant(false));
  CHECK(!plant.isTrue("P1/plain/SuppressedOrShelved"));
  // While any of a group is active, which knows its first.
  plant.set("P2/ok", Variant(false));
  CHECK(plant.isTrue("P1/quiet/SuppressedState/Id"));
  plant.set("P1/ok", Variant(false));
  CHECK(plant.isTrue("P2/tripped/FirstInGroupFlag"));
  CHECK(!plant.isTrue("P1/tripped/FirstInGroupFlag"));
  plant.set("P2/ok", Variant(true));
  CHECK(plant.isTrue("P1/quiet/SuppressedState/Id"));
  plant.set("P1/ok", Variant(true));
  CHECK(!plant.isTrue("P1/quiet/SuppressedState/Id"));
  const auto groups = plant.alarms.call(plant.at("P1/tripped/GetGroupMemberships"), {}, "mia");
  REQUIRE(groups);
  CHECK(groups->outputs[0] == Variant::array(std::vector{NodeId(2, String("Plant/Pumps"))}));
  // Who takes it out of service puts it in again.
  CHECK(plant.call("P1/hot/RemoveFromService").isGood());
  CHECK(plant.isTrue("P1/hot/OutOfServiceState/Id"));
  CHECK(plant.isTrue("P1/hot/SuppressedOrShelved"));
  CHECK(plant.comment("P1/hot/PlaceInService2", "done").isGood());
  CHECK(!plant.isTrue("P1/hot/SuppressedOrShelved"));
}

TEST_CASE("what latches stays until it is reset, and a horn until it is silenced", "[alarm][cu:A & C Alarm]") {
  Plant plant;
  CHECK(plant.call("P1/hot/Reset") == status::BadInvalidState);
  plant.set("P1/heat", Variant(55.0));
  CHECK(plant.isTrue("P1/hot/LatchedState/Id"));
  CHECK(plant.call("P1/hot/Silence").isGood());
  CHECK(plant.isTrue("P1/hot/SilenceState/Id"));
  CHECK(plant.call("P1/hot/Reset") == status::BadInvalidState);
  plant.set("P1/heat", Variant(5.0));
  CHECK(plant.call("P1/hot/Reset") == status::BadInvalidState);  // nobody has acknowledged it
  CHECK(plant.acknowledge("P1/hot").isGood());
  CHECK(plant.call("P1/hot/Reset") == status::BadInvalidState);  // nor confirmed
  CHECK(plant.call("P1/hot/Confirm", {plant.field("P1/hot/EventId"), Variant(LocalizedText())}).isGood());
  CHECK(plant.isTrue("P1/hot/Retain"));
  CHECK(plant.comment("P1/hot/Reset2", "cold again").isGood());
  CHECK(!plant.isTrue("P1/hot/Retain"));
  CHECK(plant.text("P1/hot/Comment") == "cold again");
  plant.set("P1/heat", Variant(55.0));
  CHECK(!plant.isTrue("P1/hot/SilenceState/Id"));
}

TEST_CASE("an alarm that nobody minds reminds", "[alarm]") {
  Plant plant;
  plant.set("P1/ok", Variant(false));
  CHECK(plant.acknowledge("P1/tripped").isGood());
  plant.events.clear();
  plant.pass(599);
  CHECK(plant.events.empty());
  plant.pass(1);
  CHECK(plant.events.size() == 1);
  CHECK(plant.field("P1/tripped/ReAlarmRepeatCount") == Variant(std::int16_t{1}));
  CHECK(!plant.isTrue("P1/tripped/AckedState/Id"));
  plant.pass(600);
  CHECK(plant.field("P1/tripped/ReAlarmRepeatCount") == Variant(std::int16_t{2}));
  plant.set("P1/ok", Variant(true));
  plant.events.clear();
  plant.pass(10'000);
  CHECK(plant.events.empty());
  CHECK(plant.field("P1/tripped/ConditionClassId") == Variant(NodeId(id::MaintenanceConditionClassType)));
}

TEST_CASE("a discrepancy gives the plant its time, anew with each target", "[alarm]") {
  Plant plant;
  plant.set("P1/wanted", Variant(30.0));
  plant.pass(9);
  plant.set("P1/wanted", Variant(40.0));
  plant.pass(9);
  CHECK(!plant.isTrue("P1/slow/ActiveState/Id"));
  plant.pass(1);
  CHECK(plant.isTrue("P1/slow/ActiveState/Id"));
  CHECK(plant.text("P1/slow/Message") == "P1/heat is 10 and should be 40 by now");
  plant.set("P1/heat", Variant(38.5));
  CHECK(!plant.isTrue("P1/slow/ActiveState/Id"));
}

TEST_CASE("what comes again before it was acknowledged is two things to acknowledge", "[alarm]") {
  Plant plant;
  const auto again = [&]() -> const alarm::Alarm& { return *plant.alarms.find(plant.at("P1/again")); };
  const auto acknowledge = [&](const ByteString& eventId) {
    return plant.call("P1/again/Acknowledge", {Variant(eventId), Variant(LocalizedText())});
  };
  const auto comeAndGo = [&] {
    plant.set("P1/heat", Variant(65.0));
    plant.set("P1/heat", Variant(10.0));
  };
  comeAndGo();
  const ByteString first = again().state().eventIds.back();
  CHECK(again().branches().empty());
  plant.events.clear();
  comeAndGo();
  REQUIRE(again().branches().size() == 1);
  CHECK(!again().branches()[0].branchId.isNull());
  const auto branch = std::ranges::find_if(plant.events, [&](const auto& event) {
    const Variant id = plant.told(event, "BranchId");
    return plant.told(event, "ConditionName") == Variant(String("again")) && !id.get<NodeId>()->isNull();
  });
  REQUIRE(branch != plant.events.end());
  CHECK(plant.told(*branch, "Retain") == Variant(true));
  CHECK(plant.told(*branch, "ActiveState/Id") == Variant(false));
  CHECK(plant.alarms.standing(plant.at("P1/again")).size() == 2);
  // The older one by its own id; the condition itself still waits.
  plant.events.clear();
  CHECK(acknowledge(first).isGood());
  CHECK(again().branches().empty());
  REQUIRE(plant.events.size() == 1);
  CHECK(plant.told(plant.events[0], "Retain") == Variant(false));
  CHECK(!plant.isTrue("P1/again/AckedState/Id"));
  CHECK(acknowledge(first) == status::BadEventIdUnknown);
  // No more than the model says; the oldest has a last word.
  for (int i = 0; i < 5; ++i) comeAndGo();
  CHECK(again().branches().size() == 2);
  CHECK(acknowledge(again().state().eventIds.back()).isGood());
  CHECK(plant.alarms.retained().front() != space::kNoNode);
}

TEST_CASE("how alarms stood is read back as it was, and nothing else is", "[alarm][state]") {
  Plant plant;
  plant.set("P1/heat", Variant(65.0));
  plant.set("P1/heat", Variant(10.0));
  plant.set("P1/heat", Variant(85.0));
  REQUIRE(plant.comment("P1/hot/ShelvingState/TimedShelve2", "repaired", 60'000.0).isGood());
  std::map<std::string, Bytes> kept;
  for (const auto& changed : plant.alarms.takeChanged()) kept[changed.alarm.text()] = changed.state;
  CHECK(kept.size() >= 3);
  CHECK(plant.alarms.takeChanged().empty());
  Plant later;
  later.lastId = 1000;
  later.wall.ticks += 20 * 10'000'000;
  later.space->setValue(later.at("P1/heat"), DataValue(Variant(), {}, status::BadWaitingForInitialData));
  later.alarms.restore([&](const NodeId& id) -> std::optional<alarm::KeptState> {
    const auto found = kept.find(id.text());
    if (found == kept.end()) return std::nullopt;
    auto state = alarm::decodeState(found->second);
    REQUIRE(state);
    return std::move(*state);
  });
  for (const char* path :
       {"hot/EventId", "hot/ActiveState/Id", "hot/LimitState/CurrentState", "hot/Comment", "hot/Time", "hot/Severity",
        "hot/ShelvingState/CurrentState", "hot/LatchedState/Id", "again/AckedState/Id", "again/EventId"})
    CHECK(later.field(std::string("P1/") + path) == plant.field(std::string("P1/") + path));
  CHECK(later.alarms.find(later.at("P1/again"))->branches().size() == 1);
  later.events.clear();
  later.pass(39);
  CHECK(later.text("P1/hot/ShelvingState/CurrentState") == "TimedShelved");
  later.pass(2);
  CHECK(later.text("P1/hot/ShelvingState/CurrentState") == "Unshelved");
  // Any other octets are none.
  const Bytes& sound = kept.begin()->second;
  for (std::size_t size = 0; size < sound.size(); ++size) CHECK(!alarm::decodeState({sound.data(), size}));
  std::minstd_rand random(5);
  for (int i = 0; i < 2000; ++i) {
    Bytes broken = sound;
    broken[random() % broken.size()] = static_cast<std::byte>(random());
    (void)alarm::decodeState(broken);
  }
}

namespace {

/// The state machines of Part 9, written once more from its tables alone.
struct ByTheTables {
  bool active = false, acked = true, confirmed = true, latched = false, silenced = false, suppressed = false;
  bool enabled = true, outOfService = false;
  int shelved = 0;  // 1 timed, 2 once

  void value(bool high) {
    if (!enabled || high == active) return;
    active = high;
    if (high)
      acked = silenced = false, confirmed = latched = true;
    else if (shelved == 2)
      shelved = 0;
  }
  StatusCode call(int what) {
    if (what == 0) return enable(true);
    if (what == 1) return enable(false);
    if (!enabled) return status::BadConditionDisabled;
    switch (what) {
      case 2:
        if (acked) return status::BadConditionBranchAlreadyAcked;
        acked = true, confirmed = false;
        return status::Good;
      case 3:
        if (confirmed) return status::BadConditionBranchAlreadyConfirmed;
        confirmed = true;
        return status::Good;
      case 4:
        if (shelved == 1) return status::BadConditionAlreadyShelved;
        shelved = 1;
        return status::Good;
      case 5:
        if (shelved == 2) return status::BadConditionAlreadyShelved;
        shelved = 2;
        return status::Good;
      case 6:
        if (!shelved) return status::BadConditionNotShelved;
        shelved = 0;
        return status::Good;
      case 7: suppressed = true; return status::Good;
      case 8: suppressed = false; return status::Good;
      case 9: outOfService = true; return status::Good;
      case 10: outOfService = false; return status::Good;
      case 11: silenced = true; return status::Good;
      default:
        if (!latched || active || !acked || !confirmed) return status::BadInvalidState;
        latched = false;
        return status::Good;
    }
  }
  StatusCode enable(bool on) {
    if (on == enabled) return on ? status::BadConditionAlreadyEnabled : status::BadConditionAlreadyDisabled;
    enabled = on;
    return status::Good;
  }
  bool retain() const {
    return enabled && (active || latched || !acked || !confirmed || shelved || suppressed || outOfService);
  }
};

}  // namespace

TEST_CASE("whatever is done to an alarm, it stands as the tables say", "[alarm]") {
  static const char* const methods[] = {"Enable",
                                        "Disable",
                                        "Acknowledge",
                                        "Confirm",
                                        "ShelvingState/TimedShelve",
                                        "ShelvingState/OneShotShelve",
                                        "ShelvingState/Unshelve",
                                        "Suppress",
                                        "Unsuppress",
                                        "RemoveFromService",
                                        "PlaceInService",
                                        "Silence",
                                        "Reset"};
  for (unsigned seed = 1; seed <= 30; ++seed) {
    std::minstd_rand random(seed);
    Plant plant;
    ByTheTables tables;
    bool high = false;
    for (int step = 0; step < 200; ++step) {
      const auto what = static_cast<int>(random() % (std::size(methods) + 6));
      INFO("seed " << seed << ", step " << step << ", " << what);
      if (what >= static_cast<int>(std::size(methods))) {
        high = !high;
        plant.set("P1/heat", Variant(high ? 55.0 : 10.0));
        tables.value(high);
      } else {
        std::vector<Variant> inputs;
        if (what == 2 || what == 3) inputs = {plant.field("P1/hot/EventId"), Variant(LocalizedText())};
        if (what == 4) inputs = {Variant(600'000.0)};
        CHECK(plant.call(std::string("P1/hot/") + methods[what], inputs) == tables.call(what));
        if (what == 0) tables.value(high);  // it looks again
      }
      const auto& state = plant.state("P1/hot");
      REQUIRE(state.active.is == tables.active);
      REQUIRE(state.acknowledged.is == tables.acked);
      REQUIRE(state.confirmed.is == tables.confirmed);
      REQUIRE(state.latched.is == tables.latched);
      REQUIRE(state.silenced.is == tables.silenced);
      REQUIRE(state.suppressed.is == tables.suppressed);
      REQUIRE(state.outOfService.is == tables.outOfService);
      REQUIRE(static_cast<int>(state.shelved) == tables.shelved);
      REQUIRE(plant.isTrue("P1/hot/Retain") == tables.retain());
      REQUIRE(plant.isTrue("P1/hot/SuppressedOrShelved") ==
              (tables.suppressed || tables.outOfService || tables.shelved));
    }
  }
}

TEST_CASE("a flood is looked at in slices, each value of it", "[alarm]") {
  Plant plant;
  plant.events.clear();
  // A slice that is over lets everything wait for the next turn.
  plant.alarms.setSlice(Slice([&] { return plant.now; }, Duration::zero()));
  plant.set("P1/heat", Variant(55.0));
  plant.set("P1/heat", Variant(10.0));
  CHECK(plant.events.empty());
  CHECK(plant.alarms.nextDue() == Instant::min());
  plant.alarms.setSlice({});
  plant.alarms.tick();
  CHECK(plant.state("P1/hot").latched.is);  // it had come, though it is gone
  CHECK(!plant.state("P1/hot").active.is);
}

TEST_CASE("the severest stand first, and of those what came first", "[alarm]") {
  Plant plant;
  plant.set("P2/ok", Variant(false));
  plant.pass(1);
  plant.set("P1/ok", Variant(false));
  plant.set("P1/heat", Variant(85.0));
  const auto retained = plant.alarms.retained();
  REQUIRE(retained.size() >= 4);
  const auto place = [&](const char* alarm) { return std::ranges::find(retained, plant.at(alarm)) - retained.begin(); };
  CHECK(place("P2/tripped") < place("P1/tripped"));
}

TEST_CASE("care in words comes back as it was written", "[alarm][language]") {
  const Plant plant;
  const auto written = model::writeModel(*plant.space, 2);
  for (const char* words :
       {"hot: limit heat high 50 highhigh 80 confirm shelvable for 1h latched suppressible removable audible",
        "slow: discrepancy heat from wanted tolerance 2 within 10s",
        "tripped: trip ok normal true realarm 10min group Pumps class maintenance",
        "again: limit heat high 60 branches 2", "plain: limit heat high 70 shelvable suppressed while Plant/cleaning",
        "quiet: limit heat high 20 suppressed by Pumps"}) {
    INFO(words);
    CHECK(written.find(words) != std::string::npos);
  }
}

}  // namespace zunth::alarm_care_test
