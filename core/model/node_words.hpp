#pragma once

#include "core/model/language_names.hpp"
#include "core/model/units.hpp"
#include "core/ua/structure_schema.hpp"

namespace zunth::model {

/// What the model language says of a variable in a line: its type, unit and ranges, states, flags and initial value,
/// each with a space before it.
class NodeWords {
 public:
  NodeWords(const space::Space& space, const Units& units, LanguageNames& names);

  /// "Double[2,3]".
  std::string dataType(space::NodeIndex node);
  /// Unit, ranges, precision, states.
  std::string facts(space::NodeIndex node) const;
  /// How fast it is sampled, how it may be used.
  std::string flags(space::NodeIndex node) const;
  /// " = 20", where a word says it, and it isn't that of what the node was copied from.
  std::string initial(space::NodeIndex node, space::NodeIndex model) const;
  /// What a copy has otherwise than what it was copied from; without a space before it.
  std::string changes(space::NodeIndex node, space::NodeIndex model) const;
  /// Its initial value as YAML, for a line of its own; nothing where the language can't say it.
  std::optional<std::string> starts(space::NodeIndex node, const ua::Variant& value) const;
  /// The initial value, unless it is that of what the node was copied from; null for none.
  ua::Variant ownValue(space::NodeIndex node, space::NodeIndex model) const;

  /// The unit's symbol; empty for one that the language doesn't know.
  std::string unit(space::NodeIndex node) const;
  /// The type of variable that its facts make it.
  ua::StandardId usualDefinition(space::NodeIndex node) const;
  /// Whether both hold the same, as far as type and dimensions say.
  bool sameShape(space::NodeIndex a, space::NodeIndex b) const;

 private:
  ua::List<std::uint32_t> dimensions(space::NodeIndex node) const;
  std::string property(space::NodeIndex node, const char* name) const;
  std::string states(space::NodeIndex node) const;
  bool isOpen(space::NodeIndex node) const;

  const space::Space& space_;
  const Units& units_;
  LanguageNames& names_;
  ua::TypeCatalog catalog_;
};

}  // namespace zunth::model
