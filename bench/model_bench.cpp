// Models of ten thousand to a million nodes: read from NodeSet2 and from the language, compared, and what they take of
// memory. The floor is reading the same octets once (memcpy), and for XML the parser alone.
#include "core/model/build.hpp"
#include "core/model/difference.hpp"
#include "core/model/nodeset.hpp"
#include "core/space/namespace0.hpp"

#include <cstring>
#include <fstream>
#include <map>
#include <unordered_set>

#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <malloc.h>
#include <pugixml.hpp>
#include <unistd.h>

using namespace zunth;

namespace {

/// A plant of about that many nodes: halls of tanks, each tank an instance of one of eight types with its own values.
std::string modelText(std::size_t nodes) {
  constexpr int kTypes = 8, kVariables = 12;
  std::string text = "namespace: http://fernhollow.example/large\ntypes:\n";
  for (int type = 0; type < kTypes; ++type) {
    text += fmt::format("  Tank{}:\n", type);
    for (int i = 0; i < kVariables; ++i) {
      static const char* const kinds[] = {"Double mg/L 0..20", "Float °C -5..40", "UInt32",
                                          "Boolean",           "String property", "Double L/min 0..900 = 5 writable"};
      text += fmt::format("    v{}: {}\n", i, kinds[i % 6]);
    }
    text += "    feed(grams UInt32) -> done Boolean: Feeds the fish\n";
  }
  text += "objects:\n  Plant:\n";
  // A tank is itself, 12 variables, 6 units and ranges pairs, a method and its arguments.
  constexpr std::size_t kPerTank = 1 + kVariables + 12 + 3;
  const std::size_t tanks = nodes / kPerTank;
  for (std::size_t i = 0; i < tanks; ++i) {
    if (i % 500 == 0) text += fmt::format("    Hall{}:\n", i / 500);
    text += fmt::format("      T{}: {{is: Tank{}, v5: = {}}}\n", i, i % kTypes, i % 900);
  }
  return text;
}

std::unique_ptr<space::Space> freshSpace() {
  auto space = std::make_unique<space::Space>(ua::String("urn:fernhollow.example:bench"));
  space::loadNamespace0(*space);
  return space;
}

std::unique_ptr<space::Space> built(const std::string& text) {
  auto space = freshSpace();
  model::Findings findings;
  model::build(*space, {{"large.yaml", text}}, findings);
  if (findings.hasErrors()) throw std::runtime_error(findings.list().front().message);
  return space;
}

const std::string& language(std::size_t nodes) {
  static std::map<std::size_t, std::string> texts;
  auto& text = texts[nodes];
  if (text.empty()) text = modelText(nodes);
  return text;
}
const std::string& nodeSet(std::size_t nodes) {
  static std::map<std::size_t, std::string> texts;
  auto& text = texts[nodes];
  const std::vector<std::uint16_t> own{2};
  if (text.empty()) text = model::writeNodeSet(*built(language(nodes)), own);
  return text;
}

std::size_t residentOctets() {
  std::ifstream file("/proc/self/statm");
  std::size_t all = 0, resident = 0;
  file >> all >> resident;
  return resident * static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
}

void tellSize(benchmark::State& state, const space::Space& space, std::size_t octets) {
  state.counters["nodes"] = static_cast<double>(space.size());
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(space.size()));
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(octets));
}

void languageIn(benchmark::State& state) {
  const std::string& text = language(static_cast<std::size_t>(state.range(0)));
  std::unique_ptr<space::Space> space;
  for (auto _ : state) {
    space.reset();
    space = built(text);
  }
  tellSize(state, *space, text.size());
}
BENCHMARK(languageIn)->Name("model/language")->Arg(10'000)->Arg(100'000)->Arg(1'000'000)->Unit(benchmark::kMillisecond);

void nodeSetIn(benchmark::State& state) {
  const std::string& text = nodeSet(static_cast<std::size_t>(state.range(0)));
  const model::ModelFile file{"large.xml", text};
  std::unique_ptr<space::Space> space;
  for (auto _ : state) {
    space = freshSpace();
    model::Findings findings;
    model::readNodeSet(*space, file, findings);
    if (findings.hasErrors()) state.SkipWithError(findings.list().front().message.c_str());
  }
  tellSize(state, *space, text.size());
}
BENCHMARK(nodeSetIn)->Name("model/NodeSet2")->Arg(10'000)->Arg(100'000)->Arg(1'000'000)->Unit(benchmark::kMillisecond);

void xmlFloor(benchmark::State& state) {
  const std::string& text = nodeSet(static_cast<std::size_t>(state.range(0)));
  for (auto _ : state) {
    pugi::xml_document document;
    benchmark::DoNotOptimize(document.load_buffer(text.data(), text.size()));
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(text.size()));
}
BENCHMARK(xmlFloor)->Name("model/floor: parsing the XML alone")->Arg(1'000'000)->Unit(benchmark::kMillisecond);

void xmlCopyFloor(benchmark::State& state) {
  const std::string& text = nodeSet(static_cast<std::size_t>(state.range(0)));
  std::string to(text.size(), ' ');
  for (auto _ : state) {
    std::memcpy(to.data(), text.data(), text.size());
    benchmark::ClobberMemory();
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(text.size()));
}
BENCHMARK(xmlCopyFloor)->Name("model/floor: memcpy of the XML")->Arg(1'000'000)->Unit(benchmark::kMillisecond);

void compareTwo(benchmark::State& state) {
  const std::string& text = language(static_cast<std::size_t>(state.range(0)));
  const auto before = built(text), after = built(text);
  for (auto _ : state) benchmark::DoNotOptimize(model::compare(*before, *after));
  tellSize(state, *before, 0);
}
BENCHMARK(compareTwo)->Name("model/compare")->Arg(10'000)->Arg(100'000)->Arg(1'000'000)->Unit(benchmark::kMillisecond);

/// Octets of what any way to keep a model must hold: each name once, ids, and values in their shortest encoding.
std::size_t namesAndValues(const space::Space& space) {
  std::size_t octets = 0;
  std::unordered_set<std::string_view> names;
  for (space::NodeIndex node = 0; node < space.rows(); ++node) {
    if (!space.exists(node)) continue;
    if (names.insert(space.name(node)).second) octets += space.name(node).size();
    octets += ua::encode(space.nodeId(node)).size();
    const auto nodeClass = space.nodeClass(node);
    if (nodeClass == ua::NodeClass::Variable && !space.hasSource(node))
      octets += ua::encode(space.value(node).value).size();
  }
  return octets;
}

void memory(benchmark::State& state) {
  const std::string& text = language(static_cast<std::size_t>(state.range(0)));
  std::unique_ptr<space::Space> space;
  for (auto _ : state) {
    space.reset();
    ::malloc_trim(0);
    const std::size_t before = residentOctets();
    space = built(text);
    ::malloc_trim(0);
    state.counters["octets per node"] =
        static_cast<double>(residentOctets() - before) / static_cast<double>(space->size());
    state.counters["beyond names, ids, values"] =
        static_cast<double>(residentOctets() - before - namesAndValues(*space)) / static_cast<double>(space->size());
  }
  tellSize(state, *space, text.size());
}
BENCHMARK(memory)->Name("model/memory")->Arg(1'000'000)->Unit(benchmark::kMillisecond)->Iterations(1);

}  // namespace
