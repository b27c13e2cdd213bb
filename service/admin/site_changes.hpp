#pragma once

#include "core/model/difference.hpp"
#include "service/admin/site.hpp"

namespace zunth::admin {

/// Something of a site beside its model that another reading of its folder says otherwise.
struct SiteChange {
  model::Change change;
  bool needsRestart = false;
};

/// What differs in devices, bindings and site.yaml, in this order; each in a line for people.
std::vector<SiteChange> siteChanges(const Site& before, const Site& after);

}  // namespace zunth::admin
