#pragma once

#include "core/space/space.hpp"

#include <map>
#include <set>
#include <string>

namespace zunth::model {

/// What nodes and types are called where a file of the model language speaks of them: types of another namespace by its
/// prefix, where their name alone would mean another.
class LanguageNames {
 public:
  LanguageNames(const space::Space& space, std::uint16_t ns);

  /// A node's browse name.
  std::string plain(space::NodeIndex node) const { return std::string(space_.name(node)); }
  /// A type's name as the language finds it from here.
  std::string ofType(space::NodeIndex type);
  /// What stands for a namespace; from then on the file has to import it.
  std::string prefixOf(std::uint16_t ns);
  const std::map<std::uint16_t, std::string>& prefixes() const { return prefixes_; }

 private:
  const space::Space& space_;
  std::uint16_t ns_;
  std::map<std::string, std::set<std::uint16_t>> namespacesOf_;  // by a type's name
  std::map<std::uint16_t, std::string> prefixes_;                // that were used
};

}  // namespace zunth::model
