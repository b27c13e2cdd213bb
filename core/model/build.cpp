#include "core/model/build.hpp"

#include "core/model/alarms.hpp"
#include "core/model/data_types.hpp"
#include "core/model/draft.hpp"
#include "core/model/links.hpp"
#include "core/model/state_machine.hpp"
#include "core/model/variable_facts.hpp"
#include "core/model/words.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <charconv>
#include <deque>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

/// Entries of an object or variable that are no children of it.
constexpr std::string_view kChildWords[] = {"is",     "about",      "called", "access",  "in", "was",   "node-id",
                                            "refers", "implements", "starts", "extends", "by", "alarms"};

bool isChildWord(std::string_view key) { return std::ranges::find(kChildWords, key) != std::end(kChildWords); }

/// A version as a list of numbers, for comparing: "1.10" is more than "1.9".
std::vector<unsigned> numbersOf(std::string_view version) {
  std::vector<unsigned> out;
  while (!version.empty()) {
    const auto dot = std::min(version.find('.'), version.size());
    unsigned number = 0;
    std::from_chars(version.data(), version.data() + dot, number);
    out.push_back(number);
    version.remove_prefix(std::min(dot + 1, version.size()));
  }
  return out;
}

class Builder {
 public:
  Builder(Space& space, Findings& findings, const SiteWords& site)
      : draft_(space, findings), space_(space), findings_(findings), site_(site), declarations_(space) {
    draft_.buildType = [this](TypeDeclaration& type) { buildType(type); };
  }

  void run(const std::vector<Entry>& roots) {
    for (const Entry& root : roots) declare(root);
    for (Source& source : sources_) readImports(source);
    for (auto& [key, type] : draft_.declarations()) buildType(type);
    bool anyObjects = false;
    for (const bool isPlacedElsewhere : {false, true})
      for (const Source& source : sources_) {
        draft_.source = &source;
        if (const Entry* objects = source.root->find("objects"))
          for (const Entry& child : objects->entries) {
            anyObjects = true;
            if ((child.find("in") != nullptr) == isPlacedElsewhere) addTop(child);
          }
      }
    for (const Source& source : sources_) {
      draft_.source = &source;
      if (const Entry* views = source.root->find("views"))
        for (const Entry& view : views->entries) links_.addView(view);
    }
    links_.addAll();
    alarms_.connect();
    for (const NodeIndex machine : machines_)
      if (space_.exists(machine)) enterFirstState(space_, machine);
    if (anyObjects) warnOfUnused();
  }
  std::vector<const Place*> places() { return draft_.takePlaces(); }

 private:
  // Files
  void declare(const Entry& root) {
    if (!root.isMapping) return;
    checkKeys(root, {"namespace", "version", "published", "imports", "types", "objects", "views", "ids"}, findings_);
    const Text* uri = root.textOf("namespace");
    if (!uri) {
      if (root.entries.empty()) return;
      return error(root.key.place, "the model names no namespace",
                   "begin with: namespace: http://my-site.example/plant");
    }
    Source& source = sources_.emplace_back();
    source.root = &root;
    source.ns = space_.addNamespace(String(uri->text));
    auto info = space_.modelInfo(source.ns);
    if (const Text* version = root.textOf("version")) info.version = String(version->text);
    if (const Text* published = root.textOf("published")) {
      const bool isDay = published->text.find('T') == std::string::npos;
      auto time = DateTime::parse(published->text + (isDay ? "T00:00:00Z" : ""));
      if (!time)
        error(published->place, fmt::format("'{}' is no date", published->text), "as in: published: 2026-11-23");
      else
        info.published = *time;
    }
    space_.setModelInfo(source.ns, std::move(info));
    if (const Entry* types = root.find("types"))
      for (const Entry& entry : types->entries) draft_.declare(entry, source);
    if (const Entry* ids = root.find("ids"))
      for (const Entry& line : ids->entries)
        if (const auto id = line.value ? draft_.givenId(*line.value, source.ns) : std::nullopt)
          draft_.giveId({source.ns, line.key.text}, *id);
  }

  /// imports: [URI], or {prefix: URI}; a version that is needed at least may follow the URI.
  void readImports(Source& source) {
    const Entry* imports = source.root->find("imports");
    if (!imports) return;
    auto info = space_.modelInfo(source.ns);
    const auto import = [&](const Text& text) -> std::optional<std::uint16_t> {
      const auto words = splitWords(text);
      if (words.empty()) return std::nullopt;
      const auto ns = space_.namespaceIndex(words[0].text);
      if (!ns || !(*ns == 0 || hasContent(*ns))) {
        error(words[0].place, fmt::format("the model {} is imported, and it isn't there", words[0].text),
              "put its NodeSet2 file or its *.yaml into model/");
        return std::nullopt;
      }
      const auto& there = space_.modelInfo(*ns).version;
      if (words.size() > 1 && !there.empty() && numbersOf(there.view()) < numbersOf(words[1].text))
        error(words[1].place,
              fmt::format("{} is wanted in version {}, and {} is there", words[0].text, words[1].text, there.view()),
              "put the newer one into model/");
      info.required.push_back({String(words[0].text), words.size() > 1 ? String(words[1].text) : String(), {}});
      return *ns;
    };
    for (const Text& text : source.root->textsOf("imports")) import(text);
    for (const Entry& line : imports->entries)
      if (line.value)
        if (const auto ns = import(*line.value)) source.prefixes[line.key.text] = *ns;
    space_.setModelInfo(source.ns, std::move(info));
  }
  bool hasContent(std::uint16_t ns) const {
    for (const Source& source : sources_)
      if (source.ns == ns) return true;
    for (NodeIndex node = space_.rows(); node-- > 0;)
      if (space_.exists(node) && space_.nodeId(node).namespaceIndex() == ns) return true;
    return false;
  }

  void warnOfUnused() {
    for (const auto& [key, type] : draft_.declarations())
      if (!type.isUsed && type.node != kNoNode && isForInstances(type.node))
        findings_.warn(type.entry->key.place, fmt::format("nothing uses the type '{}'", key.second),
                       "make an instance of it, or take it out");
  }

  /// Interfaces, events and references are for others to use.
  bool isForInstances(NodeIndex type) const {
    return !space_.isAbstract(type) && space_.nodeClass(type) != NodeClass::ReferenceType &&
           !space_.isSubtype(type, id::BaseEventType) && !space_.isSubtype(type, id::BaseInterfaceType);
  }

  // Types
  void buildType(TypeDeclaration& type) {
    if (type.state == TypeDeclaration::State::Built) return;
    const Entry& entry = *type.entry;
    if (type.state == TypeDeclaration::State::Building)
      return error(entry.key.place, fmt::format("the type '{}' is made of itself", entry.key.text),
                   "a type can't extend or contain itself, even through others");
    type.state = TypeDeclaration::State::Building;
    const Source* sourceBefore = std::exchange(draft_.source, type.source);
    const auto accessBefore = std::exchange(draft_.access, std::nullopt);
    buildTypeNow(type);
    draft_.access = accessBefore;
    draft_.source = sourceBefore;
    type.state = TypeDeclaration::State::Built;
  }

  void buildTypeNow(TypeDeclaration& type) {
    const Entry& entry = *type.entry;
    const Text* is = entry.value ? &*entry.value : entry.textOf("is");
    const auto dataType = is ? parseDataType(*is, findings_) : std::nullopt;
    if (entry.value && !dataType)
      return error(entry.value->place, "a type is a list of children, or 'enum A | B'",
                   "put its children on the lines below, indented");
    NodeIndex supertype = kNoNode;
    if (const Text* extends = entry.textOf("extends")) {
      supertype = draft_.findType(*extends);
      if (supertype == kNoNode) return;
    }
    if (dataType) {
      const bool fits = supertype == kNoNode || space_.nodeClass(supertype) == NodeClass::DataType;
      if (!fits)
        error(entry.textOf("extends")->place, fmt::format("'{}' is no data type", entry.textOf("extends")->text));
      if (supertype == kNoNode || !fits) supertype = space_.at(usualSupertype(*dataType, entry));
      if (addTypeNode(type, supertype, entry) != kNoNode) fillDataType(draft_, type.node, *dataType, entry);
      return;
    }
    if (supertype == kNoNode) supertype = space_.at(id::BaseObjectType);
    switch (space_.nodeClass(supertype)) {
      case NodeClass::ObjectType: return buildObjectType(type, supertype);
      case NodeClass::VariableType: return buildVariableType(type, supertype, is);
      case NodeClass::ReferenceType: return buildReferenceType(type, supertype);
      default:
        addTypeNode(type, supertype, entry);
        for (const Entry& child : entry.entries)
          if (!isTypeWord(child.key.text))
            error(child.key.place, fmt::format("a type that extends {} has no parts", space_.name(supertype)),
                  "one with fields says: is: struct, and one with values: is: enum");
    }
  }

  static bool isOn(const Entry& entry, std::string_view key) {
    const Text* text = entry.textOf(key);
    return text && (text->text == "yes" || text->text == "true" || text->text == "on");
  }

  NodeIndex addTypeNode(TypeDeclaration& type, NodeIndex supertype, const Entry& entry) {
    NewNode node;
    node.nodeId = draft_.idOf({type.source->ns, "types/" + entry.key.text}, entry);
    node.nodeClass = space_.nodeClass(supertype);
    node.browseName = {type.source->ns, String(entry.key.text)};
    node.isAbstract = isOn(entry, "abstract");
    node.isSymmetric = isOn(entry, "symmetric");
    if (const Entry* inverse = entry.find("inverse"))
      if (const auto texts = draft_.textsOf(*inverse); !texts.empty()) node.inverseName = texts.front();
    if (node.nodeClass == NodeClass::VariableType) {
      node.traits = space_.traits(supertype);
      if (const auto* rare = space_.rare(supertype)) node.arrayDimensions = rare->arrayDimensions;
    }
    type.node = draft_.add(std::move(node), entry.key.place);
    if (type.node == kNoNode) return kNoNode;
    if (entry.find("node-id")) draft_.setLocation(type.node, {type.source->ns, "types/" + entry.key.text});
    space_.refer(supertype, id::HasSubtype, type.node);
    draft_.describe(type.node, entry);
    return type.node;
  }

  void buildObjectType(TypeDeclaration& type, NodeIndex supertype) {
    const Entry& entry = *type.entry;
    if (addTypeNode(type, supertype, entry) == kNoNode) return;
    implement(type.node, entry, true);
    for (const Entry& child : entry.entries)
      if (!isTypeWord(child.key.text) && child.key.text != "alarms") addChildren(type.node, child, true);
    if (const Entry* alarms = entry.find("alarms")) {
      alarms_.add(type.node, *alarms, true);
      alarms_.connectInputs();
    }
    if (entry.find("states") || entry.find("transitions")) {
      if (space_.isSubtype(type.node, id::FiniteStateMachineType))
        addStates(draft_, type.node, entry);
      else
        error(entry.key.place, fmt::format("'{}' is no state machine", entry.key.text),
              "say: extends: FiniteStateMachineType");
    }
    links_.remember(type.node, entry);
  }

  void buildVariableType(TypeDeclaration& type, NodeIndex supertype, const Text* is) {
    const Entry& entry = *type.entry;
    if (addTypeNode(type, supertype, entry) == kNoNode) return;
    if (is) {
      const Spec spec = parseSpec(*is, findings_, site_.units);
      auto& traits = space_.traits(type.node);
      if (spec.type) {
        const NodeIndex dataType = draft_.findType(*spec.type);
        if (dataType == kNoNode) return;
        if (space_.nodeClass(dataType) != NodeClass::DataType)
          return error(spec.type->place, fmt::format("'{}' is no data type", spec.type->text),
                       "as in: is: Double kPa 0..50");
        traits.dataType = dataType;
        traits.valueRank = -1;
        NewNode shape;
        if (spec.dimensions) setDimensions(shape, *spec.dimensions, spec.type->place, findings_);
        if (spec.dimensions) {
          traits.valueRank = shape.traits.valueRank;
          space_.rareOf(type.node).arrayDimensions = shape.arrayDimensions;
        }
      }
      facts_.add(type.node, spec, entry.key.place, true);
      if (spec.initial) facts_.setInitial(type.node, *spec.initial);
    }
    if (const Entry* starts = entry.find("starts")) facts_.setInitial(type.node, *starts);
    for (const Entry& child : entry.entries)
      if (!isTypeWord(child.key.text) && child.key.text != "starts") addChildren(type.node, child, true);
  }

  void buildReferenceType(TypeDeclaration& type, NodeIndex supertype) {
    addTypeNode(type, supertype, *type.entry);
    for (const Entry& child : type.entry->entries)
      if (!isTypeWord(child.key.text))
        error(child.key.place, "a type of references has no children", "it may say: inverse: isFedBy");
  }

  /// Interfaces (Part 3, 4.9): what they declare becomes the own.
  void implement(NodeIndex node, const Entry& entry, bool inType) {
    for (const Text& name : entry.textsOf("implements")) {
      const NodeIndex interface = draft_.findType(name);
      if (interface == kNoNode) continue;
      if (!space_.isSubtype(interface, id::BaseInterfaceType)) {
        error(name.place, fmt::format("'{}' is no interface", name.text), "an interface extends BaseInterfaceType");
        continue;
      }
      space_.refer(node, id::HasInterface, interface);
      space::instantiate(space_, node, interface, draft_.copier(entry.key.place, inType), declarations_);
    }
  }

  // Instances and children
  /// A child as it is being added.
  struct Child {
    const Entry& entry;
    NodeIndex parent;
    std::string name;
    Location here;
    Spec spec;
    const Text* is;  // where the spec stands
    bool inType;
    StandardId rule;  // of a type's child
    const Place& place() const { return entry.key.place; }
  };

  void addTop(const Entry& entry) {
    NodeIndex parent = space_.at(id::ObjectsFolder);
    if (const Text* in = entry.textOf("in")) {
      parent = links_.findNode(*in, kNoNode);
      if (parent == kNoNode) return;
    }
    addChildren(parent, entry, false);
  }

  /// Adds what one entry describes below `parent`: a method, or a node for each name that its key stands for.
  void addChildren(NodeIndex parent, const Entry& entry, bool inType) {
    if (auto signature = parseSignature(entry.key, findings_)) return addMethod(parent, entry, *signature, inType);
    Text key = entry.key;
    const bool isOptional = key.text.ends_with('?');
    if (isOptional) key = key.part(0, key.text.size() - 1);
    const bool isPlaceholder = key.text.starts_with('<') && key.text.ends_with('>');
    if ((isOptional || isPlaceholder) && !inType)
      error(entry.key.place,
            isOptional ? "'?' marks an optional child of a type"
                       : "'<...>' stands for children that instances of a type have",
            "leave it out here");
    if (key.text.starts_with("./")) key = key.part(2);  // a child whose name is a word of the language
    const auto names = expandName(key, findings_);
    const Text* was = entry.textOf("was");
    const Text* nodeId = entry.textOf("node-id");
    if (names.size() > 1 && (was || nodeId))
      error((was ? was : nodeId)->place, "one id can't be that of several nodes", "write a line for each");
    Child child{entry,
                parent,
                std::string(),
                Location(),
                Spec(),
                entry.value ? &*entry.value : entry.textOf("is"),
                inType,
                isPlaceholder
                    ? (isOptional ? id::ModellingRule_OptionalPlaceholder : id::ModellingRule_MandatoryPlaceholder)
                : isOptional ? id::ModellingRule_Optional
                             : id::ModellingRule_Mandatory};
    if (child.is) child.spec = parseSpec(*child.is, findings_, site_.units);
    for (const std::string& name : names) {
      if (name.empty() || name.find('/') != std::string::npos) {
        error(key.place, fmt::format("'{}' can't be a name", name), "names are not empty and have no '/'");
        continue;
      }
      child.name = name;
      child.here = draft_.below(parent, was ? was->text : name);
      addChild(child);
    }
  }

  void addChild(const Child& child) {
    // It holds for the node and what is below, until something below says otherwise.
    const auto accessAbove = draft_.access;
    if (const Entry* access = child.entry.find("access")) {
      if (child.inType)
        error(access->key.place, "a type grants no access: its instances do", "write it with an object");
      else
        draft_.access = readAccess(*access, site_.roles, findings_);
    }
    if (const Entry* extends = child.entry.find("extends"))
      error(extends->key.place, "an instance extends nothing", "write 'is:' before its type");
    const NodeIndex node = findOrAdd(child);
    if (node != kNoNode) {
      if (draft_.access) space_.setPermissions(node, *draft_.access);
      draft_.describe(node, child.entry);
      implement(node, child.entry, child.inType);
      if (const Entry* starts = child.entry.find("starts")) {
        if (hasValue(node))
          facts_.setInitial(node, *starts);
        else
          error(starts->key.place, fmt::format("'{}' is no variable: it has no value", child.here.path));
      }
      for (const Entry& below : child.entry.entries)
        if (!isChildWord(below.key.text)) addChildren(node, below, child.inType);
      if (const Entry* alarms = child.entry.find("alarms")) alarms_.add(node, *alarms, child.inType);
      links_.remember(node, child.entry);
    }
    draft_.access = accessAbove;
  }

  bool hasValue(NodeIndex node) const {
    return space_.nodeClass(node) == NodeClass::Variable || space_.nodeClass(node) == NodeClass::VariableType;
  }

  /// The node that a child's entry is about: what the type gave it, adjusted, or a new one.
  NodeIndex findOrAdd(const Child& child) {
    NodeIndex node = draft_.child(child.parent, child.name);
    if (node == kNoNode) node = takeFromType(child);
    if (node != kNoNode && child.spec.type) {
      node = replaceCopy(child, node);
      if (node == kNoNode) return node;
    } else if (node != kNoNode) {
      return adjust(node, child) ? node : kNoNode;
    }
    if (!child.spec.type) {
      if (child.spec.saysMoreThanType()) {
        error(child.is->place, fmt::format("'{}' has no type", child.name),
              fmt::format("as in: {}: Double {}", child.name, child.is->text));
        return kNoNode;
      }
      return addObject(child, space_.at(id::BaseObjectType));
    }
    const NodeIndex type = draft_.findType(*child.spec.type);
    if (type == kNoNode) return kNoNode;
    const bool isOfValues = space_.nodeClass(type) == NodeClass::DataType;
    if (space_.isAbstract(type) && !isOfValues && !child.inType) {
      error(child.spec.type->place, fmt::format("'{}' is abstract: nothing is just that", child.spec.type->text),
            "name a type that extends it");
      return kNoNode;
    }
    if (space_.nodeClass(type) == NodeClass::ObjectType) {
      if (child.spec.unit || child.spec.range || child.spec.initial)
        error(child.is->place, fmt::format("'{}' is an object type: it has no value", child.spec.type->text),
              "leave out what follows it");
      return addObject(child, type);
    }
    if (space_.nodeClass(type) == NodeClass::ReferenceType) {
      error(child.spec.type->place, fmt::format("'{}' is a type of references", child.spec.type->text),
            fmt::format("as in: refers: {{{}: PATH}}", child.spec.type->text));
      return kNoNode;
    }
    return addVariable(child, type);
  }

  /// An optional child of the type comes into being by being named; one of a type above becomes the own.
  NodeIndex takeFromType(const Child& child) {
    if (child.spec.type) return kNoNode;
    for (NodeIndex type = child.inType ? space_.supertype(child.parent) : space_.typeDefinition(child.parent);
         type != kNoNode; type = space_.supertype(type))
      if (const NodeIndex model = declarationIn(type, child); model != kNoNode) {
        space::copyDeclaration(space_, child.parent, model, draft_.copier(child.place(), child.inType));
        return draft_.child(child.parent, child.name);
      }
    return kNoNode;
  }
  /// What a type, or an interface that it implements, declares under the child's name.
  NodeIndex declarationIn(NodeIndex type, const Child& child) {
    if (const NodeIndex model = draft_.child(type, child.name); model != kNoNode && !isSubtypeOf(child.parent, model))
      return model;
    for (const auto& reference : space_.references(type))
      if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasInterface))
        if (const NodeIndex model = draft_.child(reference.target(), child.name); model != kNoNode) return model;
    return kNoNode;
  }
  /// A type's hierarchical children are its subtypes, too, which are nobody's parts.
  bool isSubtypeOf(NodeIndex parent, NodeIndex model) const {
    const auto nodeClass = space_.nodeClass(model);
    return model == parent || nodeClass == NodeClass::ObjectType || nodeClass == NodeClass::VariableType;
  }

  /// A child that came from the type may become one of a type below; the new one's type, or kNoNode when it may not be.
  NodeIndex replaceCopy(const Child& child, NodeIndex old) {
    const NodeIndex type = draft_.findType(*child.spec.type);
    if (type == kNoNode) return kNoNode;
    if (!draft_.isCopy(old)) {
      const Place* first = draft_.placeOf(old);
      error(child.place(), fmt::format("'{}' is there already", child.name),
            first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
      return kNoNode;
    }
    const bool isVariable = space_.nodeClass(old) == NodeClass::Variable;
    const NodeIndex definition = isVariable && space_.nodeClass(type) == NodeClass::DataType
                                     ? space_.traits(old).dataType
                                     : space_.typeDefinition(old);
    if (definition == kNoNode || !space_.isSubtype(type, definition)) {
      error(child.place(), fmt::format("'{}' is there already", child.name),
            "to change what comes from the type, leave the type's name out: '= value'");
      return kNoNode;
    }
    draft_.removeTree(old);
    return old;
  }

  /// Changes a child that came from the type; false when what is asked for can't be.
  bool adjust(NodeIndex node, const Child& child) {
    const Spec& spec = child.spec;
    if (space_.nodeClass(node) != NodeClass::Variable) {
      const bool saysMore = spec.isNotifier ? spec.words.size() > 1 : spec.saysMoreThanType();
      if (saysMore) error(child.place(), fmt::format("'{}' is no variable: it has no value", child.here.path));
      if (spec.isNotifier) space_.setEventNotifier(node, EventNotifierType::SubscribeToEvents);
      return !saysMore;
    }
    setAccess(space_.traits(node), spec);
    facts_.add(node, spec, child.place(), child.inType);
    if (spec.initial) facts_.setInitial(node, *spec.initial, spec.status ? &*spec.status : nullptr);
    return true;
  }

  static void setAccess(space::ValueTraits& traits, const Spec& spec) {
    if (spec.isWritable) traits.accessLevel |= AccessLevelType::CurrentWrite;
    if (spec.isReadOnly) traits.accessLevel &= static_cast<std::uint16_t>(~AccessLevelType::CurrentWrite);
    if (!spec.isReadable) traits.accessLevel &= static_cast<std::uint16_t>(~AccessLevelType::CurrentRead);
    if (spec.isHistorized) {
      // Who may change it is a matter of permissions.
      traits.accessLevel |= AccessLevelType::HistoryRead | AccessLevelType::HistoryWrite;
      traits.historizing = true;
    }
    if (spec.sampledEvery) traits.minimumSamplingInterval = static_cast<float>(*spec.sampledEvery);
  }

  NodeIndex addNode(const Child& child, NewNode node) {
    node.nodeId = draft_.idOf(child.here, child.entry);
    node.browseName = browseNameOf(child.name);
    const bool isGiven = child.entry.find("node-id") != nullptr;
    const NodeIndex added = draft_.add(std::move(node), child.place());
    if (added == kNoNode) return added;
    if (isGiven) draft_.setLocation(added, child.here);
    draft_.place(child.parent, added, referenceOf(child));
    if (child.inType && !child.spec.isStatic) draft_.setRule(added, child.rule);
    return added;
  }
  /// In the model's namespace, or "di:Lock" in that of an imported one.
  QualifiedName browseNameOf(const std::string& name) const {
    if (const auto colon = name.find(':'); colon != std::string::npos)
      if (const auto known = draft_.source->prefixes.find(name.substr(0, colon));
          known != draft_.source->prefixes.end() && colon + 1 < name.size())
        return {known->second, String(name.substr(colon + 1))};
    return {draft_.source->ns, String(name)};
  }
  /// How a child hangs on its parent: as `by:` says, or as is usual there.
  NodeIndex referenceOf(const Child& child) {
    if (const Text* by = child.entry.textOf("by")) {
      const auto named = draft_.findReferenceType(*by);
      if (named.type != kNoNode && named.isForward && space_.isSubtype(named.type, id::HierarchicalReferences))
        return named.type;
      if (named.type != kNoNode)
        error(by->place, fmt::format("'{}' puts nothing below another", by->text),
              "name a hierarchical reference type, as HasOrderedComponent");
    }
    return space_.at(child.spec.isProperty ? StandardId(id::HasProperty) : componentReference(child));
  }
  StandardId componentReference(const Child& child) const {
    if (child.spec.isAddIn) return id::HasAddIn;
    const NodeIndex parentType = space_.typeDefinition(child.parent);
    const bool inFolder = parentType != kNoNode && space_.isSubtype(parentType, id::FolderType);
    return inFolder ? id::Organizes : id::HasComponent;
  }

  NodeIndex addObject(const Child& child, NodeIndex type) {
    NewNode node;
    node.nodeClass = NodeClass::Object;
    node.eventNotifier = child.spec.isNotifier ? EventNotifierType::SubscribeToEvents : 0;
    const NodeIndex added = addNode(child, std::move(node));
    if (added == kNoNode) return added;
    space_.refer(added, id::HasTypeDefinition, type);
    // A placeholder stands for what isn't there: it has no parts.
    if (!child.name.starts_with('<')) space::instantiate(space_, added, type, copier(child), declarations_);
    if (!child.inType && space_.isSubtype(type, id::FiniteStateMachineType)) machines_.push_back(added);
    return added;
  }
  /// Copies of a type's children; state machines among them get a first state.
  space::AddCopy copier(const Child& child) {
    return [this, &child, copy = draft_.copier(child.place(), child.inType)](NodeIndex parent, NewNode node) {
      const bool mayBeMachine = node.nodeClass == NodeClass::Object && !child.inType;
      const NodeIndex added = copy(parent, std::move(node));
      if (added != kNoNode && mayBeMachine) machines_.push_back(added);
      return added;
    };
  }

  // Variables
  NodeIndex addVariable(const Child& child, NodeIndex type) {
    Spec spec = child.spec;
    const bool isVariableType = space_.nodeClass(type) == NodeClass::VariableType;
    const bool inEventType = child.inType && space_.nodeClass(child.parent) == NodeClass::ObjectType &&
                             space_.isSubtype(child.parent, id::BaseEventType);
    if (inEventType && !isVariableType && !spec.unit && !spec.range) spec.isProperty = true;
    NewNode node;
    node.nodeClass = NodeClass::Variable;
    if (isVariableType) {
      node.traits.dataType = space_.traits(type).dataType;
      node.traits.valueRank = space_.traits(type).valueRank;
      if (const auto* rare = space_.rare(type)) node.arrayDimensions = rare->arrayDimensions;
      if (spec.dataType) node.traits.dataType = dataTypeOf(*spec.dataType, type);
      if (spec.dataType && !spec.dimensions && node.traits.valueRank < -1) node.traits.valueRank = -1;
    } else {
      node.traits.dataType = type;
    }
    setAccess(node.traits, spec);
    if (spec.dimensions) setDimensions(node, *spec.dimensions, spec.type->place, findings_);
    Child placed = child;
    placed.spec.isProperty = spec.isProperty;
    const NodeIndex added = addNode(placed, std::move(node));
    if (added == kNoNode) return added;
    NodeIndex definition = isVariableType ? type : space_.at(usualDefinition(spec, type));
    if (spec.isProperty) definition = space_.at(id::PropertyType);
    space_.refer(added, id::HasTypeDefinition, definition);
    facts_.add(added, spec, child.place(), child.inType);
    if (isVariableType) space::instantiate(space_, added, type, copier(child), declarations_);
    if (spec.initial)
      facts_.setInitial(added, *spec.initial, spec.status ? &*spec.status : nullptr);
    else if (const Variant usual = isVariableType ? space_.value(type).value : Variant(); !usual.isNull())
      space_.setValue(added, DataValue(usual));
    else
      space_.setValue(added, DataValue(Variant(), {}, status::BadWaitingForInitialData));
    return added;
  }

  /// What follows 'of': a data type that the variable type allows.
  NodeIndex dataTypeOf(const Text& name, NodeIndex variableType) {
    const NodeIndex found = draft_.findType(name), allowed = space_.traits(variableType).dataType;
    if (found == kNoNode || allowed == kNoNode || space_.isSubtype(found, allowed))
      return found == kNoNode ? allowed : found;
    error(name.place, fmt::format("a {} holds no {}", space_.name(variableType), name.text),
          fmt::format("it holds {} and what derives from it", space_.name(allowed)));
    return allowed;
  }

  StandardId usualDefinition(const Spec& spec, NodeIndex dataType) const {
    if (spec.range) return id::AnalogItemType;
    if (spec.unit || spec.instrumentRange) return id::AnalogUnitType;
    if (!spec.states.empty())
      return space_.isSubtype(dataType, id::Boolean) ? id::TwoStateDiscreteType : id::MultiStateDiscreteType;
    return spec.precision ? id::DataItemType : id::BaseDataVariableType;
  }

  // Methods
  void addMethod(NodeIndex parent, const Entry& entry, const Signature& signature, bool inType) {
    Text name = signature.name;
    const bool isOptional = name.text.ends_with('?');
    if (isOptional) name = name.part(0, name.text.size() - 1);
    const Text* was = entry.textOf("was");
    const Child child{entry, parent,  name.text, draft_.below(parent, was ? was->text : name.text),
                      {},    nullptr, inType,    isOptional ? id::ModellingRule_Optional : id::ModellingRule_Mandatory};
    if (const NodeIndex there = draft_.child(parent, name.text); there != kNoNode) {
      const Place* first = draft_.placeOf(there);
      return error(name.place, fmt::format("'{}' is there already", name.text),
                   first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
    }
    if (const NodeIndex taken = signature.inputs.empty() && signature.outputs.empty() ? takeFromType(child) : kNoNode;
        taken != kNoNode)
      return describeMethod(taken, entry);
    NewNode node;
    node.nodeClass = NodeClass::Method;
    const NodeIndex method = addNode(child, std::move(node));
    if (method == kNoNode) return;
    describeMethod(method, entry);
    addArguments(method, entry, "InputArguments", signature.inputs, inType);
    addArguments(method, entry, "OutputArguments", signature.outputs, inType);
    for (const Entry& line : entry.entries) {
      const auto isNamed = [&](const Member& member) { return member.name.text == line.key.text; };
      if (!isChildWord(line.key.text) && std::ranges::none_of(signature.inputs, isNamed) &&
          std::ranges::none_of(signature.outputs, isNamed))
        error(line.key.place, fmt::format("the method has no argument '{}'", line.key.text),
              "below a method stand about: and its arguments, each with its description");
    }
  }
  void describeMethod(NodeIndex method, const Entry& entry) {
    if (entry.value && !entry.value->text.empty())
      space_.setDescriptions(method, {LocalizedText(String(entry.value->text))});
    draft_.describe(method, entry);
  }

  void addArguments(NodeIndex method, const Entry& entry, const char* property, const std::vector<Member>& arguments,
                    bool inType) {
    std::vector<ExtensionObject> list;
    for (const auto& one : arguments) {
      const NodeIndex type = draft_.findType(one.type);
      if (type == kNoNode) continue;
      if (space_.nodeClass(type) != NodeClass::DataType) {
        error(one.type.place, fmt::format("'{}' is no data type", one.type.text),
              "arguments are values, such as Double or String");
        continue;
      }
      Argument argument;
      argument.name = one.name.text;
      argument.dataType = space_.nodeId(type);
      argument.valueRank = -1;
      if (one.dimensions) {
        argument.valueRank = 1 + static_cast<std::int32_t>(std::ranges::count(*one.dimensions, ','));
        argument.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(argument.valueRank), 0u);
      }
      if (const Entry* about = entry.find(one.name.text))
        if (const auto texts = draft_.textsOf(*about); !texts.empty()) argument.description = texts.front();
      list.push_back(ExtensionObject::of(argument));
    }
    if (!list.empty())
      draft_.addProperty(method, property, id::Argument, Variant::array(list), entry.key.place, inType);
  }

  void error(const Place& place, std::string message, std::string hint = {}) {
    findings_.error(place, std::move(message), std::move(hint));
  }

  Draft draft_;
  Space& space_;
  Findings& findings_;
  const SiteWords& site_;
  VariableFacts facts_{draft_, site_.units};
  space::Declarations declarations_;  // of types that are built
  std::deque<Source> sources_;
  Links links_{draft_};
  Alarms alarms_{draft_, declarations_};
  std::vector<NodeIndex> machines_;  // objects that may be state machines
};

}  // namespace

std::vector<const Place*> buildEntries(Space& space, const std::vector<Entry>& roots, Findings& findings,
                                       const SiteWords& site) {
  Builder builder(space, findings, site);
  builder.run(roots);
  findings.sort();
  return builder.places();
}

void build(Space& space, const std::vector<ModelFile>& files, Findings& findings, const SiteWords& site) {
  std::vector<Entry> roots;
  for (const auto& file : files) roots.push_back(readYaml(file.name, file.text, findings));
  buildEntries(space, roots, findings, site);
}

}  // namespace zunth::model
