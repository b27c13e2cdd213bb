#pragma once

#include "core/space/space.hpp"

#include <string>

namespace zunth::model {

/// A page of documentation for a model: one HTML file without anything from elsewhere, with the drawings, the tree of
/// instances, and a table for each type. `title` stands above all.
std::string writePage(const space::Space& space, const std::string& title);

}  // namespace zunth::model
