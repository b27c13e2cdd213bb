#include "core/model/difference.hpp"
#include "core/model/language_writer.hpp"
#include "core/model/nodeset.hpp"

#include <fstream>
#include <random>
#include <sstream>

#include "tests/core/model_space.hpp"

namespace zunth::roundtrip_test {

/// Models go from the language to NodeSet2 and back, and from NodeSet2 to the language and back, and lose nothing.

using namespace zunth::model;
using space::Space;
using zunth::test::freshSpace;

namespace {

std::string tellAll(const std::vector<Change>& changes) {
  std::string out;
  for (const auto& c : changes) out += c.path + " " + c.what + ": '" + c.before + "' -> '" + c.after + "'\n";
  return out;
}
std::string tellAll(const Findings& findings) {
  std::string out;
  for (const auto& f : findings.list())
    if (f.severity == Finding::Severity::Error) out += format(f, "") + "\n";
  return out;
}

std::vector<std::uint16_t> modelsOf(const Space& space) {
  std::vector<std::uint16_t> out;
  for (std::size_t i = 2; i < space.namespaces().size(); ++i) out.push_back(static_cast<std::uint16_t>(i));
  return out;
}

void checkSame(const Space& before, const Space& after) {
  // The language writes children by kind: their order is the text's.
  CHECK(tellAll(compare(before, after, {.order = false})) == "");
  CHECK(before.size() == after.size());
}

/// Through both forms and back.
void checkRoundTrips(const Space& first) {
  const std::string xml = writeNodeSet(first, modelsOf(first));
  auto second = freshSpace();
  Findings findings;
  readNodeSet(*second, {"m.xml", xml}, findings);
  REQUIRE(tellAll(findings) == "");
  checkSame(first, *second);
  CHECK(writeNodeSet(*second, modelsOf(*second)) == xml);

  std::vector<ModelFile> files;
  for (const auto ns : modelsOf(*second))
    files.push_back({"m" + std::to_string(ns) + ".yaml", writeModel(*second, ns)});
  for (const auto& file : files) {
    INFO(file.text);
    CHECK(file.text.find("left out") == std::string::npos);
  }
  auto third = freshSpace();
  build(*third, files, findings);
  INFO(files.back().text);
  REQUIRE(tellAll(findings) == "");
  checkSame(*second, *third);
}

/// Writes a random, sound model: types that extend and contain one another, instances that override them.
class Generator {
 public:
  explicit Generator(unsigned seed) : random_(seed) {}

  std::string model() {
    text_ = "namespace: http://fernhollow.example/generated\nversion: 2.1\npublished: 2026-05-04\ntypes:\n";
    text_ += "  Mode: enum Off | Auto = 4 | Wash\n  Flags: options Wet | Hot = 9\n";
    text_ += "  Feed: \"struct { grams UInt32, why? String, times Double[], mode Mode }\"\n";
    text_ += "  feeds: {extends: NonHierarchicalReferences, inverse: isFedBy}\n";
    text_ += "  Gauge: {extends: AnalogItemType, is: Float kPa 0..50}\n";
    for (int i = 0; i < 5; ++i) type(i);
    text_ += "objects:\n";
    for (int i = 0; i < 6; ++i) object(i);
    return text_;
  }

 private:
  int pick(int below) { return static_cast<int>(random_() % static_cast<unsigned>(below)); }
  bool chance(int percent) { return pick(100) < percent; }
  std::string variable() {
    static const char* const kinds[] = {"Double kPa 0..50 = 12.5 writable",
                                        "Float °C instrument -20..80 precision 2",
                                        "String property",
                                        "Mode = Auto writable",
                                        "Flags = Wet | Hot",
                                        "Boolean Closed | Open",
                                        "UInt16 Idle | Fill | Drain = 2",
                                        "Int64[] = [1, -2, 9007199254740993]",
                                        "DateTime = 2026-05-04T07:30:00Z",
                                        "Gauge = 5",
                                        "AnalogItemType of Double 0..5",
                                        "Guid",
                                        "String = \"a: b, c\"",
                                        "LocalizedText",
                                        "Double L/min every 250ms history"};
    return kinds[pick(static_cast<int>(std::size(kinds)))];
  }
  void line(int depth, const std::string& text) {
    text_ += std::string(static_cast<std::size_t>(depth) * 2, ' ') + text + "\n";
  }

  void type(int number) {
    line(1, "T" + std::to_string(number) + ":");
    if (number && chance(40)) line(2, "extends: T" + std::to_string(pick(number)));
    if (chance(30)) line(2, "about: {en: Made up, de: Erfunden}");
    for (int i = 0; i < 4; ++i) {
      const std::string name = "t" + std::to_string(number) + "v" + std::to_string(i);
      line(2, name + (chance(25) ? "?" : "") + ": '" + variable() + "'");
    }
    if (number && chance(60)) line(2, "t" + std::to_string(number) + "part: T" + std::to_string(pick(number)));
    line(2, "plan" + std::to_string(number) + ":");
    line(3, "is: Feed");
    line(3, "starts: {grams: 5, times: [1.5], mode: Wash" + std::string(chance(50) ? ", why: Because" : "") + "}");
    if (chance(50)) line(2, "<Part" + std::to_string(number) + ">?: FolderType");
    const std::string level = "level" + std::to_string(number);
    line(2, level + ": Double m 0..10");
    line(2, "still" + std::to_string(number) + ": Boolean No | Yes");
    line(2, "alarms:");
    line(3, "full" + std::to_string(number) + (chance(25) ? "?" : "") + ": " + alarm(level));
    if (chance(50))
      line(3, "stuck" + std::to_string(number) + ": off-normal still" + std::to_string(number) + " normal No");
    line(2, "run" + std::to_string(number) + "(seconds UInt16, how Mode[]) -> done Boolean: {seconds: How long}");
  }

  std::string alarm(const std::string& variable) {
    std::string out =
        chance(30) ? "deviation " + variable + " from " + variable : (chance(50) ? "limit " : "rate ") + variable;
    out += " high " + std::to_string(2 + pick(4));
    if (chance(50)) out += " highhigh 8";
    if (chance(30)) out += " low 1";
    if (chance(30)) out += " deadband 0.5";
    if (chance(50)) out += chance(50) ? " severity 300 700" : " severity 300";
    if (chance(30)) out += chance(50) ? " delay 5s" : " delay 2s 1s";
    if (chance(30)) out += " nonexclusive";
    if (chance(30)) out += " confirm";
    return out;
  }

  void object(int number) {
    const std::string name = "O" + std::to_string(number);
    line(1, name + ":");
    const int type = pick(5);
    line(2, "is: T" + std::to_string(type));
    if (chance(30)) line(2, "called: Shown otherwise");
    if (chance(30)) line(2, "was: Old" + std::to_string(number));
    if (chance(30)) line(2, "access: {Operator: read write, Observer: read, needs: encryption}");
    if (chance(30)) line(2, "plan" + std::to_string(type) + ": {starts: {grams: 7}}");
    if (chance(50)) line(2, "t" + std::to_string(type) + "v0:");
    line(2, "\"own {1..2}\": '" + variable() + "'");
    line(2, "depth: Double m 0..10");
    line(2, "alarms:");
    if (chance(50)) line(3, "full" + std::to_string(type) + ": high 9.5 severity 900");
    line(3, "deep: {is: " + alarm("depth") + ", message: Too deep}");
    if (chance(40)) line(2, "fixed: {is: Double, node-id: " + std::to_string(5000 + number) + "}");
    if (number && chance(50)) line(2, "refers: {feeds: O" + std::to_string(pick(number)) + ", isFedBy: [./own 1]}");
    if (chance(50)) {
      line(2, "Folder:");
      line(3, "is: FolderType");
      line(3, "inner: '" + variable() + "'");
    }
  }

  std::mt19937 random_;
  std::string text_;
};

std::string readFile(const std::string& name) {
  std::ifstream file(std::string(ZUNTH_SOURCE_DIR) + "/tests/nodesets/" + name);
  std::ostringstream text;
  text << file.rdbuf();
  REQUIRE(file);
  return text.str();
}

}  // namespace

TEST_CASE("alarms go through both forms, in types and in instances", "[model][roundtrip]") {
  const auto space = zunth::test::spaceOf(R"(namespace: http://fernhollow.example/alarms
types:
  Filter:
    pressure: Float kPa 0..50
    speed: Float Hz 0..50
    goal: Float Hz 0..50 writable
    mode: FilterMode = Auto
    running: Boolean Still | Turning
    alarms:
      clogged: limit pressure high 30 highhigh 38 deadband 1 severity 400 700 delay 2s 1s
      drifting: deviation speed from goal high 5 low -5 nonexclusive
      surging: rate pressure high 2 severity 300
      stopped: {is: off-normal running normal Turning confirm, message: The screen stands still, about: No flow}
      off?: discrete mode when Off severity 200
  FilterMode: enum Off | Auto | Wash
objects:
  Plant:
    Intake:
      DF1: Filter
      DF2: {is: Filter, alarms: {clogged: high 25 severity 450, off: severity 300}}
    "a tank":
      is: FolderType notifier
      level: Double m 0..3
      alarms: {empty: limit level low 0.5}
    "a horn": BaseObjectType notifier
)");
  checkRoundTrips(*space);
  const std::string text = writeModel(*space, 2);
  INFO(text);
  // As they were written, and nothing that follows from them.
  for (const char* said :
       {"clogged: limit pressure high 30 highhigh 38 deadband 1 severity 400 700 delay 2s 1s",
        "drifting: deviation speed from goal high 5 low -5 nonexclusive", "clogged: high 25 severity 450",
        "off?: discrete mode when Off severity 200", "empty: limit level low 0.5", "message: The screen stands still",
        "a horn: BaseObjectType notifier"})
    CHECK(text.find(said) != std::string::npos);
  for (const char* implied : {"HasCondition", "HasNotifier", "HasEventSource", "InputNode"})
    CHECK(text.find(implied) == std::string::npos);
}

TEST_CASE("generated models lose nothing on the way through NodeSet2 and the language", "[model]") {
  for (unsigned seed = 1; seed <= 20; ++seed) {
    const std::string text = Generator(seed).model();
    INFO("seed " << seed << "\n" << text);
    auto space = freshSpace();
    Findings findings;
    build(*space, {{"g.yaml", text}}, findings);
    REQUIRE(tellAll(findings) == "");
    checkRoundTrips(*space);
  }
}

TEST_CASE("node sets in the style of companion specifications lose nothing", "[model]") {
  auto space = freshSpace();
  Findings findings;
  readNodeSet(*space, {"devices.xml", readFile("devices.xml")}, findings);
  readNodeSet(*space, {"machines.xml", readFile("machines.xml")}, findings);
  REQUIRE(tellAll(findings) == "");
  int types = 0;
  for (space::NodeIndex node = 0; node < space->rows(); ++node)
    types += space->nodeId(node).namespaceIndex() == 3 && space->nodeClass(node) == ua::NodeClass::ObjectType;
  CHECK(types >= 40);
  checkRoundTrips(*space);
}

TEST_CASE("a model is written as one would write it", "[model]") {
  const char* const text = R"(namespace: http://fernhollow.example/plant
version: 1.2

types:
  Pump:
    about: Moves water
    flow: Double L/min 0..600
    speed: Float Hz 0..50 = 20 writable
    serial?: String property

objects:
  Plant:
    P1: Pump
    P2:
      is: Pump
      about: The second
      speed: = 35
    P3:
      is: Pump
      speed: 0..40
)";
  const auto space = zunth::test::spaceOf(text);
  CHECK(writeModel(*space, 2) == text);
}

}  // namespace zunth::roundtrip_test
