#include "core/model/children.hpp"

#include "core/model/access_rules.hpp"

#include <algorithm>

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

}  // namespace

void Children::addChildren(NodeIndex parent, const Entry& entry, bool inType) {
  if (auto signature = parseSignature(entry.key, findings_)) return addMethod(parent, entry, *signature, inType);
  Text key = entry.key;
  const bool isOptional = key.text.ends_with('?');
  if (isOptional) key = key.part(0, key.text.size() - 1);
  const bool isPlaceholder = key.text.starts_with('<') && key.text.ends_with('>');
  if ((isOptional || isPlaceholder) && !inType)
    building_.error(entry.key.place,
                    isOptional ? "'?' marks an optional child of a type"
                               : "'<...>' stands for children that instances of a type have",
                    "leave it out here");
  if (key.text.starts_with("./")) key = key.part(2);  // a child whose name is a word of the language
  const auto names = expandName(key, findings_);
  const Text* was = entry.textOf("was");
  const Text* nodeId = entry.textOf("node-id");
  if (names.size() > 1 && (was || nodeId))
    building_.error((was ? was : nodeId)->place, "one id can't be that of several nodes", "write a line for each");
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
      building_.error(key.place, fmt::format("'{}' can't be a name", name), "names are not empty and have no '/'");
      continue;
    }
    child.name = name;
    child.here = draft_.below(parent, was ? was->text : name);
    addChild(child);
  }
}

void Children::implement(NodeIndex node, const Entry& entry, bool inType) {
  for (const Text& name : entry.textsOf("implements")) {
    const NodeIndex interface = draft_.findType(name);
    if (interface == kNoNode) continue;
    if (!space_.isSubtype(interface, id::BaseInterfaceType)) {
      building_.error(name.place, fmt::format("'{}' is no interface", name.text),
                      "an interface extends BaseInterfaceType");
      continue;
    }
    space_.refer(node, id::HasInterface, interface);
    space::instantiate(space_, node, interface, draft_.copier(entry.key.place, inType), declarations_);
  }
}

void Children::addChild(const Child& child) {
  // It holds for the node and what is below, until something below says otherwise.
  const auto accessAbove = draft_.access;
  if (const Entry* access = child.entry.find("access")) {
    if (child.inType)
      building_.error(access->key.place, "a type grants no access: its instances do", "write it with an object");
    else
      draft_.access = readAccess(*access, site_.roles, findings_);
  }
  if (const Entry* extends = child.entry.find("extends"))
    building_.error(extends->key.place, "an instance extends nothing", "write 'is:' before its type");
  const NodeIndex node = findOrAdd(child);
  if (node != kNoNode) {
    if (draft_.access) space_.setPermissions(node, *draft_.access);
    draft_.describe(node, child.entry);
    implement(node, child.entry, child.inType);
    if (const Entry* starts = child.entry.find("starts")) {
      if (hasValue(node))
        facts_.setInitial(node, *starts);
      else
        building_.error(starts->key.place, fmt::format("'{}' is no variable: it has no value", child.here.path));
    }
    for (const Entry& below : child.entry.entries)
      if (!isChildWord(below.key.text)) addChildren(node, below, child.inType);
    if (const Entry* alarms = child.entry.find("alarms")) alarms_.add(node, *alarms, child.inType);
    links_.remember(node, child.entry);
  }
  draft_.access = accessAbove;
}

bool Children::hasValue(NodeIndex node) const {
  return space_.nodeClass(node) == NodeClass::Variable || space_.nodeClass(node) == NodeClass::VariableType;
}

NodeIndex Children::findOrAdd(const Child& child) {
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
      building_.error(child.is->place, fmt::format("'{}' has no type", child.name),
                      fmt::format("as in: {}: Double {}", child.name, child.is->text));
      return kNoNode;
    }
    return nodes_.addObject(child, space_.at(id::BaseObjectType));
  }
  const NodeIndex type = draft_.findType(*child.spec.type);
  if (type == kNoNode) return kNoNode;
  const bool isOfValues = space_.nodeClass(type) == NodeClass::DataType;
  if (space_.isAbstract(type) && !isOfValues && !child.inType) {
    building_.error(child.spec.type->place,
                    fmt::format("'{}' is abstract: nothing is just that", child.spec.type->text),
                    "name a type that extends it");
    return kNoNode;
  }
  if (space_.nodeClass(type) == NodeClass::ObjectType) {
    if (child.spec.unit || child.spec.range || child.spec.initial)
      building_.error(child.is->place, fmt::format("'{}' is an object type: it has no value", child.spec.type->text),
                      "leave out what follows it");
    return nodes_.addObject(child, type);
  }
  if (space_.nodeClass(type) == NodeClass::ReferenceType) {
    building_.error(child.spec.type->place, fmt::format("'{}' is a type of references", child.spec.type->text),
                    fmt::format("as in: refers: {{{}: PATH}}", child.spec.type->text));
    return kNoNode;
  }
  return nodes_.addVariable(child, type);
}

NodeIndex Children::takeFromType(const Child& child) {
  if (child.spec.type) return kNoNode;
  for (NodeIndex type = child.inType ? space_.supertype(child.parent) : space_.typeDefinition(child.parent);
       type != kNoNode; type = space_.supertype(type))
    if (const NodeIndex model = declarationIn(type, child); model != kNoNode) {
      space::copyDeclaration(space_, child.parent, model, draft_.copier(child.place(), child.inType));
      return draft_.child(child.parent, child.name);
    }
  return kNoNode;
}

NodeIndex Children::declarationIn(NodeIndex type, const Child& child) {
  if (const NodeIndex model = draft_.child(type, child.name); model != kNoNode && !isSubtypeOf(child.parent, model))
    return model;
  for (const auto& reference : space_.references(type))
    if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasInterface))
      if (const NodeIndex model = draft_.child(reference.target(), child.name); model != kNoNode) return model;
  return kNoNode;
}

bool Children::isSubtypeOf(NodeIndex parent, NodeIndex model) const {
  const auto nodeClass = space_.nodeClass(model);
  return model == parent || nodeClass == NodeClass::ObjectType || nodeClass == NodeClass::VariableType;
}

NodeIndex Children::replaceCopy(const Child& child, NodeIndex old) {
  const NodeIndex type = draft_.findType(*child.spec.type);
  if (type == kNoNode) return kNoNode;
  if (!draft_.isCopy(old)) {
    const Place* first = draft_.placeOf(old);
    building_.error(child.place(), fmt::format("'{}' is there already", child.name),
                    first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
    return kNoNode;
  }
  const bool isVariable = space_.nodeClass(old) == NodeClass::Variable;
  const NodeIndex definition = isVariable && space_.nodeClass(type) == NodeClass::DataType ? space_.traits(old).dataType
                                                                                           : space_.typeDefinition(old);
  if (definition == kNoNode || !space_.isSubtype(type, definition)) {
    building_.error(child.place(), fmt::format("'{}' is there already", child.name),
                    "to change what comes from the type, leave the type's name out: '= value'");
    return kNoNode;
  }
  draft_.removeTree(old);
  return old;
}

bool Children::adjust(NodeIndex node, const Child& child) {
  const Spec& spec = child.spec;
  if (space_.nodeClass(node) != NodeClass::Variable) {
    const bool saysMore = spec.isNotifier ? spec.words.size() > 1 : spec.saysMoreThanType();
    if (saysMore) building_.error(child.place(), fmt::format("'{}' is no variable: it has no value", child.here.path));
    if (spec.isNotifier) space_.setEventNotifier(node, EventNotifierType::SubscribeToEvents);
    return !saysMore;
  }
  nodes_.setAccess(space_.traits(node), spec);
  facts_.add(node, spec, child.place(), child.inType);
  if (spec.initial) facts_.setInitial(node, *spec.initial, spec.status ? &*spec.status : nullptr);
  return true;
}

void Children::addMethod(NodeIndex parent, const Entry& entry, const Signature& signature, bool inType) {
  Text name = signature.name;
  const bool isOptional = name.text.ends_with('?');
  if (isOptional) name = name.part(0, name.text.size() - 1);
  const Text* was = entry.textOf("was");
  const Child child{entry, parent,  name.text, draft_.below(parent, was ? was->text : name.text),
                    {},    nullptr, inType,    isOptional ? id::ModellingRule_Optional : id::ModellingRule_Mandatory};
  if (const NodeIndex there = draft_.child(parent, name.text); there != kNoNode) {
    const Place* first = draft_.placeOf(there);
    return building_.error(name.place, fmt::format("'{}' is there already", name.text),
                           first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
  }
  if (const NodeIndex taken = signature.inputs.empty() && signature.outputs.empty() ? takeFromType(child) : kNoNode;
      taken != kNoNode)
    return describeMethod(taken, entry);
  NewNode node;
  node.nodeClass = NodeClass::Method;
  const NodeIndex method = nodes_.addNode(child, std::move(node));
  if (method == kNoNode) return;
  describeMethod(method, entry);
  addArguments(method, entry, "InputArguments", signature.inputs, inType);
  addArguments(method, entry, "OutputArguments", signature.outputs, inType);
  for (const Entry& line : entry.entries) {
    const auto isNamed = [&](const Member& member) { return member.name.text == line.key.text; };
    if (!isChildWord(line.key.text) && std::ranges::none_of(signature.inputs, isNamed) &&
        std::ranges::none_of(signature.outputs, isNamed))
      building_.error(line.key.place, fmt::format("the method has no argument '{}'", line.key.text),
                      "below a method stand about: and its arguments, each with its description");
  }
}

void Children::describeMethod(NodeIndex method, const Entry& entry) {
  if (entry.value && !entry.value->text.empty())
    space_.setDescriptions(method, {LocalizedText(String(entry.value->text))});
  draft_.describe(method, entry);
}

void Children::addArguments(NodeIndex method, const Entry& entry, const char* property,
                            const std::vector<Member>& arguments, bool inType) {
  std::vector<ExtensionObject> list;
  for (const auto& one : arguments) {
    const NodeIndex type = draft_.findType(one.type);
    if (type == kNoNode) continue;
    if (space_.nodeClass(type) != NodeClass::DataType) {
      building_.error(one.type.place, fmt::format("'{}' is no data type", one.type.text),
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
  if (!list.empty()) draft_.addProperty(method, property, id::Argument, Variant::array(list), entry.key.place, inType);
}

}  // namespace zunth::model
