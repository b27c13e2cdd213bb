#include "core/model/draft.hpp"

#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;

namespace {

constexpr std::size_t kManyChildren = 32;  // from here on an index pays

bool isLocale(std::string_view text) {
  const auto language = text.substr(0, text.find('-'));
  return (language.size() == 2 || language.size() == 3) &&
         std::ranges::all_of(language, [](char c) { return c >= 'a' && c <= 'z'; });
}

}  // namespace

Draft::Draft(space::Space& aSpace, Findings& theFindings) : space(aSpace), findings(theFindings) {
  for (NodeIndex node = 0; node < space.rows(); ++node) {
    if (!space.exists(node)) continue;
    const auto nodeClass = space.nodeClass(node);
    if (nodeClass == NodeClass::ObjectType || nodeClass == NodeClass::DataType ||
        nodeClass == NodeClass::VariableType || nodeClass == NodeClass::ReferenceType)
      given_[space.browseName(node).name.str()].push_back(node);
  }
}

// Types

void Draft::declare(const Entry& entry, const Source& from) {
  const auto [at, isNew] = declared_.try_emplace({from.ns, entry.key.text}, TypeDeclaration{&entry, &from});
  if (isNew) return;
  const Place& first = at->second.entry->key.place;
  error(entry.key.place, fmt::format("the type '{}' is declared twice", entry.key.text),
        fmt::format("the first is at {}:{}", first.file, first.line));
}

NodeIndex Draft::typeNamed(const std::string& name, std::uint16_t ns) {
  if (const auto own = declared_.find({ns, name}); own != declared_.end()) {
    own->second.isUsed = true;
    const bool isUnderway = own->second.state == TypeDeclaration::State::Building;
    if (own->second.state != TypeDeclaration::State::Built) buildType(own->second);
    return isUnderway ? kNoNode : own->second.node;
  }
  if (const auto given = given_.find(name); given != given_.end())
    for (const NodeIndex node : given->second)
      if (space.nodeId(node).namespaceIndex() == ns) return node;
  return kNoNode;
}

NodeIndex Draft::findType(const Text& name) {
  if (const auto colon = name.text.find(':'); colon != std::string::npos) {
    const Text prefix = name.part(0, colon), rest = name.part(colon + 1);
    const auto known = source->prefixes.find(prefix.text);
    if (known == source->prefixes.end()) {
      std::vector<std::string> names;
      for (const auto& [each, ns] : source->prefixes) names.push_back(each);
      const std::string near = nearest(prefix.text, names);
      error(prefix.place, fmt::format("'{}' stands for no namespace", prefix.text),
            near.empty() ? fmt::format("say which: imports: {{{}: http://...}}", prefix.text)
                         : fmt::format("did you mean '{}'?", near));
      return kNoNode;
    }
    if (const NodeIndex found = typeNamed(rest.text, known->second); found != kNoNode) return found;
    std::vector<std::string> names;
    for (const auto& [key, type] : declared_)
      if (key.first == known->second) names.push_back(key.second);
    for (const auto& [each, nodes] : given_)
      for (const NodeIndex node : nodes)
        if (space.nodeId(node).namespaceIndex() == known->second) names.push_back(each);
    reportUnknown(rest, "type", names);
    return kNoNode;
  }
  if (declared_.contains({source->ns, name.text})) return typeNamed(name.text, source->ns);
  std::vector<std::uint16_t> others;
  for (std::uint16_t ns = 2; ns < space.namespaces().size(); ++ns) {
    const auto given = given_.find(name.text);
    const bool isGiven = given != given_.end() && std::ranges::any_of(given->second, [&](NodeIndex node) {
                           return space.nodeId(node).namespaceIndex() == ns;
                         });
    if (isGiven || declared_.contains({ns, name.text})) others.push_back(ns);
  }
  if (others.size() > 1) {
    error(name.place, fmt::format("'{}' is a type of several namespaces", name.text),
          fmt::format("say which by a prefix: imports: {{a: {}}}, and then a:{}",
                      space.namespaces()[others.front()].view(), name.text));
    return kNoNode;
  }
  if (!others.empty()) return typeNamed(name.text, others.front());
  if (const NodeIndex standard = typeNamed(name.text, 0); standard != kNoNode) return standard;
  std::vector<std::string> names;
  for (const auto& [key, type] : declared_) names.push_back(key.second);
  for (const auto& [each, nodes] : given_) names.push_back(each);
  reportUnknown(name, "type", names);
  return kNoNode;
}

Draft::NamedReference Draft::findReferenceType(const Text& name) {
  for (const auto& [key, type] : declared_)
    if (key.second == name.text) return {findType(name), true};
  if (given_.contains(name.text)) {
    const NodeIndex found = findType(name);
    if (found == kNoNode || space.nodeClass(found) == NodeClass::ReferenceType) return {found, true};
  }
  std::vector<std::string> names;
  for (NodeIndex node = 0; node < space.rows(); ++node) {
    if (!space.exists(node) || space.nodeClass(node) != NodeClass::ReferenceType) continue;
    names.push_back(space.browseName(node).name.str());
    const auto* rare = space.rare(node);
    if (!rare || rare->inverseName.text.empty()) continue;
    names.push_back(rare->inverseName.text.str());
    if (rare->inverseName.text.view() == name.text) return {node, false};
  }
  reportUnknown(name, "reference type", names);
  return {};
}

void Draft::reportUnknown(const Text& name, const char* what, const std::vector<std::string>& known) {
  const std::string near = nearest(name.text, known);
  error(name.place, fmt::format("there is no {} '{}'", what, name.text),
        near.empty() ? "declare it under 'types:', or take one of the standard"
                     : fmt::format("did you mean '{}'?", near));
}

const TypeCatalog& Draft::catalog() {
  if (!catalog_) catalog_ = space::typeCatalog(space);
  return *catalog_;
}

// Nodes

std::optional<NodeId> Draft::givenId(const Text& text, std::uint16_t ns) {
  auto id = NodeId::parse(text.text.find('=') == std::string::npos ? "i=" + text.text : text.text);
  if (id && id->namespaceIndex() == 0) return id->inNamespace(ns);
  error(text.place, fmt::format("'{}' is no id in the model's namespace", text.text),
        "as in: node-id: 5001, or node-id: s=Some.Name");
  return std::nullopt;
}

NodeId Draft::idOf(const Location& here, const Entry& entry) {
  const Text* given = entry.textOf("node-id");
  if (!given) return NodeId(here.ns, String(here.path));
  return givenId(*given, here.ns).value_or(NodeId(here.ns, String(here.path)));
}

NodeIndex Draft::add(NewNode node, const Place& place) {
  std::optional<Location> path;
  if (!givenIds_.empty())
    if (const auto given = givenIds_.find(node.nodeId); given != givenIds_.end()) {
      path = Location{node.nodeId.namespaceIndex(), std::string(node.nodeId.octets().view())};
      node.nodeId = given->second;
    }
  if (const NodeIndex there = space.find(node.nodeId); there != kNoNode) {
    const Place* first = placeOf(there);
    error(place, fmt::format("'{}' is there already", node.nodeId.inNamespace(0).text().substr(2)),
          first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
    return kNoNode;
  }
  auto added = space.add(std::move(node));
  if (!added) {
    error(place, added.error().cause, added.error().next);
    return kNoNode;
  }
  if (*added >= places_.size()) {
    places_.resize(std::max<std::size_t>(*added + 1, places_.size() * 2));
    copies_.resize(places_.size());
  }
  if (access) space.setPermissions(*added, *access);
  places_[*added] = &place;
  copies_[*added] = false;
  if (path) locations_[*added] = std::move(*path);
  return *added;
}

const Place* Draft::placeOf(NodeIndex node) const { return node < places_.size() ? places_[node] : nullptr; }

void Draft::removeTree(NodeIndex node) {
  std::vector<NodeIndex> below;
  for (const auto& reference : space.references(node))
    if (reference.isForward() && space.isSubtype(reference.type(), id::HasChild)) below.push_back(reference.target());
  for (const NodeIndex each : below)
    if (isCopy(each)) removeTree(each);
  children_.erase(space.parent(node));
  children_.erase(node);
  locations_.erase(node);
  space.remove(node);
}

Location Draft::locationOf(NodeIndex node) const {
  if (const auto own = locations_.find(node); own != locations_.end()) return own->second;
  const NodeId& id = space.nodeId(node);
  return {id.namespaceIndex(), id.type() == IdentifierType::String ? std::string(id.octets().view()) : id.text()};
}

Location Draft::below(NodeIndex parent, const std::string& name) const {
  const Location above = locationOf(parent);
  return above.ns == source->ns ? above.in(name) : Location{source->ns, name};
}

NodeIndex Draft::child(NodeIndex parent, std::string_view name) {
  const auto references = space.references(parent);
  const NodeIndex hierarchical = space.at(id::HierarchicalReferences);
  if (references.size() < kManyChildren) {
    for (const auto& reference : references)
      if (reference.isForward() && space.browseName(reference.target()).name.view() == name &&
          space.isSubtype(reference.type(), hierarchical))
        return reference.target();
    return kNoNode;
  }
  const auto [known, isNew] = children_.try_emplace(parent);
  auto& index = known->second;
  if (isNew)
    for (const auto& reference : references)
      if (reference.isForward() && space.isSubtype(reference.type(), hierarchical))
        index.emplace(space.name(reference.target()), reference.target());
  const auto found = index.find(name);
  return found == index.end() ? kNoNode : found->second;
}

void Draft::place(NodeIndex parent, NodeIndex node, NodeIndex reference) {
  space.refer(parent, reference, node);
  if (const auto index = children_.find(parent); index != children_.end())
    index->second.emplace(space.name(node), node);
}

void Draft::setRule(NodeIndex node, StandardId rule) { space.refer(node, id::HasModellingRule, space.at(rule)); }

NodeIndex Draft::addProperty(NodeIndex owner, const char* name, StandardId dataType, Variant value, const Place& at,
                             bool isDeclaration) {
  const Location here = locationOf(owner).in(name);
  NewNode node;
  node.nodeId = NodeId(here.ns, String(here.path));
  node.nodeClass = NodeClass::Variable;
  node.browseName = {0, name};
  node.traits.dataType = space.at(dataType);
  node.traits.valueRank = value.valueRank();
  if (value.isArray()) node.arrayDimensions = List<std::uint32_t>(1, 0u);
  node.value = std::move(value);
  const NodeIndex added = add(std::move(node), at);
  if (added == kNoNode) return kNoNode;
  place(owner, added, id::HasProperty);
  space.refer(added, id::HasTypeDefinition, space.at(id::PropertyType));
  if (isDeclaration) setRule(added, id::ModellingRule_Mandatory);
  return added;
}

space::AddCopy Draft::copier(const Place& at, bool inType) {
  return [this, &at, inType](NodeIndex parent, NewNode node) {
    const Location here = locationOf(parent).in(node.browseName.name.str());
    node.nodeId = NodeId(here.ns, String(here.path));
    children_.erase(parent);  // the reference is added elsewhere
    const NodeIndex added = add(std::move(node), at);
    if (added == kNoNode) return added;
    copies_[added] = true;
    if (inType) setRule(added, id::ModellingRule_Mandatory);
    return added;
  };
}

std::vector<LocalizedText> Draft::textsOf(const Entry& entry) {
  if (entry.value) return {LocalizedText(String(entry.value->text))};
  std::vector<LocalizedText> texts;
  for (const Entry& line : entry.entries) {
    if (!line.key.text.empty() && !isLocale(line.key.text))
      error(line.key.place, fmt::format("'{}' is no language", line.key.text),
            "write a short code, as en, de or pt-BR");
    else if (!line.value)
      error(line.key.place, "a language is followed by the words in it");
    else
      texts.emplace_back(String(line.value->text), String(line.key.text));
  }
  return texts;
}

void Draft::describe(NodeIndex node, const Entry& entry) {
  if (const Entry* about = entry.find("about")) space.setDescriptions(node, textsOf(*about));
  if (const Entry* called = entry.find("called")) space.setDisplayNames(node, textsOf(*called));
}

}  // namespace zunth::model
