#include "core/model/language_writer.hpp"

#include "core/model/access_rules.hpp"
#include "core/model/alarm_words.hpp"
#include "core/model/data_types.hpp"
#include "core/model/node_words.hpp"
#include "core/model/outline.hpp"
#include "core/model/yaml_text.hpp"
#include "core/space/attributes.hpp"
#include "core/space/conditions.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <array>
#include <set>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::model {

using namespace ua;
using space::isType;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

class LanguageWriter {
 public:
  LanguageWriter(const Space& space, std::uint16_t ns, const Units& units)
      : space_(space), ns_(ns), names_(space, ns), words_(space, units, names_) {
    hierarchical_ = space.at(id::HierarchicalReferences);
    collectAlarms();
  }

  std::string run() {
    std::string types = section("types", typesOfModel(), [this](NodeIndex type) { writeType(type); });
    std::vector<NodeIndex> tops, views;
    for (NodeIndex node = 0; node < space_.rows(); ++node) {
      if (!isOurs(node)) continue;
      const auto nodeClass = space_.nodeClass(node);
      if (nodeClass == NodeClass::View)
        views.push_back(node);
      else if (nodeClass == NodeClass::Object || nodeClass == NodeClass::Variable || nodeClass == NodeClass::Method)
        if (const NodeIndex parent = space_.parent(node); parent != kNoNode && !isOurs(parent)) tops.push_back(node);
    }
    // What is put into other nodes of the file comes after them.
    const NodeIndex objects = space_.at(id::ObjectsFolder);
    std::ranges::stable_sort(tops, {}, [&](NodeIndex node) { return space_.parent(node) != objects; });
    std::string instances = section("objects", tops, [&](NodeIndex node) {
      paths_[node] = name(node);
      noteId(node);
      writeChild(node, {}, 1, space_.parent(node));
    });
    std::string shown = section("views", views, [this](NodeIndex view) { writeView(view); });
    std::string ids;
    for (const auto& [path, id] : ids_) ids += fmt::format("  {}: {}\n", scalar(path), scalar(id));
    std::string out = head();
    for (const std::string* part : {&types, &instances, &shown})
      if (!part->empty()) out += "\n" + *part;
    if (!ids.empty()) out += "\nids:\n" + ids;
    return out;
  }

 private:
  // Names
  bool isOurs(NodeIndex node) const { return space_.exists(node) && space_.nodeId(node).namespaceIndex() == ns_; }
  std::string name(NodeIndex node) const { return names_.plain(node); }

  // Output
  template <class Write>
  std::string section(const char* key, const std::vector<NodeIndex>& nodes, const Write& write) {
    out_.clear();
    for (const NodeIndex node : nodes) write(node);
    std::string body = std::exchange(out_, {});
    return body.empty() ? "" : fmt::format("{}:\n{}", key, body);
  }
  void line(int depth, const std::string& text) {
    out_ += std::string(static_cast<std::size_t>(depth) * 2, ' ') + text + "\n";
  }
  void leftOut(int depth, NodeIndex node, const std::string& what) {
    line(depth, fmt::format("# left out: {} of {}", what, name(node)));
  }

  std::string head() {
    std::string out = fmt::format("namespace: {}\n", space_.namespaces()[ns_].view());
    const auto& info = space_.modelInfo(ns_);
    if (!info.version.empty()) out += fmt::format("version: {}\n", scalar(info.version.view()));
    if (!info.published.isNull()) out += fmt::format("published: {}\n", inQuotes(info.published.text()));
    if (info.required.empty() && names_.prefixes().empty()) return out;
    out += "imports:\n";
    std::set<std::string> named;
    for (const auto& required : info.required) {
      const auto ns = space_.namespaceIndex(required.uri.view());
      if (!ns || *ns == 0) continue;
      named.insert(std::string(required.uri.view()));
      out += fmt::format("  {}: {}{}{}\n", names_.prefixOf(*ns), required.uri.view(),
                         required.version.empty() ? "" : " ", required.version.view());
    }
    for (const auto& [ns, prefix] : names_.prefixes())
      if (named.insert(std::string(space_.namespaces()[ns].view())).second)
        out += fmt::format("  {}: {}\n", prefix, space_.namespaces()[ns].view());
    return named.empty() ? out.substr(0, out.size() - 9) : out;
  }

  /// Notes the id of a node when its path doesn't give it.
  void noteId(NodeIndex node) {
    const std::string& path = paths_[node];
    const NodeId& id = space_.nodeId(node);
    if (id == NodeId(ns_, String(path))) return;
    const NodeId bare = id.inNamespace(0);
    ids_.emplace_back(path, id.type() == IdentifierType::Numeric ? std::to_string(id.numeric()) : bare.text());
  }
  void enter(NodeIndex parent, NodeIndex node) {
    paths_[node] = paths_[parent] + "/" + name(node);
    noteId(node);
  }

  void writeTexts(int depth, const char* key, const LocalizedText& usual,
                  const std::vector<LocalizedText>* translated) {
    if (translated && !translated->empty()) {
      std::string all;
      for (const auto& text : *translated)
        all += fmt::format("{}{}: {}", all.empty() ? "" : ", ", scalar(text.locale.view()), inQuotes(text.text.str()));
      line(depth, fmt::format("{}: {{{}}}", key, all));
    } else if (!usual.text.isNull()) {
      if (usual.locale.empty())
        line(depth, fmt::format("{}: {}", key, scalar(usual.text.view())));
      else
        line(depth, fmt::format("{}: {{{}: {}}}", key, usual.locale.view(), inQuotes(usual.text.str())));
    }
  }
  void describe(NodeIndex node, int depth, NodeIndex model = kNoNode) {
    const auto* rare = space_.rare(node);
    const auto* above = model == kNoNode ? nullptr : space_.rare(model);
    const LocalizedText usual = space_.displayName(node);
    const bool isTranslated = rare && !rare->displayNames.empty();
    const bool isCopied = model != kNoNode && space_.displayName(model) == usual && !isTranslated;
    if ((isTranslated || usual.text.view() != space_.name(node)) && !isCopied)
      writeTexts(depth, "called", usual, rare ? &rare->displayNames : nullptr);
    const bool isSame =
        (rare ? rare->description : LocalizedText()) == (above ? above->description : LocalizedText()) &&
        (!rare || !above || above->descriptions == rare->descriptions);
    if (above && !isSame && (!rare || rare->description.text.isNull()))
      line(depth, "about: \"\"");
    else if (rare && (!above || !isSame))
      writeTexts(depth, "about", rare->description, &rare->descriptions);
  }

  // Types
  std::vector<NodeIndex> typesOfModel() const {
    std::vector<NodeIndex> out;
    for (NodeIndex node = 0; node < space_.rows(); ++node)
      if (isOurs(node))
        if (isType(space_.nodeClass(node))) out.push_back(node);
    return out;
  }

  void writeType(NodeIndex type) {
    paths_[type] = "types/" + name(type);
    noteId(type);
    line(1, scalar(name(type)) + ":");
    const auto before = out_.size();
    const auto nodeClass = space_.nodeClass(type);
    const NodeIndex super = space_.supertype(type);
    const auto* rare = space_.rare(type);
    const ExtensionObject none;
    const auto& definition = rare ? rare->typeDefinition : none;
    if (auto members = definition.as<EnumDefinition>(); members && !definition.isNull())
      writeMembers(type, *members);
    else if (auto structure = definition.as<StructureDefinition>(); structure && !definition.isNull())
      writeFields(type, *structure);
    else if (super != kNoNode && !space_.nodeId(super).is(id::BaseObjectType))
      line(2, "extends: " + scalar(names_.ofType(super)));
    if (space_.isAbstract(type)) line(2, "abstract: yes");
    if (space_.isSymmetric(type)) line(2, "symmetric: yes");
    describe(type, 2);
    if (rare && !rare->inverseName.text.isNull()) writeTexts(2, "inverse", rare->inverseName, nullptr);
    if (nodeClass == NodeClass::VariableType) {
      const Variant value = space_.value(type).value;
      const std::string spec = words_.dataType(type) + words_.facts(type);
      line(2, "is: " + plainWords(spec));
      if (!value.isNull()) writeStarts(type, value, 2);
    }
    writeRefers(type, 2);
    writeAlarms(type, chainFrom(super), 2);
    writeChildren(type, chainFrom(super), 2);
    if (out_.size() == before) {  // a type that says nothing of its own
      out_.pop_back();
      out_ += " {extends: BaseObjectType}\n";
    }
  }

  void writeMembers(NodeIndex type, const EnumDefinition& definition) {
    const NodeIndex super = space_.supertype(type);
    const bool isEnumeration = space_.isSubtype(type, id::Enumeration);
    line(2, isEnumeration ? "is: enum" : "is: options");
    if (super != kNoNode && !(isEnumeration && space_.nodeId(super).is(id::Enumeration)))
      line(2, "extends: " + names_.ofType(super));
    for (const auto& field : definition.fields) {
      std::string key = scalar(field.name.view());
      if (isTypeWord(field.name.view())) leftOut(2, type, "the value " + field.name.str());
      const bool isCalled = !(field.displayName.text == field.name), isDescribed = !field.description.text.isNull();
      if (!isCalled && !isDescribed) {
        line(2, fmt::format("{}: {}", key, field.value));
        continue;
      }
      std::string more = fmt::format("is: {}", field.value);
      if (isCalled) more += ", called: " + inQuotes(field.displayName.text.str());
      if (isDescribed) more += ", about: " + inQuotes(field.description.text.str());
      line(2, fmt::format("{}: {{{}}}", key, more));
    }
  }

  void writeFields(NodeIndex type, const StructureDefinition& definition) {
    const NodeIndex super = space_.supertype(type);
    const bool isUnion = definition.structureType == StructureType::Union;
    line(2, isUnion ? "is: union" : "is: struct");
    if (super != kNoNode && !space_.nodeId(super).is(isUnion ? id::Union : id::Structure))
      line(2, "extends: " + names_.ofType(super));
    const auto inherited = space::allFields(space_, super).size();
    for (std::size_t i = std::min(inherited, definition.fields.size()); i < definition.fields.size(); ++i) {
      const auto& field = definition.fields[i];
      const NodeIndex dataType = space_.find(field.dataType);
      std::string spec = dataType == kNoNode ? "BaseDataType" : names_.ofType(dataType);
      if (field.valueRank >= 1) spec += "[" + std::string(static_cast<std::size_t>(field.valueRank - 1), ',') + "]";
      const std::string key = scalar(field.name.str() + (field.isOptional ? "?" : ""));
      if (field.description.text.isNull())
        line(2, fmt::format("{}: {}", key, plainWords(spec)));
      else
        line(2, fmt::format("{}: {{is: {}, about: {}}}", key, inQuotes(spec), inQuotes(field.description.text.str())));
    }
    for (const auto& reference : space_.references(type))
      if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasEncoding)) enter(type, reference.target());
  }

  // Children
  /// Nodes that declare what a node has, the nearest first: what it was copied from, then its type and those above.
  using Models = std::vector<NodeIndex>;

  bool isWrittenBelow(NodeIndex parent, const space::Reference& reference) const {
    const NodeIndex child = reference.target();
    return reference.isForward() && isOurs(child) && space_.isSubtype(reference.type(), hierarchical_) &&
           !space_.isSubtype(reference.type(), id::HasEventSource) && space_.parent(child) == parent &&
           (space_.nodeClass(child) == NodeClass::Object || space_.nodeClass(child) == NodeClass::Variable ||
            space_.nodeClass(child) == NodeClass::Method);
  }
  /// A type and those above it; what a foreign server says may go round in circles.
  Models chainFrom(NodeIndex type) const {
    Models chain;
    for (; type != kNoNode && chain.size() < 100; type = space_.supertype(type)) chain.push_back(type);
    return chain;
  }
  void writeChildren(NodeIndex node, const Models& models, int depth) {
    for (const auto& reference : space_.references(node)) {
      if (!isWrittenBelow(node, reference) || alarms_.contains(reference.target())) continue;
      const NodeIndex child = reference.target();
      enter(node, child);
      if (isSaidAbove(node, child)) continue;
      writeChild(child, models, depth, node);
    }
  }

  /// Properties that the words of their owner make.
  bool isSaidAbove(NodeIndex owner, NodeIndex child) const {
    const auto property = space_.name(child);
    const auto ownerClass = space_.nodeClass(owner);
    if (space_.browseName(child).namespaceIndex != 0) return false;
    if (ownerClass == NodeClass::Method) return property == "InputArguments" || property == "OutputArguments";
    if (ownerClass == NodeClass::DataType)
      return property == "EnumStrings" || property == "EnumValues" || property == "OptionSetValues";
    if (ownerClass != NodeClass::Variable && ownerClass != NodeClass::VariableType) return false;
    if (property == "EURange" || property == "InstrumentRange")
      return space::rangeProperty(space_, owner, property).has_value();
    if (property == "EngineeringUnits") return !words_.unit(owner).empty();
    return property == "ValuePrecision" || property == "FalseState" || property == "TrueState" ||
           property == "EnumStrings";
  }

  /// What the nearest model declares under the name; kNoNode when none does.
  NodeIndex declarationOf(NodeIndex child, const Models& models) const {
    for (const NodeIndex model : models)
      for (const auto& reference : space_.references(model))
        if (reference.isForward() && space_.isSubtype(reference.type(), hierarchical_) &&
            space_.browseName(reference.target()) == space_.browseName(child) &&
            space_.nodeClass(reference.target()) == space_.nodeClass(child))
          return reference.target();
    return kNoNode;
  }

  std::string ruleOf(NodeIndex node) const { return modellingRule(space_, node); }
  bool isInType(NodeIndex node) const {
    const auto found = paths_.find(node);
    return found != paths_.end() && found->second.starts_with("types/");
  }

  NodeIndex parentReference(NodeIndex node, NodeIndex parent) const {
    for (const auto& reference : space_.references(parent))
      if (reference.isForward() && reference.target() == node && space_.isSubtype(reference.type(), hierarchical_))
        return reference.type();
    return kNoNode;
  }

  void writeChild(NodeIndex node, const Models& models, int depth, NodeIndex parent) {
    const NodeIndex declaration = declarationOf(node, models);
    const bool isMethod = space_.nodeClass(node) == NodeClass::Method;
    const std::string rule = ruleOf(node);
    const bool inType = isInType(node);
    std::string key = name(node);
    if (const auto ns = space_.browseName(node).namespaceIndex; ns != ns_ && declaration == kNoNode) {
      if (ns >= 2)
        key = names_.prefixOf(ns) + ":" + key;
      else
        leftOut(depth, node, fmt::format("the namespace {} of the browse name", ns));
    }
    if (isReservedWord(key)) key = "./" + key;
    const bool isOptional = inType && (rule == "Optional" || rule == "OptionalPlaceholder");
    // What is the same as declared is written only to say that an optional child is there.
    const auto start = out_.size();
    const bool isOverride = isType(space_.nodeClass(parent));  // by a type of what one above declares
    if (isMethod) {
      if (declaration != kNoNode && !isOverride && isMandatory(declaration)) return skipMethod(node);
      writeMethod(node, depth, isOptional, declaration != kNoNode);
      return;
    }
    const bool isCopy = declaration != kNoNode && space_.typeDefinition(declaration) == space_.typeDefinition(node) &&
                        (!inType || sameRule(declaration, node)) && words_.sameShape(declaration, node);
    const std::string spec = isCopy ? changedWords(node, declaration) : fullWords(node, parent, inType, rule);
    const bool endsInQuestion = isOptional && !isCopy;
    line(depth, scalar(key + (endsInQuestion ? "?" : "")) + ":" + (spec.empty() ? "" : " " + plainWords(spec)));
    const auto afterKey = out_.size();
    describe(node, depth + 1, isCopy ? declaration : kNoNode);
    writeAccess(node, depth + 1, parent);
    if (!isOurs(parent) && space_.nodeId(parent) != NodeId(id::ObjectsFolder))
      line(depth + 1, "in: " + scalar(space_.path(parent)));
    if (!isCopy) writeBy(node, parent, depth + 1, spec);
    if (space_.nodeClass(node) == NodeClass::Variable) writeValue(node, isCopy ? declaration : kNoNode, depth + 1);
    writeRefers(node, depth + 1);
    Models below = chainFrom(space_.typeDefinition(node));
    if (isCopy) below.insert(below.begin(), declaration);
    writeAlarms(node, below, depth + 1);
    writeChildren(node, below, depth + 1);
    finish(start, afterKey, depth, key + (endsInQuestion ? "?" : ""), spec,
           isCopy && isMandatory(declaration) && !isOverride);
  }

  /// Joins the spec with what stands below it, or takes the entry back when it says nothing.
  void finish(std::size_t start, std::size_t afterKey, int depth, const std::string& key, const std::string& spec,
              bool mayBeLeftOut) {
    const std::string below = out_.substr(afterKey);
    if (below.empty()) {
      if (spec.empty() && mayBeLeftOut) out_.resize(start);
      return;
    }
    if (spec.empty()) return;
    out_.resize(start);
    line(depth, scalar(key) + ":");
    line(depth + 1, "is: " + plainWords(spec));
    out_ += below;
  }

  void skipMethod(NodeIndex node) {
    for (const auto& reference : space_.references(node))
      if (isWrittenBelow(node, reference)) enter(node, reference.target());
  }

  static bool isReservedWord(const std::string& key) {
    static const std::set<std::string> all = {
        "is",     "about",   "called", "access", "in",       "was",     "node-id",   "refers", "implements",
        "starts", "extends", "by",     "alarms", "abstract", "inverse", "symmetric", "states", "transitions"};
    return all.contains(key);
  }
  bool isMandatory(NodeIndex declaration) const { return ruleOf(declaration) == "Mandatory"; }
  bool sameRule(NodeIndex a, NodeIndex b) const { return ruleOf(a) == ruleOf(b); }
  std::string fullWords(NodeIndex node, NodeIndex parent, bool inType, const std::string& rule) {
    std::string out;
    const NodeIndex definition = space_.typeDefinition(node);
    if (space_.nodeClass(node) == NodeClass::Object) {
      if (definition != kNoNode && !space_.nodeId(definition).is(id::BaseObjectType)) out = names_.ofType(definition);
      const NodeIndex by = parentReference(node, parent);
      const bool isAddIn = by != kNoNode && space_.nodeId(by).is(id::HasAddIn);
      const bool isStatic = inType && rule.empty(), isNotifier = isNotifierOfItsOwn(node);
      if (out.empty() && (isAddIn || isStatic || isNotifier)) out = "BaseObjectType";
      return out + (isNotifier ? " notifier" : "") + (isAddIn ? " addin" : "") + (isStatic ? " static" : "");
    }
    const bool isProperty = definition != kNoNode && space_.nodeId(definition).is(id::PropertyType);
    const std::string facts = words_.facts(node);
    const bool isUsual =
        definition == kNoNode || isProperty || space_.nodeId(definition) == NodeId(words_.usualDefinition(node));
    const std::string dataType = words_.dataType(node);
    if (isUsual) {
      out = dataType;
    } else {
      out = names_.ofType(definition);
      const auto &own = space_.traits(node), &type = space_.traits(definition);
      if (own.dataType != type.dataType || own.valueRank != type.valueRank) out += " of " + dataType;
    }
    out += facts + words_.initial(node, kNoNode) + words_.flags(node);
    if (isProperty) out += " property";
    if (inType && rule.empty()) out += " static";
    return out;
  }
  bool isNotifierOfItsOwn(NodeIndex node) const {
    return space_.eventNotifier(node) && !impliedNotifiers_.contains(node);
  }

  /// What a copy has otherwise than what it was copied from.
  std::string changedWords(NodeIndex node, NodeIndex model) const {
    if (isNotifierOfItsOwn(node) && !space_.eventNotifier(model)) return "notifier";
    return space_.nodeClass(node) == NodeClass::Variable ? words_.changes(node, model) : std::string();
  }

  void writeBy(NodeIndex node, NodeIndex parent, int depth, const std::string& spec) {
    const NodeIndex by = parentReference(node, parent);
    if (by == kNoNode) return;
    const NodeIndex parentType = space_.typeDefinition(parent);
    const bool inFolder = parentType != kNoNode && space_.isSubtype(parentType, id::FolderType);
    const bool isProperty = (" " + spec + " ").find(" property ") != std::string::npos;
    const StandardId usual = isProperty ? id::HasProperty : inFolder ? id::Organizes : id::HasComponent;
    if (!(space_.nodeId(by) == NodeId(usual)) && !space_.nodeId(by).is(id::HasAddIn))
      line(depth, "by: " + scalar(names_.ofType(by)));
  }

  void writeAccess(NodeIndex node, int depth, NodeIndex parent) {
    const auto own = space_.permissionSet(node);
    const auto& set = space_.permissionSets()[own];
    const bool isTop = !isOurs(parent);
    if (isTop ? set == space::usualPermissions() : own == space_.permissionSet(parent)) return;
    std::string roles;
    for (const auto& role : set.roles) {
      const NodeIndex roleNode = space_.find(role.roleId);
      const auto may = accessWords(role.permissions);
      std::string roleName = roleNode == kNoNode ? role.roleId.text() : name(roleNode);
      if (!may) {
        leftOut(depth, node, "the permissions of " + roleName);
        continue;
      }
      roles += (roles.empty() ? "" : ", ") + roleName + ": " + *may;
    }
    if (set.restrictions & AccessRestrictionType::EncryptionRequired)
      roles += (roles.empty() ? "" : ", ") + std::string("needs: encryption");
    else if (set.restrictions & AccessRestrictionType::SigningRequired)
      roles += (roles.empty() ? "" : ", ") + std::string("needs: signing");
    line(depth, fmt::format("access: {{{}}}", roles));
  }

  void writeValue(NodeIndex node, NodeIndex model, int depth) {
    const Variant value = words_.ownValue(node, model);
    if (!value.isNull() && words_.initial(node, model).empty()) writeStarts(node, value, depth);
  }
  void writeStarts(NodeIndex node, const Variant& value, int depth) {
    if (const auto text = words_.starts(node, value))
      line(depth, "starts: " + *text);
    else
      leftOut(depth, node, "the value");
  }

  // Methods
  void writeMethod(NodeIndex method, int depth, bool isOptional, bool isTaken) {
    const auto list = [&](const char* property, std::vector<Argument>& arguments) {
      arguments = space::methodArguments(space_, method, property);
      std::string out;
      for (const auto& argument : arguments) {
        const NodeIndex type = space_.find(argument.dataType);
        out += fmt::format("{}{} {}", out.empty() ? "" : ", ", argument.name.view(),
                           type == kNoNode ? "BaseDataType" : names_.ofType(type));
        if (argument.valueRank >= 1)
          out += "[" + std::string(static_cast<std::size_t>(argument.valueRank - 1), ',') + "]";
      }
      return out;
    };
    std::vector<Argument> inputs, outputs;
    const std::string in = list("InputArguments", inputs), out = list("OutputArguments", outputs);
    std::string key = name(method) + (isOptional ? "?" : "") + "(" + (isTaken ? "" : in) + ")";
    if (!out.empty() && !isTaken) key += " -> " + out;
    line(depth, scalar(key) + ":");
    describe(method, depth + 1);
    writeAccess(method, depth + 1, space_.parent(method));
    writeBy(method, space_.parent(method), depth + 1, "");
    if (!isTaken)
      for (const auto* each : {&inputs, &outputs})
        for (const auto& argument : *each)
          if (!argument.description.text.isNull())
            writeTexts(depth + 1, scalar(argument.name.view()).c_str(), argument.description, nullptr);
    writeRefers(method, depth + 1);
    for (const auto& reference : space_.references(method))
      if (isWrittenBelow(method, reference)) {
        enter(method, reference.target());
        if (!isSaidAbove(method, reference.target()))
          leftOut(depth + 1, method, "the child " + name(reference.target()));
      }
  }

  // Alarms
  /// Which objects `alarms:` can say, and what follows from that without being written.
  void collectAlarms() {
    for (NodeIndex node = 0; node < space_.rows(); ++node) {
      if (!isOurs(node) || space_.nodeClass(node) != NodeClass::Object ||
          (!space::isCondition(space_, node) && !space::isMetrics(space_, node)))
        continue;
      auto said = alarmWordsOf(space_, node);
      if (!said) continue;
      alarms_.emplace(node, std::move(*said));
      if (space::isInType(space_, node)) continue;
      const auto implied = space::alarmLinks(space_, node);
      impliedLinks_.insert(implied.links.begin(), implied.links.end());
      impliedNotifiers_.insert(implied.notifiers.begin(), implied.notifiers.end());
      for (const auto& reference : space_.references(node)) {
        const NodeId& type = space_.nodeId(reference.type());
        if (!reference.isForward() && type.is(id::AlarmGroupMember))
          impliedLinks_.insert({reference.target(), reference.type(), node});
        if (reference.isForward() && type.is(id::HasAlarmSuppressionGroup))
          impliedLinks_.insert({node, reference.type(), reference.target()});
      }
    }
  }
  void writeAlarms(NodeIndex owner, const Models& models, int depth) {
    bool isFirst = true;
    for (const auto& reference : space_.references(owner)) {
      if (!isWrittenBelow(owner, reference) || !alarms_.contains(reference.target())) continue;
      const NodeIndex alarm = reference.target();
      enterTree(owner, alarm);
      const NodeIndex declaration = declarationOf(alarm, models);
      const bool isCopy = declaration != kNoNode && !isType(space_.nodeClass(owner));
      AlarmWords said = alarms_.at(alarm);
      if (isCopy)
        if (const auto above = alarmWordsOf(space_, declaration)) said = changed(said, *above);
      const std::string words = text(said);
      const auto before = out_.size();
      if (isFirst) line(depth, "alarms:");
      const auto start = out_.size();
      const bool isOptional = isInType(alarm) && ruleOf(alarm) == "Optional";
      const std::string key = scalar(name(alarm) + (isOptional ? "?" : ""));
      line(depth + 1, fmt::format("{}:{}", key, words.empty() ? "" : " " + words));
      const auto afterKey = out_.size();
      describe(alarm, depth + 2, isCopy ? declaration : kNoNode);
      const Variant message = ownText(alarm);
      if (!message.isNull() && !(isCopy && ownText(declaration) == message))
        writeTexts(depth + 2, "message", *message.get<LocalizedText>(), nullptr);
      const Variant options = optionsOf(alarm);
      if (!options.isNull() && !(isCopy && optionsOf(declaration) == options)) {
        line(depth + 2, "options:");
        for (const auto& option : options.items<LocalizedText>()) line(depth + 3, "- " + scalar(option.text.str()));
      }
      finish(start, afterKey, depth + 1, key, words, isCopy && isMandatory(declaration));
      if (out_.size() == start) out_.resize(before);  // it says nothing, and neither does the line above
      isFirst &= out_.size() == before;
    }
  }
  /// The answers that a dialog takes.
  Variant optionsOf(NodeIndex alarm) const {
    const NodeIndex options = space_.child(alarm, {0, "ResponseOptionSet"});
    return options == kNoNode ? Variant() : space_.value(options).value;
  }
  Variant ownText(NodeIndex alarm) const {
    NodeIndex message = space::ownProperty(space_, alarm, space::kActiveMessage);
    if (message == kNoNode) message = space_.child(alarm, {0, "Prompt"});
    return message == kNoNode || !space_.value(message).value.get<LocalizedText>() ? Variant()
                                                                                   : space_.value(message).value;
  }
  /// What an alarm says otherwise than the one that its type declares.
  static AlarmWords changed(const AlarmWords& own, const AlarmWords& above) {
    AlarmWords out;
    for (std::size_t i = 0; i < kLimitLevels; ++i)
      if (own.limits[i] != above.limits[i]) out.limits[i] = own.limits[i];
    if (own.deadband != above.deadband) out.deadband = own.deadband;
    if (own.onDelay != above.onDelay || own.offDelay != above.offDelay) {
      out.onDelay = own.onDelay;
      out.offDelay = own.offDelay;
    }
    if (own.severity != above.severity || own.outermost != above.outermost) {
      out.severity = own.severity;
      out.outermost = own.outermost;
    }
    out.isConfirmed = own.isConfirmed && !above.isConfirmed;
    if (own.tolerance != above.tolerance) out.tolerance = own.tolerance;
    if (own.expected != above.expected) out.expected = own.expected;
    out.care = beyond(own.care, above.care);
    return out;
  }
  void enterTree(NodeIndex parent, NodeIndex node) {
    enter(parent, node);
    for (const auto& reference : space_.references(node))
      if (isWrittenBelow(node, reference)) enterTree(node, reference.target());
  }

  // References
  /// References beside those that the tree and types make.
  void writeRefers(NodeIndex node, int depth) {
    std::vector<std::pair<std::string, std::vector<std::string>>> lines;
    std::vector<std::string> interfaces;
    for (const auto& reference : space_.references(node)) {
      const NodeIndex target = reference.target();
      const NodeId& type = space_.nodeId(reference.type());
      if (!reference.isForward()) {
        // Each reference is told once: at its source, or by the model that came later.
        if (space_.nodeId(target).namespaceIndex() >= ns_ || space_.parent(node) == target) continue;
        if (!isReferrable(type) || impliedLinks_.contains({target, reference.type(), node})) continue;
      } else {
        if (type.is(id::HasInterface)) {
          interfaces.push_back(names_.ofType(target));
          continue;
        }
        if (!isReferrable(type) || impliedLinks_.contains({node, reference.type(), target})) continue;
        const auto ns = space_.nodeId(target).namespaceIndex();
        if (ns == 1 || ns > ns_) continue;  // what comes and goes with the service, and what a later model tells
        if (space_.isSubtype(reference.type(), hierarchical_) && space_.parent(target) == node) continue;
      }
      std::string name = names_.ofType(reference.type());
      if (!reference.isForward()) {
        const auto* rare = space_.rare(reference.type());
        if (!rare || rare->inverseName.text.isNull()) {
          leftOut(depth, node, "the reference " + name + " from " + space_.path(target));
          continue;
        }
        name = rare->inverseName.text.str();
      }
      const auto at = std::ranges::find(lines, name, &std::pair<std::string, std::vector<std::string>>::first);
      auto& targets = at == lines.end() ? lines.emplace_back(name, std::vector<std::string>()).second : at->second;
      targets.push_back(inQuotes(pathTo(target)));
    }
    if (!interfaces.empty()) line(depth, fmt::format("implements: [{}]", fmt::join(interfaces, ", ")));
    if (lines.empty()) return;
    line(depth, "refers:");
    for (const auto& [name, targets] : lines)
      line(depth + 1, fmt::format("{}: [{}]", scalar(name), fmt::join(targets, ", ")));
  }
  static bool isReferrable(const NodeId& type) {
    return !type.is(id::HasTypeDefinition) && !type.is(id::HasModellingRule) && !type.is(id::HasSubtype) &&
           !type.is(id::HasEncoding) && !type.is(id::HasInterface);
  }
  std::string pathTo(NodeIndex target) const {
    const std::string path = space_.path(target);
    if (path != space_.nodeId(target).text()) return path;
    // Below no object: a type, or a part of one.
    std::string out;
    int depth = 0;
    for (NodeIndex at = target; at != kNoNode && depth < 100; at = space_.parent(at), ++depth) {
      out = name(at) + (out.empty() ? "" : "/") + out;
      if (isType(space_.nodeClass(at))) return "types/" + out;
    }
    return path;
  }

  void writeView(NodeIndex view) {
    paths_[view] = "views/" + name(view);
    noteId(view);
    line(1, scalar(name(view)) + ":");
    describe(view, 2);
    std::vector<std::string> shown;
    for (const auto& reference : space_.references(view))
      if (reference.isForward() && space_.isSubtype(reference.type(), hierarchical_))
        shown.push_back(inQuotes(pathTo(reference.target())));
    line(2, fmt::format("shows: [{}]", fmt::join(shown, ", ")));
  }

  const Space& space_;
  std::uint16_t ns_;
  LanguageNames names_;
  NodeWords words_;
  NodeIndex hierarchical_ = kNoNode;
  std::unordered_map<NodeIndex, AlarmWords> alarms_;  // those that words can say
  std::set<space::AlarmLinks::Link> impliedLinks_;
  std::set<NodeIndex> impliedNotifiers_;
  std::unordered_map<NodeIndex, std::string> paths_;  // those from which the language makes ids
  std::vector<std::pair<std::string, std::string>> ids_;
  std::string out_;
};

}  // namespace

std::string writeModel(const Space& space, std::uint16_t ns, const Units& units) {
  return LanguageWriter(space, ns, units).run();
}

}  // namespace zunth::model
