// Conditions that are no alarms: dialogs, which ask, plain ones, which say; and metrics, which count. Part 9, 5.6, 5.7
// and 5.9.
#include "core/model/language_writer.hpp"

#include <random>

#include "tests/core/alarm_plant.hpp"
#include <fmt/format.h>

namespace zunth::dialog_test {

using namespace ua;

namespace {

const char* const kModel =
    "namespace: http://fernhollow.example/asking\n"
    "types:\n"
    "  Feeder:\n"
    "    empty: Boolean = false\n"
    "    weight: Double 0..100 = 10\n"
    "    note: String\n"
    "    alarms:\n"
    "      refilled:\n"
    "        is: dialog empty when true severity 300\n"
    "        message: Is the hopper full again?\n"
    "        options: [Filled, Not yet]\n"
    "      noted: condition note severity 200 confirm\n"
    "      heavy: limit weight high 50 realarm 10min\n"
    "      figures: metrics\n"
    "objects:\n"
    "  Plant:\n"
    "    F1: Feeder\n"
    "    F2: Feeder\n"
    "    alarms: {figures: metrics over 2min}\n";

struct Plant : test::AlarmPlant {
  Plant() : AlarmPlant(kModel) {}
  const alarm::ConditionState& state(const std::string& alarm) const { return alarms.find(at(alarm))->state(); }
  StatusCode respond(std::int32_t option, const char* comment = nullptr) {
    std::vector<Variant> inputs{Variant(option)};
    if (comment) inputs.push_back(Variant(LocalizedText(String(comment))));
    return call(comment ? "F1/refilled/Respond2" : "F1/refilled/Respond", std::move(inputs));
  }
  double number(const std::string& path) const {
    double out = -1;
    field(path).toDouble(out);
    return out;
  }
};

}  // namespace

TEST_CASE("a dialog asks when its reason comes, and takes one answer", "[alarm][cu:A & C Dialog]") {
  Plant plant;
  CHECK(plant.text("F1/refilled/DialogState") == "Inactive");
  CHECK(plant.text("F1/refilled/Prompt") == "Is the hopper full again?");
  CHECK(plant.field("F1/refilled/LastResponse") == Variant(std::int32_t{-1}));
  CHECK(plant.field("F1/refilled/OkResponse") == Variant(std::int32_t{0}));
  CHECK(plant.field("F1/refilled/CancelResponse") == Variant(std::int32_t{1}));
  CHECK(plant.field("F1/refilled/DefaultResponse") == Variant(std::int32_t{-1}));
  CHECK(plant.respond(0) == status::BadDialogNotActive);

  plant.set("F1/empty", Variant(true));
  CHECK(plant.isTrue("F1/refilled/DialogState/Id"));
  CHECK(plant.isTrue("F1/refilled/Retain"));
  CHECK(plant.field("F1/refilled/Severity") == Variant(std::uint16_t{300}));
  REQUIRE(plant.events.size() == 1);
  CHECK(plant.text("F1/refilled/Message") == "Is the hopper full again?");
  CHECK(plant.events[0].field({{0, "ResponseOptionSet"}}).length() == 2);
  CHECK(plant.events[0].field({{0, "EnabledState"}, {0, "EffectiveDisplayName"}}) ==
        Variant(LocalizedText("Active", "en")));
  CHECK_FALSE(plant.isTrue("F2/refilled/DialogState/Id"));
  CHECK(plant.alarms.retained() == std::vector{plant.at("F1/refilled")});

  struct {
    std::vector<Variant> inputs;
    StatusCode outcome;
  } const refused[] = {{{Variant(std::int32_t{2})}, status::BadDialogResponseInvalid},
                       {{Variant(std::int32_t{-1})}, status::BadDialogResponseInvalid},
                       {{Variant(std::int32_t{INT32_MIN})}, status::BadDialogResponseInvalid},
                       {{Variant(1.0)}, status::BadInvalidArgument},
                       {{}, status::BadInvalidArgument}};
  for (const auto& each : refused) CHECK(plant.call("F1/refilled/Respond", each.inputs) == each.outcome);
  CHECK(plant.respond(1, "the truck comes at nine").isGood());
  CHECK_FALSE(plant.isTrue("F1/refilled/DialogState/Id"));
  CHECK_FALSE(plant.isTrue("F1/refilled/Retain"));
  CHECK(plant.field("F1/refilled/LastResponse") == Variant(std::int32_t{1}));
  CHECK(plant.text("F1/refilled/Comment") == "the truck comes at nine");
  CHECK(plant.field("F1/refilled/ClientUserId") == Variant(String("mia")));
  CHECK(plant.text("F1/refilled/Message").find("Not yet") != std::string::npos);
  CHECK(plant.respond(0) == status::BadDialogNotActive);

  // It asks again when its reason comes again, and no longer when that goes.
  plant.set("F1/empty", Variant(true));
  CHECK_FALSE(plant.isTrue("F1/refilled/DialogState/Id"));
  plant.set("F1/empty", Variant(false));
  plant.set("F1/empty", Variant(true));
  CHECK(plant.isTrue("F1/refilled/DialogState/Id"));
  plant.set("F1/empty", Variant(), status::BadNoCommunication);
  CHECK(plant.isTrue("F1/refilled/DialogState/Id"));
  plant.set("F1/empty", Variant(false));
  CHECK_FALSE(plant.isTrue("F1/refilled/DialogState/Id"));
  CHECK(plant.text("F1/refilled/Message") == "nobody has to answer any more");
  CHECK(plant.field("F1/refilled/LastResponse") == Variant(std::int32_t{1}));
  REQUIRE(plant.call("F1/refilled/Disable").isGood());
  CHECK(plant.respond(0) == status::BadConditionDisabled);
}

TEST_CASE("a condition says what a program says, until that says nothing", "[alarm][cu:A & C Acknowledge]") {
  Plant plant;
  const auto say = [&](const char* text) { plant.set("F1/note", Variant(String(text))); };
  CHECK_FALSE(plant.isTrue("F1/noted/Retain"));
  say("The bin is changed on Friday");
  REQUIRE(plant.events.size() == 1);
  CHECK(plant.text("F1/noted/Message") == "The bin is changed on Friday");
  CHECK(plant.field("F1/noted/Severity") == Variant(std::uint16_t{200}));
  CHECK(plant.events[0].field({{0, "EventType"}}) == Variant(NodeId(id::AcknowledgeableConditionType)));
  CHECK(plant.events[0].field({{0, "SourceNode"}}) == Variant(plant.space->nodeId(plant.at("F1/note"))));
  CHECK(plant.alarms.retained() == std::vector{plant.at("F1/noted")});
  CHECK_FALSE(plant.isTrue("F2/noted/Retain"));
  // The same once more is nothing new.
  say("The bin is changed on Friday");
  CHECK(plant.events.size() == 1);
  REQUIRE(plant.acknowledge("F1/noted").isGood());
  CHECK(plant.isTrue("F1/noted/AckedState/Id"));
  CHECK_FALSE(plant.isTrue("F1/noted/ConfirmedState/Id"));
  // Another text is to be acknowledged for itself, and what was acknowledged is not it.
  const Variant before = plant.field("F1/noted/EventId");
  say("The bin is changed on Monday");
  CHECK_FALSE(plant.isTrue("F1/noted/AckedState/Id"));
  CHECK(plant.call("F1/noted/Acknowledge", {before, Variant(LocalizedText())}) == status::BadEventIdUnknown);
  // A bad value says nothing of it.
  plant.set("F1/note", Variant(), status::BadNoCommunication);
  CHECK(plant.isTrue("F1/noted/Retain"));
  say("The bin is changed on Monday");
  CHECK(plant.text("F1/noted/Message") == "The bin is changed on Monday");
  say("");
  CHECK(plant.isTrue("F1/noted/Retain"));
  REQUIRE(plant.acknowledge("F1/noted").isGood());
  REQUIRE(plant.call("F1/noted/Confirm", {plant.field("F1/noted/EventId"), Variant(LocalizedText())}).isGood());
  CHECK_FALSE(plant.isTrue("F1/noted/Retain"));
  // What somebody says without an end ends here, and not within a character.
  say(("x" + std::string(3'000, '\xC3') + "\xA4").c_str());
  CHECK(plant.text("F1/noted/Message").size() <= 1'000);
  plant.call("F1/noted/Disable");
  plant.events.clear();
  say("nobody hears this");
  CHECK(plant.events.empty());
}

TEST_CASE("a condition says what has a text, and is no alarm", "[alarm]") {
  const struct {
    const char* words;
    const char* finding;
  } rows[] = {{"condition weight", "'weight' is no text"},
              {"condition texts", "'texts' is no text"},
              {"condition note delay 5s", "'condition' is no alarm"},
              {"condition note shelvable", "'condition' is no alarm"},
              {"condition note high 5", "an alarm 'condition' has no limits"},
              {"condition note when x", "'when' means nothing here"}};
  for (const auto& row : rows) {
    INFO(row.words);
    const std::string text = fmt::format(
        "namespace: http://fernhollow.example/x\nobjects:\n  Plant:\n    weight: Double\n    note: String\n"
        "    texts: String[]\n    alarms: {{a: {}}}\n",
        row.words);
    const auto space = test::freshSpace();
    model::Findings findings;
    model::build(*space, {{"model/m.yaml", text}}, findings);
    std::string told;
    for (const auto& finding : findings.list()) told += finding.message + "\n";
    INFO(told);
    CHECK(told.find(row.finding) != std::string::npos);
  }
}

TEST_CASE("what is asked is kept, as it was before there were dialogs", "[alarm][state]") {
  Plant plant;
  plant.set("F1/empty", Variant(true));
  const auto octets = alarm::encodeState(plant.state("F1/refilled"), {});
  const auto back = alarm::decodeState(octets);
  REQUIRE(back);
  CHECK(back->trunk.asked.is);
  CHECK(back->trunk.asked.since == plant.state("F1/refilled").asked.since);
  // The version before: without its first 13 octets, of the dialog.
  Bytes older(octets.begin(), octets.end());
  older.erase(older.begin() + 1, older.begin() + 14);
  older[0] = std::byte{1};
  // Since then branches are read alike.
  const auto read = alarm::decodeState(older);
  REQUIRE(read);
  CHECK_FALSE(read->trunk.asked.is);
  CHECK(read->trunk.lastResponse == -1);
  CHECK(read->trunk.severity == plant.state("F1/refilled").severity);
  CHECK(read->trunk.eventIds == plant.state("F1/refilled").eventIds);
  older[0] = std::byte{3};
  CHECK_FALSE(alarm::decodeState(older));
}

TEST_CASE("metrics count what the alarms below their object do", "[alarm][cu:A & C Alarm Metrics]") {
  Plant plant;
  CHECK(plant.field("figures/CurrentAlarmRate/Rate") == Variant(std::uint16_t{2}));
  CHECK(plant.field("F1/figures/MaximumAlarmRate/Rate") == Variant(std::uint16_t{10}));
  const auto come = [&](const char* feeder, bool heavy) {
    plant.set(std::string(feeder) + "/weight", Variant(heavy ? 60.0 : 10.0));
  };
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{0}));
  CHECK(plant.field("figures/StartTime") == Variant(plant.wall));
  come("F1", true);
  plant.pass(30);
  come("F2", true);
  come("F1", false);
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{2}));
  CHECK(plant.field("F1/figures/AlarmCount") == Variant(std::uint32_t{1}));
  CHECK(plant.number("figures/CurrentAlarmRate") == 2);
  CHECK(plant.number("figures/MaximumActiveState") == 30'000);  // of F1, which is over
  CHECK(plant.number("figures/MaximumUnAck") == 30'000);        // of F1, too, which nobody has seen
  plant.pass(60);
  CHECK(plant.number("figures/MaximumActiveState") == 60'000);  // of F2, which goes on
  REQUIRE(plant.acknowledge("F1/heavy").isGood());
  plant.pass(10);
  CHECK(plant.number("F1/figures/MaximumUnAck") == 90'000);
  // What is older than two minutes is in no rate over two minutes.
  plant.pass(300);
  CHECK(plant.number("figures/CurrentAlarmRate") == 0);
  CHECK(plant.number("figures/MaximumAlarmRate") == 2);
  CHECK(plant.number("figures/AverageAlarmRate") == Approx(2 / (400.0 / 120)));
  // A reminder is as if it came anew.
  plant.pass(301);
  CHECK(plant.field("figures/MaximumReAlarmCount") == Variant(std::uint32_t{1}));
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{3}));
  // Dialogs are no alarms.
  plant.set("F1/empty", Variant(true));
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{3}));

  REQUIRE(plant.call("figures/Reset").isGood());
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{0}));
  CHECK(plant.field("figures/StartTime") == Variant(plant.wall));
  CHECK(plant.number("figures/MaximumAlarmRate") == 0);
  CHECK(plant.number("figures/MaximumActiveState") == 0);
  CHECK(plant.field("F2/figures/AlarmCount") == Variant(std::uint32_t{2}));
  plant.pass(5);
  CHECK(plant.number("figures/MaximumActiveState") == 5'000);
  // The model changes around them: they go on.
  plant.alarms.bind();
  CHECK(plant.field("F2/figures/AlarmCount") == Variant(std::uint32_t{2}));
  // A clock that is put back is no reason to stop counting.
  plant.wall.ticks -= 36'000'000'000;
  come("F1", true);
  CHECK(plant.field("figures/AlarmCount") == Variant(std::uint32_t{1}));
  CHECK(plant.number("figures/CurrentAlarmRate") == 1);
}

TEST_CASE("rates are what a list of all moments would say", "[alarm]") {
  Plant plant;
  std::mt19937 dice(3);
  std::vector<double> moments;
  double now = 0;
  bool heavy = false;
  for (int step = 0; step < 400; ++step) {
    const double pause = std::uniform_int_distribution<>(0, 20)(dice);
    plant.pass(pause);
    now += pause;
    heavy = !heavy;
    plant.set("F1/weight", Variant(heavy ? 60.0 : 10.0));
    if (heavy) moments.push_back(now);
    // Counted in parts of two seconds: what is at the edge may count or not.
    const auto within = [&](double seconds) {
      return std::ranges::count_if(moments, [&](double each) { return now - each < seconds; });
    };
    const double rate = plant.number("figures/CurrentAlarmRate");
    CHECK(rate >= static_cast<double>(within(117.9)));
    CHECK(rate <= static_cast<double>(within(120.1)));
  }
}

TEST_CASE("dialogs and metrics in words come back as they were written", "[alarm][language]") {
  const auto space = test::spaceOf(kModel);
  const std::string text = model::writeModel(*space, 2);
  INFO(text);
  CHECK(text.find("dialog empty when true severity 300") != std::string::npos);
  CHECK(text.find("condition note severity 200 confirm") != std::string::npos);
  CHECK(text.find("- Not yet") != std::string::npos);
  CHECK(text.find("message: Is the hopper full again?") != std::string::npos);
  CHECK(text.find("figures: metrics over 2min") != std::string::npos);
  const auto again = test::spaceOf(text);
  CHECK(model::writeModel(*again, 2) == text);
}

}  // namespace zunth::dialog_test
