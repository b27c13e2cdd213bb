#include "tests/core/model_space.hpp"

namespace zunth::mistakes_test {

/// Mistakes that people make in models, each with the words that they get: place, line, what is underlined, what helps.

using namespace zunth::model;

namespace {

struct Mistake {
  const char* what;
  const char* text;
  const char* told;
};

// clang-format off
const Mistake kMistakes[] = {
    {"an alarm of no kind",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limt flow low 5\n",
     "model/plant.yaml:6:12: error: there is no kind of alarm 'limt'\n"
     "    6 |       dry: limt flow low 5\n"
     "      |            ^^^^\n"
     "        did you mean 'limit'?\n"},
    {"an alarm of a variable that isn't there",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limit folw low 5\n",
     "model/plant.yaml:6:18: error: there is no variable 'folw' to watch\n"
     "    6 |       dry: limit folw low 5\n"
     "      |                  ^^^^\n"
     "        did you mean 'flow'?\n"},
    {"a dialog that asks nothing",
     "objects:\n"
     "  P1:\n"
     "    empty: Boolean\n"
     "    alarms:\n"
     "      refill: dialog empty when true\n",
     "model/plant.yaml:6:7: error: the dialog doesn't say what it asks\n"
     "    6 |       refill: dialog empty when true\n"
     "      |       ^^^^^^\n"
     "        as in: {is: dialog empty when true, message: \"Is the hopper full again?\"}\n"},
    {"an alarm with answers",
     "objects:\n"
     "  P1:\n"
     "    empty: Boolean\n"
     "    alarms:\n"
     "      low: {is: discrete empty when true, options: [Yes]}\n",
     "model/plant.yaml:6:43: error: only dialogs have options\n"
     "    6 |       low: {is: discrete empty when true, options: [Yes]}\n"
     "      |                                           ^^^^^^^\n"
     "        as in: {is: dialog empty when true, message: \"Is it full again?\", options: [Yes, No]}\n"},
    {"metrics that are put aside",
     "objects:\n"
     "  P1:\n"
     "    alarms:\n"
     "      figures: metrics shelvable\n",
     "model/plant.yaml:5:16: error: 'metrics' is no alarm: it can't be delayed, confirmed or put aside\n"
     "    5 |       figures: metrics shelvable\n"
     "      |                ^^^^^^^\n"
     "        as in: metrics over 10min\n"},
    {"metrics over no time",
     "objects:\n"
     "  P1:\n"
     "    alarms:\n"
     "      figures: metrics over 30s\n",
     "model/plant.yaml:5:29: error: 'over' is followed by minutes\n"
     "    5 |       figures: metrics over 30s\n"
     "      |                             ^^^\n"
     "        as in: over 10min\n"},
    {"an alarm without a limit",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limit flow severity 500\n",
     "model/plant.yaml:6:12: error: the alarm has no limit\n"
     "    6 |       dry: limit flow severity 500\n"
     "      |            ^^^^^\n"
     "        as in: limit pressure high 30 highhigh 38\n"},
    {"limits the wrong way round",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      fast: limit flow high 80 highhigh 70\n",
     "model/plant.yaml:6:13: error: the limit 'high' is not below the one before it\n"
     "    6 |       fast: limit flow high 80 highhigh 70\n"
     "      |             ^^^^^\n"
     "        they go down from highhigh by high and low to lowlow\n"},
    {"a severity that is none",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limit flow low 5 severity 2000\n",
     "model/plant.yaml:6:38: error: '2000' is no severity\n"
     "    6 |       dry: limit flow low 5 severity 2000\n"
     "      |                                      ^^^^\n"
     "        severities go from 1 to 1000\n"},
    {"a word that no alarm has",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limit flow lo 5\n",
     "model/plant.yaml:6:23: error: 'lo' means nothing here\n"
     "    6 |       dry: limit flow lo 5\n"
     "      |                       ^^\n"
     "        did you mean 'low'?\n"},
    {"limits of what is no number",
     "objects:\n"
     "  P1:\n"
     "    on: Boolean\n"
     "    alarms:\n"
     "      dry: limit on low 5\n",
     "model/plant.yaml:6:18: error: 'on' is no number: it has no limits\n"
     "    6 |       dry: limit on low 5\n"
     "      |                  ^^\n"
     "        for states there are discrete and off-normal\n"},
    {"an alarm at a value that the variable can't have",
     "objects:\n"
     "  P1:\n"
     "    on: Boolean\n"
     "    alarms:\n"
     "      dry: discrete on when Clogged\n",
     "model/plant.yaml:6:29: error: 'Clogged' can't be a value of on: 'Clogged' is no Boolean\n"
     "    6 |       dry: discrete on when Clogged\n"
     "      |                             ^^^^^^^\n"
     "        write true or false\n"},
    {"an alarm that watches another one",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: limit flow low 5\n"
     "      loud: discrete dry/Retain when true\n",
     "model/plant.yaml:7:22: error: an alarm can't watch how another stands\n"
     "    7 |       loud: discrete dry/Retain when true\n"
     "      |                      ^^^^^^^^^^\n"
     "        let both watch the same variable\n"},
    {"an alarm to change that the type doesn't have",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      dry: low 5\n",
     "model/plant.yaml:6:7: error: the type has no alarm 'dry' to change\n"
     "    6 |       dry: low 5\n"
     "      |       ^^^\n"
     "        a new one says what it watches: limit pressure high 30\n"},
    {"a limit of a variable with a unit and no range",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min\n"
     "    alarms:\n"
     "      dry: limit flow low 5\n",
     "model/plant.yaml:6:18: warning: 'flow' has a unit and no range: nobody can tell whether the alarm can come\n"
     "    6 |       dry: limit flow low 5\n"
     "      |                  ^^^^\n"
     "        give the variable a range, as in: Float kPa 0..50\n"},
    {"a limit that is never reached",
     "objects:\n"
     "  P1:\n"
     "    flow: Double L/min 0..90\n"
     "    alarms:\n"
     "      fast: limit flow high 95\n",
     "model/plant.yaml:6:7: warning: 'flow' is never above 95: its range is 0 to 90\n"
     "    6 |       fast: limit flow high 95\n"
     "      |       ^^^^\n"},
    {"a type that is misspelt",
     "types:\n"
     "  Pump:\n"
     "    flow: Duoble L/min\n"
     "objects:\n"
     "  P1: Pump\n",
     "model/plant.yaml:4:11: error: there is no type 'Duoble'\n"
     "    4 |     flow: Duoble L/min\n"
     "      |           ^^^^^^\n"
     "        did you mean 'Double'?\n"},
    {"an instance of a type that is misspelt",
     "types:\n"
     "  Pump:\n"
     "    flow: Double\n"
     "objects:\n"
     "  P1: Pmup\n",
     "model/plant.yaml:6:7: error: there is no type 'Pmup'\n"
     "    6 |   P1: Pmup\n"
     "      |       ^^^^\n"
     "        did you mean 'Pump'?\n"},
    {"a unit that is misspelt",
     "objects:\n"
     "  P1:\n"
     "    pressure: Double kPs 0..50\n",
     "model/plant.yaml:4:22: error: there is no unit 'kPs'\n"
     "    4 |     pressure: Double kPs 0..50\n"
     "      |                      ^^^\n"
     "        did you mean 'kPa'?\n"},
    {"a range the wrong way round",
     "objects:\n"
     "  P1:\n"
     "    pressure: Double kPa 50..0\n",
     "model/plant.yaml:4:26: error: the range 50..0 is empty\n"
     "    4 |     pressure: Double kPa 50..0\n"
     "      |                          ^^^^^\n"
     "        write the smaller number first\n"},
    {"a range written with a dash",
     "objects:\n"
     "  P1:\n"
     "    pressure: Double kPa 0-50\n",
     "model/plant.yaml:4:26: error: '0-50' is no range\n"
     "    4 |     pressure: Double kPa 0-50\n"
     "      |                          ^^^^\n"
     "        write 0..50\n"},
    {"a word that is misspelt",
     "objects:\n"
     "  P1:\n"
     "    speed: Double Hz 0..50 writeable\n",
     "model/plant.yaml:4:28: error: 'writeable' means nothing here\n"
     "    4 |     speed: Double Hz 0..50 writeable\n"
     "      |                            ^^^^^^^^^\n"
     "        did you mean 'writable'?\n"},
    {"a unit for what is no number",
     "objects:\n"
     "  P1:\n"
     "    running: Boolean Hz\n",
     "model/plant.yaml:4:22: error: 'Hz' is no word for a Boolean\n"
     "    4 |     running: Boolean Hz\n"
     "      |                      ^^\n"
     "        units and ranges go with numbers\n"},
    {"an initial value of another type",
     "objects:\n"
     "  P1:\n"
     "    count: UInt16 = many\n",
     "model/plant.yaml:4:21: error: 'many' can't be the value of P1/count: 'many' is no UInt16\n"
     "    4 |     count: UInt16 = many\n"
     "      |                     ^^^^\n"},
    {"an initial value that is too large",
     "objects:\n"
     "  P1:\n"
     "    count: Byte = 300\n",
     "model/plant.yaml:4:19: error: '300' can't be the value of P1/count: 300 does not fit Byte (0 to 255)\n"
     "    4 |     count: Byte = 300\n"
     "      |                   ^^^\n"},
    {"an initial value outside of its range",
     "objects:\n"
     "  P1:\n"
     "    speed: Double Hz 0..50 = 60\n",
     "model/plant.yaml:4:30: warning: P1/speed starts outside its range 0 to 50\n"
     "    4 |     speed: Double Hz 0..50 = 60\n"
     "      |                              ^^\n"},
    {"an enumeration's value that isn't there",
     "types:\n"
     "  Mode: enum Off | Auto\n"
     "objects:\n"
     "  P1:\n"
     "    mode: Mode = Atuo\n",
     "model/plant.yaml:6:18: error: 'Atuo' can't be the value of P1/mode: Mode has no such value\n"
     "    6 |     mode: Mode = Atuo\n"
     "      |                  ^^^^\n"
     "        did you mean 'Auto'?\n"},
    {"the same name twice",
     "objects:\n"
     "  P1:\n"
     "    speed: Double\n"
     "    speed: Float\n",
     "model/plant.yaml:5:5: error: 'speed' stands here twice\n"
     "    5 |     speed: Float\n"
     "      |     ^^^^^\n"
     "        the first is in line 4\n"},
    {"the same name from a pattern and alone",
     "objects:\n"
     "  Hall:\n"
     "    'Tank {1..3}': FolderType\n"
     "    Tank 2: FolderType\n",
     "model/plant.yaml:5:5: error: 'Tank 2' is there already\n"
     "    5 |     Tank 2: FolderType\n"
     "      |     ^^^^^^\n"
     "        the first is at model/plant.yaml:4\n"},
    {"a value for what has no type",
     "objects:\n"
     "  P1:\n"
     "    speed: = 5\n",
     "model/plant.yaml:4:12: error: 'speed' has no type\n"
     "    4 |     speed: = 5\n"
     "      |            ^^^\n"
     "        as in: speed: Double = 5\n"},
    {"a type that contains itself",
     "types:\n"
     "  Pump:\n"
     "    spare: Pump\n",
     "model/plant.yaml:3:3: error: the type 'Pump' is made of itself\n"
     "    3 |   Pump:\n"
     "      |   ^^^^\n"
     "        a type can't extend or contain itself, even through others\n"},
    {"types that extend one another",
     "types:\n"
     "  A: {extends: B}\n"
     "  B: {extends: A}\n",
     "model/plant.yaml:3:3: error: the type 'A' is made of itself\n"
     "    3 |   A: {extends: B}\n"
     "      |   ^\n"
     "        a type can't extend or contain itself, even through others\n"},
    {"a supertype that isn't there",
     "types:\n"
     "  BigPump:\n"
     "    extends: Pump\n",
     "model/plant.yaml:4:14: error: there is no type 'Pump'\n"
     "    4 |     extends: Pump\n"
     "      |              ^^^^\n"
     "        declare it under 'types:', or take one of the standard\n"},
    {"an argument without a type",
     "objects:\n"
     "  P1:\n"
     "    start(seconds): Go\n",
     "model/plant.yaml:4:11: error: an argument is a name and a data type\n"
     "    4 |     start(seconds): Go\n"
     "      |           ^^^^^^^\n"
     "        as in: wash(seconds UInt16)\n"},
    {"a method's bracket that isn't closed",
     "objects:\n"
     "  P1:\n"
     "    \"start(seconds UInt16\": Go\n",
     "model/plant.yaml:4:6: error: the bracket of this method is not closed\n"
     "    4 |     \"start(seconds UInt16\": Go\n"
     "      |      ^^^^^^^^^^^^^^^^^^^^\n"
     "        as in: wash(seconds UInt16) -> started Boolean\n"},
    {"an optional child of an object",
     "objects:\n"
     "  P1:\n"
     "    serial?: String\n",
     "model/plant.yaml:4:5: error: '?' marks an optional child of a type\n"
     "    4 |     serial?: String\n"
     "      |     ^^^^^^^\n"
     "        leave it out here\n"},
    {"a key at the top that is misspelt",
     "objekts:\n"
     "  P1: FolderType\n",
     "model/plant.yaml:2:1: error: 'objekts' means nothing here\n"
     "    2 | objekts:\n"
     "      | ^^^^^^^\n"
     "        did you mean 'objects'?\n"},
    {"a role that is misspelt",
     "objects:\n"
     "  P1:\n"
     "    access: {Operater: read write}\n",
     "model/plant.yaml:4:14: error: there is no role 'Operater'\n"
     "    4 |     access: {Operater: read write}\n"
     "      |              ^^^^^^^^\n"
     "        did you mean 'Operator'?\n"},
    {"something that no role may do",
     "objects:\n"
     "  P1:\n"
     "    access: {Operator: raed}\n",
     "model/plant.yaml:4:24: error: 'raed' is nothing that a role may do\n"
     "    4 |     access: {Operator: raed}\n"
     "      |                        ^^^^\n"
     "        write nothing, see, read, write, call, change or grant\n"},
    {"a structure's field that is misspelt",
     "types:\n"
     "  Feed: \"struct { grams UInt32 }\"\n"
     "objects:\n"
     "  P1:\n"
     "    plan: {is: Feed, starts: {gramms: 5}}\n",
     "model/plant.yaml:6:31: error: Feed has no field 'gramms'\n"
     "    6 |     plan: {is: Feed, starts: {gramms: 5}}\n"
     "      |                               ^^^^^^\n"
     "        did you mean 'grams'?\n"},
    {"a target of a reference that isn't there",
     "types:\n"
     "  feeds: {extends: NonHierarchicalReferences}\n"
     "objects:\n"
     "  P1: {refers: {feeds: Hall/Tnak}}\n"
     "  Hall:\n"
     "    Tank: FolderType\n",
     "model/plant.yaml:5:29: error: Hall has no 'Tnak'\n"
     "    5 |   P1: {refers: {feeds: Hall/Tnak}}\n"
     "      |                             ^^^^\n"
     "        did you mean 'Tank'?\n"},
    {"a state that isn't there",
     "types:\n"
     "  Cycle:\n"
     "    extends: FiniteStateMachineType\n"
     "    states: Idle | Running\n"
     "    transitions: {Idle -> Runing: start()}\n"
     "    start(): Go\n",
     "model/plant.yaml:6:27: error: there is no state 'Runing'\n"
     "    6 |     transitions: {Idle -> Runing: start()}\n"
     "      |                           ^^^^^^\n"
     "        did you mean 'Running'?\n"},
    {"states without a state machine",
     "types:\n"
     "  Cycle:\n"
     "    states: Idle | Running\n",
     "model/plant.yaml:3:3: error: 'Cycle' is no state machine\n"
     "    3 |   Cycle:\n"
     "      |   ^^^^^\n"
     "        say: extends: FiniteStateMachineType\n"},
    {"a language that is none",
     "objects:\n"
     "  P1:\n"
     "    called: {german: Pumpe}\n",
     "model/plant.yaml:4:14: error: 'german' is no language\n"
     "    4 |     called: {german: Pumpe}\n"
     "      |              ^^^^^^\n"
     "        write a short code, as en, de or pt-BR\n"},
    {"a model that is imported and missing",
     "imports: [http://fernhollow.example/devices]\n"
     "objects:\n"
     "  P1: FolderType\n",
     "model/plant.yaml:2:11: error: the model http://fernhollow.example/devices is imported, and it isn't there\n"
     "    2 | imports: [http://fernhollow.example/devices]\n"
     "      |           ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^\n"
     "        put its NodeSet2 file or its *.yaml into model/\n"},
    {"an instance that extends",
     "types:\n"
     "  Pump: {flow: Double}\n"
     "objects:\n"
     "  P1: {extends: Pump}\n",
     "model/plant.yaml:5:8: error: an instance extends nothing\n"
     "    5 |   P1: {extends: Pump}\n"
     "      |        ^^^^^^^\n"
     "        write 'is:' before its type\n"},
    {"an instance of an abstract type",
     "types:\n"
     "  Machine: {abstract: yes, hours: UInt32}\n"
     "objects:\n"
     "  M1: Machine\n",
     "model/plant.yaml:5:7: error: 'Machine' is abstract: nothing is just that\n"
     "    5 |   M1: Machine\n"
     "      |       ^^^^^^^\n"
     "        name a type that extends it\n"},
    {"fields without saying that it is a structure",
     "types:\n"
     "  Feed:\n"
     "    extends: Structure\n"
     "    grams: UInt32\n"
     "objects:\n"
     "  P1: {plan: Feed}\n",
     "model/plant.yaml:5:5: error: a type that extends Structure has no parts\n"
     "    5 |     grams: UInt32\n"
     "      |     ^^^^^\n"
     "        one with fields says: is: struct, and one with values: is: enum\n"},
    {"an alias",
     "objects:\n"
     "  P1: &p\n"
     "    flow: Double\n"
     "  P2: *p\n",
     "model/plant.yaml:5:7: error: aliases (*name) are not used in site files\n"
     "    5 |   P2: *p\n"
     "      |       ^\n"
     "        write a type once, and an instance of it wherever it is needed\n"},
    {"no YAML at all",
     "objects:\n"
     "  P1: [\n",
     "model/plant.yaml:4:1: error: this is not sound YAML: end of sequence flow not found\n"},
};
// clang-format on

std::string tell(const std::string& text) {
  const std::string file = "namespace: http://fernhollow.example/plant\n" + text;
  auto space = zunth::test::freshSpace();
  Findings findings;
  build(*space, {{"model/plant.yaml", file}}, findings);
  std::string out;
  for (const auto& finding : findings.list())
    if (!finding.message.starts_with("nothing uses")) out += format(finding, file) + "\n";
  return out;
}

}  // namespace

TEST_CASE("a mistake is told with its place and what helps", "[model]") {
  for (const auto& mistake : kMistakes) {
    INFO(mistake.what);
    CHECK(tell(mistake.text) == mistake.told);
  }
}

}  // namespace zunth::mistakes_test
