#include "service/device/computed.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"
#include "service/device/bindings.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>

#include <fmt/format.h>
#include <muParser.h>

namespace zunth::device {

using namespace ua;
using model::Findings;
using model::Text;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::size_t kMostSources = 100;

/// Where a path leads: from Objects, or from where the variable stands.
NodeIndex sourceAt(const Space& space, NodeIndex variable, std::string path) {
  if (!path.starts_with("./") && !path.starts_with("../")) return space::nodeAt(space, path);
  std::string from = space.path(variable);
  const auto up = [&from] {
    from.resize(std::min(from.size(), from.find_last_of('/') == std::string::npos ? 0 : from.find_last_of('/')));
  };
  up();
  if (path.starts_with("./")) path.erase(0, 2);
  for (; path.starts_with("../"); path.erase(0, 3)) up();
  return space::nodeAt(space, from.empty() ? path : from + "/" + path);
}

bool isSummable(const Space& space, NodeIndex variable) {
  const auto& traits = space.traits(variable);
  const BuiltInType type = space.builtInType(traits.dataType);
  return traits.valueRank < 0 && (isNumeric(type) || type == BuiltInType::Boolean || type == BuiltInType::Variant);
}

/// "kPa"; empty where a variable says none.
std::string unitOf(const Space& space, NodeIndex variable) {
  const NodeIndex property = space.child(variable, {0, "EngineeringUnits"}, id::HasProperty);
  const DataValue held = property == kNoNode ? DataValue() : space.value(property);
  const auto* object = held.value.get<ExtensionObject>();
  const auto unit = object ? object->as<EUInformation>() : Result<EUInformation>(status::BadNoData);
  return unit ? unit->displayName.text.str() : std::string();
}

/// Whether a formula gives what its sources are measured in: it adds, subtracts and chooses, and nothing else. A factor
/// may convert.
bool keepsUnit(std::string_view formula) {
  constexpr std::string_view kWords[] = {"min", "max", "sum", "avg", "abs"};
  const auto isLetter = [](char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0; };
  const auto isDigit = [](char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; };
  while (!formula.empty()) {
    const char first = formula.front();
    const auto word = formula.substr(0, std::ranges::find_if_not(formula, isLetter) - formula.begin());
    formula.remove_prefix(std::max<std::size_t>(word.size(), 1));
    if (word == "v")
      formula.remove_prefix(std::ranges::find_if_not(formula, isDigit) - formula.begin());
    else if (word.empty() ? std::string_view("+-(), \t").find(first) == std::string_view::npos
                          : std::ranges::find(kWords, word) == std::end(kWords))
      return false;
  }
  return true;
}

/// What is added has one unit, which is the sum's.
void checkUnits(const ComputedBinding& binding, const Space& space, Findings& findings) {
  if (!keepsUnit(binding.formula)) return;
  std::string unit;
  for (const NodeIndex source : binding.sources) {
    const std::string own = unitOf(space, source);
    if (!unit.empty() && !own.empty() && own != unit)
      return findings.warn(binding.place, fmt::format("what is in {} is put together with what is in {}", unit, own),
                           "convert one of them: [path] * factor");
    if (!own.empty()) unit = own;
  }
  const std::string wanted = unitOf(space, binding.variable);
  if (!wanted.empty() && !unit.empty() && wanted != unit)
    findings.warn(binding.place,
                  fmt::format("{} is in {}, what it is made of in {}", space.path(binding.variable), wanted, unit),
                  "convert it, or change its unit in the model");
}

}  // namespace

std::optional<ComputedBinding> parseComputed(const Text& text, NodeIndex variable, const Space& space,
                                             Findings& findings) {
  ComputedBinding out;
  out.variable = variable;
  out.text = text.text;
  out.place = text.place;
  const auto fail = [&](std::string message, std::string hint) {
    findings.error(text.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  constexpr const char* kHelp = "as in: = [Hatchery/Intake/DF1/inflow] + [./reserve]";
  std::string_view rest = text.text;
  while (true) {
    const auto open = rest.find('[');
    out.formula += rest.substr(0, open);
    if (open == std::string_view::npos) break;
    const auto close = rest.find(']', open);
    if (close == std::string_view::npos) return fail("a bracket doesn't close", kHelp);
    const std::string path(rest.substr(open + 1, close - open - 1));
    const NodeIndex source = sourceAt(space, variable, path);
    if (source == kNoNode || space.nodeClass(source) != NodeClass::Variable)
      return fail(fmt::format("there is no variable {}", path),
                  "zunth tree shows them; ./ and ../ lead from where the result stands");
    if (!isSummable(space, source)) return fail(fmt::format("{} is no number", path), kHelp);
    auto at = std::ranges::find(out.sources, source);
    if (at == out.sources.end()) at = out.sources.insert(at, source);
    if (out.sources.size() > kMostSources) return fail("an expression takes a hundred variables at most", kHelp);
    out.formula += fmt::format("v{}", at - out.sources.begin());
    rest.remove_prefix(close + 1);
  }
  if (out.sources.empty()) return fail("an expression is made of variables", kHelp);
  if (!isSummable(space, variable)) return fail(fmt::format("{} is no number", space.path(variable)), kHelp);
  try {
    mu::Parser parser;
    double any = 1;
    for (std::size_t i = 0; i < out.sources.size(); ++i) parser.DefineVar(fmt::format("v{}", i), &any);
    parser.SetExpr(out.formula);
    (void)parser.Eval();
  } catch (const mu::Parser::exception_type& wrong) {
    return fail(fmt::format("the expression is not sound: {}", wrong.GetMsg()), kHelp);
  }
  checkUnits(out, space, findings);
  return out;
}

void orderComputed(std::vector<ComputedBinding>& bindings, const Space& space, Findings& findings) {
  std::unordered_map<NodeIndex, std::size_t> byVariable;
  for (std::size_t i = 0; i < bindings.size(); ++i) byVariable[bindings[i].variable] = i;
  std::vector<ComputedBinding> ordered;
  std::vector<char> state(bindings.size());  // 1: on its way, 2: done
  struct Frame {
    std::size_t binding, next;
  };
  for (std::size_t root = 0; root < bindings.size(); ++root) {
    if (state[root]) continue;
    std::vector<Frame> way{{root, 0}};
    state[root] = 1;
    while (!way.empty()) {
      auto& [at, next] = way.back();
      if (next == bindings[at].sources.size()) {
        state[at] = 2;
        ordered.push_back(bindings[at]);
        way.pop_back();
        continue;
      }
      const auto source = byVariable.find(bindings[at].sources[next++]);
      if (source == byVariable.end() || state[source->second] == 2) continue;
      if (state[source->second] == 1) {
        findings.error(bindings[at].place, fmt::format("{} is made of itself", space.path(bindings[at].variable)),
                       "a value follows from others in the end");
        continue;
      }
      state[source->second] = 1;
      way.push_back({source->second, 0});
    }
  }
  bindings = std::move(ordered);
}

struct Computed::Row {
  ComputedBinding binding;
  std::vector<double> inputs;
  mu::Parser parser;
};

Computed::Computed(Space& space, space::Owners& owners)
    : space_(space),
      owners_(owners),
      tap_(space.tap([this](std::span<const space::Change> changes) { changed(changes); })) {}

Computed::~Computed() {
  clear();
  space_.untap(tap_);
}

void Computed::clear() {
  for (const auto& [source, rows] : dependents_)
    if (space_.exists(source)) space_.watch(source, tap_, false);
  dependents_.clear();
  rows_.clear();
}

void Computed::rebind(const std::vector<ComputedBinding>& bindings) {
  for (const auto& row : rows_)
    if (row && owners_.of(row->binding.variable).get() == this) owners_.disown(row->binding.variable);
  clear();
  std::set<std::size_t> all;
  for (const auto& binding : bindings) {
    auto row = std::make_unique<Row>();
    row->binding = binding;
    row->inputs.resize(binding.sources.size());
    for (std::size_t i = 0; i < binding.sources.size(); ++i) {
      row->parser.DefineVar(fmt::format("v{}", i), &row->inputs[i]);
      auto& dependents = dependents_[binding.sources[i]];
      if (dependents.empty()) space_.watch(binding.sources[i], tap_, true);
      dependents.push_back(rows_.size());
    }
    row->parser.SetExpr(binding.formula);
    owners_.own(binding.variable, shared_from_this());
    all.insert(rows_.size());
    rows_.push_back(std::move(row));
  }
  compute(std::move(all));
}

void Computed::changed(std::span<const space::Change> changes) {
  if (isWorking_) return;  // its own results
  std::set<std::size_t> rows;
  for (const auto& change : changes)
    if (const auto found = dependents_.find(change.variable); found != dependents_.end())
      rows.insert(found->second.begin(), found->second.end());
  compute(std::move(rows));
}

/// In their order, which is that of what they are made of.
void Computed::compute(std::set<std::size_t> rows) {
  std::unordered_map<NodeIndex, DataValue> fresh;
  std::vector<space::Change> changes;
  while (!rows.empty()) {
    Row* const row = rows_[*rows.begin()].get();
    rows.erase(rows.begin());
    if (!row) continue;
    const NodeIndex variable = row->binding.variable;
    DataValue value = valueOf(*row, fresh);
    fresh[variable] = value;
    changes.push_back({variable, std::move(value)});
    if (const auto further = dependents_.find(variable); further != dependents_.end())
      rows.insert(further->second.begin(), further->second.end());
  }
  if (changes.empty()) return;
  isWorking_ = true;
  space_.setValues(std::move(changes));
  isWorking_ = false;
}

DataValue Computed::valueOf(Row& row, const std::unordered_map<NodeIndex, DataValue>& fresh) const {
  DataValue out;
  for (std::size_t i = 0; i < row.inputs.size(); ++i) {
    const NodeIndex source = row.binding.sources[i];
    const auto known = fresh.find(source);
    const DataValue value = known != fresh.end()    ? known->second
                            : space_.exists(source) ? space_.value(source)
                                                    : DataValue(Variant(), wallClock(), status::BadNodeIdUnknown);
    out.sourceTimestamp = std::max(out.sourceTimestamp, value.sourceTimestamp);
    StatusCode status = value.status;
    if (!status.isBad() && !value.value.toDouble(row.inputs[i])) status = status::BadTypeMismatch;
    if (status.isBad() ? !out.status.isBad() : !status.isGood() && out.status.isGood()) out.status = status;
  }
  if (out.sourceTimestamp.isNull()) out.sourceTimestamp = wallClock();
  if (out.status.isBad()) return out;
  double result = 0;
  try {
    result = row.parser.Eval();
  } catch (const mu::Parser::exception_type&) {
    result = std::nan("");
  }
  if (!std::isfinite(result)) return DataValue(Variant(), out.sourceTimestamp, status::BadOutOfRange);
  out.value = Variant(result);
  return shownAs(space_, row.binding.variable, std::move(out));
}

std::vector<NodeIndex> Computed::variables() const {
  std::vector<NodeIndex> out;
  for (const auto& row : rows_)
    if (row) out.push_back(row->binding.variable);
  return out;
}

std::optional<Computed::Way> Computed::wayOf(NodeIndex variable) const {
  for (const auto& row : rows_)
    if (row && row->binding.variable == variable) return Way{row->binding.text, row->binding.sources};
  return std::nullopt;
}

void Computed::write(std::vector<Write> writes, Instant, WriteDone done) {
  for (std::size_t i = 0; i < writes.size(); ++i)
    done(i, {status::BadNotWritable, space_.path(writes[i].variable) + " is computed from others", {}});
}

/// What is made of a node that has gone keeps nothing of it.
void Computed::removed(NodeIndex node) {
  for (auto& row : rows_)
    if (row && row->binding.variable == node) row.reset();
}

}  // namespace zunth::device
