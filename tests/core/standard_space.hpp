#pragma once

#include "core/space/namespace0.hpp"

namespace zunth::test {

/// A space with namespace 0 that no test changes.
inline const space::Space& standardSpace() {
  static const auto* loaded = [] {
    auto* s = new space::Space("urn:fernhollow.example:test");
    space::loadNamespace0(*s);
    return s;
  }();
  return *loaded;
}

}  // namespace zunth::test
