#pragma once

#include "core/model/build.hpp"
#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

namespace zunth::test {

/// A space with namespace 0 alone.
inline std::unique_ptr<space::Space> freshSpace() {
  auto space = std::make_unique<space::Space>(ua::String("urn:fernhollow.example:test"));
  space::loadNamespace0(*space);
  return space;
}

/// A space with a model in it. `first` is a namespace that comes before the model's, so that indexes differ.
inline std::unique_ptr<space::Space> spaceOf(const std::string& text, const char* first = nullptr) {
  auto space = freshSpace();
  if (first) space->addNamespace(ua::String(first));
  model::Findings findings;
  model::build(*space, {{"model/m.yaml", text}}, findings);
  for (const auto& finding : findings.list())
    if (finding.severity == model::Finding::Severity::Error) FAIL(finding.message);
  return space;
}

}  // namespace zunth::test
