#pragma once

#include "apps/zunth/command.hpp"
#include "core/space/space.hpp"

namespace zunth::cli {

/// A model from wherever a word on the command line says: a site's folder, a file (*.yaml, NodeSet2 *.xml, table
/// *.csv), or a running server, by its URL or the name of a saved place. Mistakes in files are printed; nothing when
/// the model is unsound or can't be had, with the exit code for that.
struct ModelSource {
  std::unique_ptr<space::Space> space;
  bool isServer = false;
  int exitCode = 0;

  /// The namespaces that are the model's.
  std::vector<std::uint16_t> namespaces() const;
  std::size_t nodes() const;
};
ModelSource modelFrom(const Options& options, const std::string& from, bool withValues = false);

/// The node of a path from Objects, of an id, or a type by its name, in a model; kNoNode, and the nearest name told,
/// when there is none.
space::NodeIndex nodeIn(const space::Space& space, const std::string& path);

/// Writes a file; false, and why is told, when that can't be.
bool writeFile(const std::string& name, const std::string& text);

}  // namespace zunth::cli
