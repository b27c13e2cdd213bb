#pragma once

#include "core/model/build.hpp"

#include <span>

/// NodeSet2 (Part 6, annex F): address spaces as XML, as companion specifications and other tools write them.
namespace zunth::model {

/// Adds the nodes of a file to a space that holds those which they build upon. Namespaces get the space's indexes, in
/// values too. Mistakes become findings with their line: XML that isn't sound, a model or a node that is required and
/// missing, an id that is there already, a value that doesn't fit its element.
void readNodeSet(space::Space& space, const ModelFile& file, Findings& findings);

/// The order in which these files are read, so that what each requires is there before it; by their places where
/// nothing is required, and where they require one another.
std::vector<std::size_t> readingOrder(std::span<const ModelFile> files);

/// The nodes of these namespaces with their attributes, values and references, in the order of their rows.
std::string writeNodeSet(const space::Space& space, std::span<const std::uint16_t> namespaces);

}  // namespace zunth::model
