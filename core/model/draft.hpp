#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/instances.hpp"
#include "core/space/space.hpp"
#include "core/ua/structure_schema.hpp"

#include <map>
#include <unordered_map>

namespace zunth::model {

/// Where new nodes go: their namespace and the path from which their ids are made.
struct Location {
  std::uint16_t ns = 0;
  std::string path;
  Location in(const std::string& name) const { return {ns, path.empty() ? name : path + "/" + name}; }
};

/// A file that is being built: its namespace, and what it calls others.
struct Source {
  const Entry* root = nullptr;
  std::uint16_t ns = 0;
  std::map<std::string, std::uint16_t> prefixes;  // "di" in "di:DeviceType"
};

/// A type as a file declares it; built when something first needs it.
struct TypeDeclaration {
  const Entry* entry;
  const Source* source;
  enum class State { Declared, Building, Built } state = State::Declared;
  space::NodeIndex node = space::kNoNode;
  bool isUsed = false;
};

/// The nodes that model files come to describe, while they are being built: adds them, knows where each was written,
/// and finds types by name. Everything that goes wrong becomes a finding.
class Draft {
 public:
  Draft(space::Space& space, Findings& findings);

  space::Space& space;
  Findings& findings;
  const Source* source = nullptr;              // of what is being built
  std::optional<space::PermissionSet> access;  // of what is being added; the namespace's when there is none

  void error(const Place& place, std::string message, std::string hint = {}) {
    findings.error(place, std::move(message), std::move(hint));
  }

  // Types
  void declare(const Entry& entry, const Source& source);
  std::map<std::pair<std::uint16_t, std::string>, TypeDeclaration>& declarations() { return declared_; }
  /// Builds a declared type when one is asked for; set by whoever can.
  std::function<void(TypeDeclaration&)> buildType;
  /// The type of this name: of the file's own namespace, else of the other files and node sets, else the standard's;
  /// "prefix:Name" for one that the file imports. kNoNode for an unknown one, which is reported.
  space::NodeIndex findType(const Text& name);
  /// The same for a reference type, which may be called by its inverse name, too.
  struct NamedReference {
    space::NodeIndex type = space::kNoNode;
    bool isForward = true;
  };
  NamedReference findReferenceType(const Text& name);
  /// The structures of the site so far.
  const ua::TypeCatalog& catalog();
  void dataTypeAdded() { catalog_.reset(); }

  // Nodes
  /// An id that a node shall have instead of the one from its path.
  void giveId(const Location& path, ua::NodeId id) {
    givenIds_[ua::NodeId(path.ns, ua::String(path.path))] = std::move(id);
  }
  /// "5001", "s=Some.Name", "g=...": an id in the model's own namespace; what is none is reported.
  std::optional<ua::NodeId> givenId(const Text& text, std::uint16_t ns);
  /// The id that an entry gives its node (`node-id:`), else the one from the path.
  ua::NodeId idOf(const Location& here, const Entry& entry);
  /// kNoNode when the id is taken, which is reported with both places.
  space::NodeIndex add(space::NewNode node, const Place& place);
  /// Where a node was written; nullptr for one that no file describes.
  const Place* placeOf(space::NodeIndex node) const;
  std::vector<const Place*> takePlaces() { return std::move(places_); }
  /// Whether the node came into being as a copy of its type's, not by a line of its own.
  bool isCopy(space::NodeIndex node) const { return node < copies_.size() && copies_[node]; }
  /// Takes a node away with all that is below it.
  void removeTree(space::NodeIndex node);
  Location locationOf(space::NodeIndex node) const;
  /// Where a child of this name goes. What stands below a node of another model begins a path of its own.
  Location below(space::NodeIndex parent, const std::string& name) const;
  /// A node whose children's ids don't begin with its own.
  void setLocation(space::NodeIndex node, Location location) { locations_[node] = std::move(location); }
  /// The child of this browse name in whatever namespace, or kNoNode.
  space::NodeIndex child(space::NodeIndex parent, std::string_view name);
  /// Puts a node below another by that type of reference.
  void place(space::NodeIndex parent, space::NodeIndex node, ua::StandardId reference) {
    place(parent, node, space.at(reference));
  }
  void place(space::NodeIndex parent, space::NodeIndex node, space::NodeIndex reference);
  void setRule(space::NodeIndex node, ua::StandardId rule);
  space::NodeIndex addProperty(space::NodeIndex owner, const char* name, ua::StandardId dataType, ua::Variant value,
                               const Place& at, bool isDeclaration);
  /// How copies of a type's children come into being below an instance: by the path of the instance. Those in a type
  /// are declarations, which its instances have, too.
  space::AddCopy copier(const Place& at, bool inType);

  /// Texts in one or several languages: about: Words, or about: {en: Words, de: Worte}.
  std::vector<ua::LocalizedText> textsOf(const Entry& entry);
  /// Gives a node its `about:` and `called:`.
  void describe(space::NodeIndex node, const Entry& entry);

 private:
  void reportUnknown(const Text& name, const char* what, const std::vector<std::string>& known);
  space::NodeIndex typeNamed(const std::string& name, std::uint16_t ns);

  std::map<std::pair<std::uint16_t, std::string>, TypeDeclaration> declared_;  // by namespace and name
  std::unordered_map<std::string, std::vector<space::NodeIndex>> given_;       // types that were there before, by name
  std::optional<ua::TypeCatalog> catalog_;
  std::vector<const Place*> places_;                     // by node; places of entries, which outlive the draft
  std::vector<bool> copies_;                             // by node
  std::unordered_map<ua::NodeId, ua::NodeId> givenIds_;  // by those from paths
  std::unordered_map<space::NodeIndex, Location> locations_;
  std::unordered_map<space::NodeIndex, std::unordered_map<std::string_view, space::NodeIndex>>
      children_;  // of large ones
};

}  // namespace zunth::model
