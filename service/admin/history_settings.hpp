#pragma once

#include "core/aggregate/function.hpp"
#include "core/model/yaml_source.hpp"
#include "service/history/recorder.hpp"

namespace zunth::admin {

/// How aggregates take the values of variables whose paths a pattern means, unless a client says so itself.
struct AggregateChoice {
  std::string pattern;
  aggregate::Configuration configuration;
  bool operator==(const AggregateChoice&) const = default;
};

/// What site.yaml says under `history`.
struct HistorySettings {
  bool isOn = true;
  std::string database{};  // of PostgreSQL, that keeps it: "postgresql://…"; empty for the site's own files
  double days = 0;         // whole months that ended so long ago are given up; 0 keeps them for ever
  double gigabytes = 0;    // then the oldest months are given up; 0 for no limit
  std::vector<history::Choice> choices{};
  std::vector<AggregateChoice> aggregates{};
  bool operator==(const HistorySettings&) const = default;
};

/// `history: off`, or a map of `keep: 2 years`, `size: 20 GB`, `database: postgresql://…` and `rules:`, each a pattern
/// of paths with what is kept of those: "every-change", "deadband 0.05" or "swinging-door 0.05", "pause 10 min" and
/// "keep 90 days"; and `aggregates:`, each a pattern with how they are calculated: "uncertain-counts, good 80, bad 50,
/// extrapolated".
HistorySettings readHistory(const model::Entry& root, model::Findings& findings);

/// Warns of rules that mean no variable with a history.
void warnOfIdleRules(const model::Entry& root, const space::Space& space, model::Findings& findings);

}  // namespace zunth::admin
