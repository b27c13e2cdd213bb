#pragma once

#include "core/space/name_table.hpp"
#include "core/space/node_index.hpp"
#include "core/space/permissions.hpp"
#include "core/space/value_cell.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/generated/structures.hpp"

#include <functional>
#include <map>
#include <optional>
#include <unordered_map>

/// The address space (Part 3): nodes as rows of a table, references as runs, values in cells.
namespace zunth::space {

/// Whether nodes of a class are types (Part 3, 4.5.3).
constexpr bool isType(ua::NodeClass nodeClass) {
  using enum ua::NodeClass;
  return nodeClass == ObjectType || nodeClass == VariableType || nodeClass == ReferenceType || nodeClass == DataType;
}

/// What a variable or variable type says about its value.
struct ValueTraits {
  NodeIndex dataType = kNoNode;
  std::int32_t valueRank = -1;  // -1 scalar, 1 array, n matrix; -2 any, -3 scalar or array, 0 array of any rank
  std::uint16_t accessLevel =
      ua::AccessLevelExType::CurrentRead;  // the attribute AccessLevelEx; AccessLevel is its low octet
  bool historizing = false;
  float minimumSamplingInterval = 0;  // ms; 0 reports every change, -1 unknown
};

/// What few nodes have; kept aside.
struct RareAttributes {
  ua::LocalizedText description;
  ua::List<std::uint32_t> arrayDimensions;
  ua::LocalizedText inverseName;       // reference types
  ua::ExtensionObject typeDefinition;  // data types: EnumDefinition or StructureDefinition
  // In each language, the usual one first; empty where there is one text without a language.
  std::vector<ua::LocalizedText> displayNames, descriptions;
  ua::String nodeSetExtras;  // what a NodeSet2 file says of the node that no attribute holds, as XML
};

/// What a model says of its namespace (Part 5, 6.3.13; Part 6, F.5).
struct ModelInfo {
  struct Required {
    ua::String uri, version;
    ua::DateTime published;
    bool operator==(const Required&) const = default;
  };
  ua::String version;
  ua::DateTime published;  // null when the model doesn't say
  std::vector<Required> required;
  ua::String modelVersion, xmlSchemaUri;  // as its NodeSet2 file has them
  ua::String nodeSetExtras;               // the Extensions of its NodeSet2 file, as XML
  bool operator==(const ModelInfo&) const = default;
};

/// A node to be added; what its class doesn't have is ignored.
struct NewNode {
  ua::NodeId nodeId;
  ua::NodeClass nodeClass = ua::NodeClass::Object;
  ua::QualifiedName browseName;
  ua::LocalizedText displayName;  // the browse name's text when null
  ua::LocalizedText description;
  ValueTraits traits;
  ua::Variant value;
  ua::List<std::uint32_t> arrayDimensions;
  bool isAbstract = false;
  bool isSymmetric = false;
  ua::LocalizedText inverseName;
  std::uint8_t eventNotifier = 0;
  bool executable = true;        // methods
  bool containsNoLoops = false;  // views
};

/// A variable that got a value.
struct Change {
  NodeIndex variable;
  ua::DataValue value;
};
using TapId = std::uint32_t;

class Space {
 public:
  /// Empty but for the namespace table: 0 the standard's, 1 `applicationUri`.
  explicit Space(ua::String applicationUri);
  Space(const Space&) = delete;
  Space& operator=(const Space&) = delete;

  // Namespaces
  const std::vector<ua::String>& namespaces() const { return namespaces_; }
  /// Its index, new or old.
  std::uint16_t addNamespace(const ua::String& uri);
  std::optional<std::uint16_t> namespaceIndex(std::string_view uri) const;
  /// Empty for a namespace of which no model said anything.
  const ModelInfo& modelInfo(std::uint16_t ns) const;
  void setModelInfo(std::uint16_t ns, ModelInfo info) { models_[ns] = std::move(info); }

  // Structure
  /// BadNodeIdExists; BadBrowseNameInvalid for an empty name.
  ua::Result<NodeIndex> add(NewNode node);
  /// Adds both directions; does nothing when it is there already.
  void refer(NodeIndex source, NodeIndex type, NodeIndex target);
  void refer(NodeIndex source, ua::StandardId type, NodeIndex target) { refer(source, at(type), target); }
  /// Takes both directions away; false when there was no such reference.
  bool unrefer(NodeIndex source, NodeIndex type, NodeIndex target);
  /// Takes the node and all its references away; its row may be given to another.
  void remove(NodeIndex node);
  /// Puts a node's references into this order; those that are not in it come last. Of neither direction any is added or
  /// taken away.
  void arrange(NodeIndex node, std::span<const Reference> order);

  // Finding
  /// kNoNode when there is none.
  NodeIndex find(const ua::NodeId& id) const { return table_.find(id); }
  /// A node of namespace 0 that is known to be there.
  NodeIndex at(ua::StandardId id) const { return find(id); }
  /// The first forward target by this type or a subtype that has this browse name.
  NodeIndex child(NodeIndex parent, const ua::QualifiedName& name,
                  ua::StandardId type = ua::id::HierarchicalReferences) const;
  /// The hierarchical parent, or kNoNode. References that events go by make none.
  NodeIndex parent(NodeIndex node) const;
  /// "Hatchery/Intake/DF1/pressure": browse names from Objects, or the NodeId when it isn't below Objects.
  std::string path(NodeIndex node) const;
  std::size_t size() const { return count_; }
  /// One past the largest row in use; rows of removed nodes answer false to exists().
  NodeIndex rows() const { return static_cast<NodeIndex>(ids_.size()); }
  bool exists(NodeIndex node) const { return node < ids_.size() && classes_[node] != ua::NodeClass::Unspecified; }

  // Attributes that every node has
  const ua::NodeId& nodeId(NodeIndex node) const { return ids_[node]; }
  ua::NodeClass nodeClass(NodeIndex node) const { return classes_[node]; }
  ua::QualifiedName browseName(NodeIndex node) const {
    return {browseNamespaces_[node], names_.name(browseNames_[node])};
  }
  /// In the first of the languages that there is text in, else in the usual one (Part 4, 5.4).
  ua::LocalizedText displayName(NodeIndex node, std::span<const ua::String> locales = {}) const;
  ua::LocalizedText description(NodeIndex node, std::span<const ua::String> locales = {}) const;
  /// Texts in several languages, the usual one first; they take the place of what add() was given.
  void setDisplayNames(NodeIndex node, std::vector<ua::LocalizedText> texts);
  void setDescriptions(NodeIndex node, std::vector<ua::LocalizedText> texts);
  /// The browse name's text; it lives as long as the node.
  std::string_view name(NodeIndex node) const { return names_.name(browseNames_[node]).view(); }
  std::span<const Reference> references(NodeIndex node) const { return runs_.of(referenceRuns_[node]); }
  /// kNoNode for nodes that have none.
  NodeIndex typeDefinition(NodeIndex node) const;

  // Attributes of some
  const RareAttributes* rare(NodeIndex node) const;
  RareAttributes& rareOf(NodeIndex node) { return rare_[node]; }
  bool isAbstract(NodeIndex node) const { return flags_[node] & kAbstract; }
  bool isSymmetric(NodeIndex node) const { return flags_[node] & kSymmetric; }
  bool isExecutable(NodeIndex node) const { return !(flags_[node] & kNotExecutable); }
  bool containsNoLoops(NodeIndex node) const { return flags_[node] & kNoLoops; }
  /// Bits of EventNotifierType.
  std::uint8_t eventNotifier(NodeIndex node) const;
  void setAbstract(NodeIndex node, bool is) { setFlag(node, kAbstract, is); }
  void setSymmetric(NodeIndex node, bool is) { setFlag(node, kSymmetric, is); }
  void setExecutable(NodeIndex node, bool is) { setFlag(node, kNotExecutable, !is); }
  void setContainsNoLoops(NodeIndex node, bool is) { setFlag(node, kNoLoops, is); }
  void setEventNotifier(NodeIndex node, std::uint8_t bits);
  void setBrowseName(NodeIndex node, const ua::QualifiedName& name);
  /// Of a variable or variable type; the node must be one.
  const ValueTraits& traits(NodeIndex node) const { return variables_[payloads_[node]].traits; }
  ValueTraits& traits(NodeIndex node) { return variables_[payloads_[node]].traits; }

  // Permissions
  const PermissionSets& permissionSets() const { return permissions_; }
  PermissionSetIndex permissionSet(NodeIndex node) const { return permissionSets_[node]; }
  void setPermissions(NodeIndex node, PermissionSet set) {
    permissionSets_[node] = permissions_.intern(std::move(set));
  }
  /// What nodes of a namespace get that are added from now on: usualPermissions(), if nothing else was said.
  void setNamespacePermissions(std::uint16_t ns, PermissionSet set) {
    namespacePermissions_[ns] = permissions_.intern(std::move(set));
  }
  const PermissionSet& namespacePermissions(std::uint16_t ns) const { return permissions_[namespacePermissions_[ns]]; }
  /// Good, or why a session may not do it: BadNodeIdUnknown for a node that it may not even see,
  /// BadSecurityModeInsufficient, BadUserAccessDenied.
  ua::StatusCode check(const Rights& rights, NodeIndex node, std::uint32_t permission) const {
    if (!sees(rights, node)) return ua::status::BadNodeIdUnknown;
    return rights.check(permissions_, permissionSets_[node], permission);
  }
  bool sees(const Rights& rights, NodeIndex node) const {
    return rights.of(permissions_, permissionSets_[node]) & ua::PermissionType::Browse;
  }

  // Types
  /// True when `type` is `super` or below it by HasSubtype.
  bool isSubtype(NodeIndex type, NodeIndex super) const;
  bool isSubtype(NodeIndex type, ua::StandardId super) const { return isSubtype(type, at(super)); }
  NodeIndex supertype(NodeIndex type) const;
  /// The built-in type that values of a data type have on the wire: Int32 for enumerations, ExtensionObject for
  /// structures; Variant for BaseDataType, Number and the like, which allow several.
  ua::BuiltInType builtInType(NodeIndex dataType) const;
  /// Whether a value may stand in a variable with these traits (data type and rank).
  bool accepts(const ValueTraits& traits, const ua::Variant& value) const;

  // Values
  /// The value as it is now: from the cell, or from the source that was set. The node must be a variable or
  /// variable type.
  ua::DataValue value(NodeIndex variable) const;
  /// Puts a value into the cell and brings it to the taps that watch the variable.
  void setValue(NodeIndex variable, ua::DataValue value);
  /// The same for values that came together: each tap gets those that it watches as one batch, in their order.
  void setValues(std::vector<Change> batch);
  /// Computes the value at each read instead of keeping it, as for the current time.
  void setSource(NodeIndex variable, std::function<ua::DataValue()> source);
  bool hasSource(NodeIndex variable) const { return variables_[payloads_[variable]].source != 0; }
  /// Where changes of values go from now on, on the thread of who sets them. What a tap doesn't watch costs nothing.
  using Tap = std::function<void(std::span<const Change>)>;
  TapId tap(Tap tap);
  /// No variable may be watched by it any more.
  /// Whether a variable is watched by any tap but this one.
  bool isTappedBeside(NodeIndex variable, TapId tap) const {
    return (variables_[payloads_[variable]].taps & ~(1u << tap)) != 0;
  }
  void untap(TapId tap) { taps_[tap] = {}; }
  /// Called before a node is removed.
  void setRemovalListener(std::function<void(NodeIndex)> listener) { removalListener_ = std::move(listener); }
  void watch(NodeIndex variable, TapId tap, bool on) {
    auto& taps = variables_[payloads_[variable]].taps;
    taps = on ? taps | 1u << tap : taps & ~(1u << tap);
  }

 private:
  static constexpr std::uint8_t kAbstract = 1, kSymmetric = 2, kSubscribes = 4, kNotExecutable = 8, kNoLoops = 16,
                                kTranslated = 32, kEventsRead = 64, kEventsWritten = 128;
  void setFlag(NodeIndex node, std::uint8_t flag, bool is) {
    flags_[node] = static_cast<std::uint8_t>(is ? flags_[node] | flag : flags_[node] & ~flag);
  }
  NodeIndex newRow(ua::NodeId id);
  bool holdsOnly(const ua::Variant& structures, NodeIndex dataType) const;
  void dropSource(std::uint32_t& source);
  struct VariableRow {
    ValueTraits traits;
    ValueCell cell;
    std::uint32_t source = 0;  // 1 + index into sources_
    std::uint32_t taps = 0;    // that watch it, a bit each
  };

  std::vector<ua::String> namespaces_;
  std::map<std::uint16_t, ModelInfo> models_;  // by namespace
  PermissionSets permissions_;
  std::vector<PermissionSetIndex> namespacePermissions_;  // by namespace
  // One element a node in each column.
  std::deque<ua::NodeId> ids_;
  std::vector<ua::NodeClass> classes_;
  std::vector<std::uint8_t> flags_;
  std::vector<std::uint16_t> browseNamespaces_;
  std::vector<std::uint32_t> browseNames_, displayNames_;  // in names_
  std::vector<std::uint32_t> payloads_;                    // variables: row in variables_; types: the supertype
  std::vector<ReferenceRuns::Run> referenceRuns_;
  std::vector<PermissionSetIndex> permissionSets_;

  NodeIdTable table_;
  NameTable names_;
  ReferenceRuns runs_;
  std::deque<VariableRow> variables_;
  std::vector<std::function<ua::DataValue()>> sources_;
  std::unordered_map<NodeIndex, RareAttributes> rare_;
  std::vector<Tap> taps_;  // 32 at most
  std::function<void(NodeIndex)> removalListener_;
  std::vector<NodeIndex> freeRows_;
  std::vector<std::uint32_t> freeVariables_, freeSources_;
  std::size_t count_ = 0;
  NodeIndex hasSubtype_ = kNoNode, hasTypeDefinition_ = kNoNode, hierarchical_ = kNoNode, hasEventSource_ = kNoNode;
};

}  // namespace zunth::space
