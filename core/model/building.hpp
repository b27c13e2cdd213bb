#pragma once

#include "core/model/alarms.hpp"
#include "core/model/build.hpp"
#include "core/model/draft.hpp"
#include "core/model/links.hpp"
#include "core/model/variable_facts.hpp"

#include <string>
#include <vector>

namespace zunth::model {

/// What all have at hand that build a part of a model.
struct Building {
  Building(space::Space& into, Findings& found, const SiteWords& words)
      : draft(into, found), space(into), findings(found), site(words), declarations(into) {}

  void error(const Place& place, std::string message, std::string hint = {}) {
    findings.error(place, std::move(message), std::move(hint));
  }

  Draft draft;
  space::Space& space;
  Findings& findings;
  const SiteWords& site;
  VariableFacts facts{draft, site.units};
  space::Declarations declarations;  // of types that are built
  Links links{draft};
  Alarms alarms{draft, declarations};
  std::vector<space::NodeIndex> machines;  // objects that may be state machines
};

}  // namespace zunth::model
