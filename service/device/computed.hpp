#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/owner.hpp"
#include "core/space/space.hpp"

#include <set>

namespace mu {
class Parser;
}

/// Variables whose value follows from those of others (docs/devices.md, Bindings).
namespace zunth::device {

/// "[Hatchery/Intake/DF1/inflow] * 0.06", read: what stands in brackets are paths of variables.
struct ComputedBinding {
  space::NodeIndex variable = space::kNoNode;
  std::string text;                       // as it was written, with captures filled in
  std::string formula;                    // with v0, v1... in the place of the paths
  std::vector<space::NodeIndex> sources;  // v0, v1...
  model::Place place;
};

/// Reads an expression for a variable; paths that begin with ./ or ../ lead from where the variable stands. Nothing and
/// a finding when it is not sound: a path that leads to no variable, one without a number, what the language of
/// expressions doesn't know.
std::optional<ComputedBinding> parseComputed(const model::Text& text, space::NodeIndex variable,
                                             const space::Space& space, model::Findings& findings);
/// Puts them in an order in which each comes after those it is made of. One that is made of itself is a finding.
void orderComputed(std::vector<ComputedBinding>& bindings, const space::Space& space, model::Findings& findings);

/// Keeps such variables at what their expressions say, each time one of their sources changes: what came together is
/// computed together, and each once. A source that is Bad makes the value Bad for the same reason, an Uncertain one
/// Uncertain; the source time is the newest of its sources. They are not written to.
class Computed final : public space::Owner, public std::enable_shared_from_this<Computed> {
 public:
  Computed(space::Space& space, space::Owners& owners);
  ~Computed() override;

  /// These and no others, in their order.
  void rebind(const std::vector<ComputedBinding>& bindings);
  std::vector<space::NodeIndex> variables() const;
  /// How the value of a variable comes about; nothing for one that isn't computed.
  struct Way {
    std::string expression;
    std::vector<space::NodeIndex> sources;
  };
  std::optional<Way> wayOf(space::NodeIndex variable) const;

  // As owner
  void write(std::vector<Write> writes, ua::Instant deadline, WriteDone done) override;
  void removed(space::NodeIndex node) override;

 private:
  struct Row;
  void changed(std::span<const space::Change> changes);
  void compute(std::set<std::size_t> rows);
  ua::DataValue valueOf(Row& row, const std::unordered_map<space::NodeIndex, ua::DataValue>& fresh) const;
  void clear();

  space::Space& space_;
  space::Owners& owners_;
  space::TapId tap_;
  std::vector<std::unique_ptr<Row>> rows_;
  std::unordered_map<space::NodeIndex, std::vector<std::size_t>> dependents_;  // rows, by source
  bool isWorking_ = false;
};

}  // namespace zunth::device
