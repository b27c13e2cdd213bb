#include "core/space/space.hpp"

#include <algorithm>

namespace zunth::space {

using namespace ua;

namespace {

/// The text in the language that is wanted most: the same locale, else another of the same language, else the first.
const LocalizedText& chosen(const std::vector<LocalizedText>& texts, std::span<const String> locales) {
  const auto language = [](std::string_view locale) { return locale.substr(0, locale.find('-')); };
  for (const auto& wanted : locales) {
    for (const auto& text : texts)
      if (text.locale.view() == wanted.view()) return text;
    for (const auto& text : texts)
      if (language(text.locale.view()) == language(wanted.view())) return text;
  }
  return texts.front();
}
bool hasValue(NodeClass c) { return c == NodeClass::Variable || c == NodeClass::VariableType; }

}  // namespace

Space::Space(String applicationUri)
    : namespaces_{String("http://opcfoundation.org/UA/"), std::move(applicationUri)}, table_(ids_) {
  namespacePermissions_ = {permissions_.intern(standardPermissions()), permissions_.intern(usualPermissions())};
}

std::uint16_t Space::addNamespace(const String& uri) {
  if (auto known = namespaceIndex(uri.view())) return *known;
  namespaces_.push_back(uri);
  namespacePermissions_.push_back(permissions_.intern(usualPermissions()));
  return static_cast<std::uint16_t>(namespaces_.size() - 1);
}

std::optional<std::uint16_t> Space::namespaceIndex(std::string_view uri) const {
  for (std::size_t i = 0; i < namespaces_.size(); ++i)
    if (namespaces_[i].view() == uri) return static_cast<std::uint16_t>(i);
  return std::nullopt;
}

const ModelInfo& Space::modelInfo(std::uint16_t ns) const {
  static const ModelInfo none;
  const auto found = models_.find(ns);
  return found == models_.end() ? none : found->second;
}

LocalizedText Space::displayName(NodeIndex node, std::span<const String> locales) const {
  if (flags_[node] & kTranslated)
    if (const auto* own = rare(node); own && !own->displayNames.empty()) return chosen(own->displayNames, locales);
  return LocalizedText(names_.name(displayNames_[node]));
}

LocalizedText Space::description(NodeIndex node, std::span<const String> locales) const {
  const auto* own = rare(node);
  if (!own) return {};
  return own->descriptions.empty() ? own->description : chosen(own->descriptions, locales);
}

void Space::setDisplayNames(NodeIndex node, std::vector<LocalizedText> texts) {
  if (texts.empty()) return;
  const auto before = displayNames_[node];
  displayNames_[node] = names_.intern(texts.front().text.view());
  names_.release(before);
  const bool isPlain = texts.size() == 1 && texts.front().locale.empty();
  flags_[node] = static_cast<std::uint8_t>(isPlain ? flags_[node] & ~kTranslated : flags_[node] | kTranslated);
  if (isPlain) texts.clear();
  if (!texts.empty() || rare(node)) rare_[node].displayNames = std::move(texts);
}

void Space::setDescriptions(NodeIndex node, std::vector<LocalizedText> texts) {
  if (texts.empty()) return;
  auto& own = rare_[node];
  own.description = texts.front().text.empty() ? LocalizedText() : texts.front();
  if (texts.size() == 1) texts.clear();
  own.descriptions = std::move(texts);
}

std::uint8_t Space::eventNotifier(NodeIndex node) const {
  const auto bit = [&](std::uint8_t flag, int value) { return flags_[node] & flag ? value : 0; };
  return static_cast<std::uint8_t>(bit(kSubscribes, EventNotifierType::SubscribeToEvents) |
                                   bit(kEventsRead, EventNotifierType::HistoryRead) |
                                   bit(kEventsWritten, EventNotifierType::HistoryWrite));
}

void Space::setEventNotifier(NodeIndex node, std::uint8_t bits) {
  setFlag(node, kSubscribes, bits & EventNotifierType::SubscribeToEvents);
  setFlag(node, kEventsRead, bits & EventNotifierType::HistoryRead);
  setFlag(node, kEventsWritten, bits & EventNotifierType::HistoryWrite);
}

void Space::setBrowseName(NodeIndex node, const QualifiedName& name) {
  if (name.name.empty()) return;
  const auto before = browseNames_[node];
  browseNames_[node] = names_.intern(name.name.view());
  names_.release(before);
  browseNamespaces_[node] = name.namespaceIndex;
}

void Space::arrange(NodeIndex node, std::span<const Reference> order) {
  const auto run = runs_.of(referenceRuns_[node]);
  if (std::ranges::equal(run, order)) return;
  const auto key = [](const Reference& r) { return std::tuple(r.type(), r.isForward(), r.target()); };
  std::vector<std::pair<Reference, std::size_t>> places;
  for (const auto& reference : order) places.emplace_back(reference, places.size());
  std::ranges::sort(places, {}, [&](const auto& place) { return key(place.first); });
  const auto placeOf = [&](const Reference& reference) {
    const auto found =
        std::ranges::lower_bound(places, key(reference), {}, [&](const auto& p) { return key(p.first); });
    return found != places.end() && found->first == reference ? found->second : places.size();
  };
  std::vector<std::pair<std::size_t, Reference>> sorted;
  for (const auto& reference : run) sorted.emplace_back(placeOf(reference), reference);
  std::ranges::stable_sort(sorted, {}, &std::pair<std::size_t, Reference>::first);
  std::ranges::transform(sorted, run.begin(), &std::pair<std::size_t, Reference>::second);
}

Result<NodeIndex> Space::add(NewNode node) {
  const std::uint32_t hash = NodeIdTable::hashOf(node.nodeId);
  if (table_.find(node.nodeId, hash) != kNoNode)
    return Error{status::BadNodeIdExists, "a node " + node.nodeId.text() + " is there already", {}};
  if (node.browseName.name.empty()) return Error{status::BadBrowseNameInvalid, "a node needs a browse name", {}};
  const NodeIndex row = newRow(std::move(node.nodeId));
  const std::uint16_t ns = ids_[row].namespaceIndex();
  permissionSets_[row] = namespacePermissions_[ns < namespacePermissions_.size() ? ns : 1];
  classes_[row] = node.nodeClass;
  flags_[row] =
      static_cast<std::uint8_t>((node.isAbstract ? kAbstract : 0) | (node.isSymmetric ? kSymmetric : 0) |
                                (node.executable ? 0 : kNotExecutable) | (node.containsNoLoops ? kNoLoops : 0));
  setEventNotifier(row, node.eventNotifier);
  browseNamespaces_[row] = node.browseName.namespaceIndex;
  browseNames_[row] = names_.intern(node.browseName.name.view());
  const bool isNamedAlike =
      node.displayName.text.isNull() || node.displayName.text.view() == node.browseName.name.view();
  displayNames_[row] = isNamedAlike ? names_.retain(browseNames_[row]) : names_.intern(node.displayName.text.view());
  if (!node.displayName.locale.empty()) setDisplayNames(row, {node.displayName});
  if (hasValue(node.nodeClass)) {
    if (freeVariables_.empty()) {
      freeVariables_.push_back(static_cast<std::uint32_t>(variables_.size()));
      variables_.emplace_back();
    }
    payloads_[row] = freeVariables_.back();
    freeVariables_.pop_back();
    auto& variable = variables_[payloads_[row]];
    variable.traits = node.traits;
    variable.cell.write(DataValue(std::move(node.value)));
  }
  if (!node.description.text.isNull()) rare_[row].description = std::move(node.description);
  if (!node.arrayDimensions.empty()) rare_[row].arrayDimensions = std::move(node.arrayDimensions);
  if (!node.inverseName.text.empty()) rare_[row].inverseName = std::move(node.inverseName);
  table_.insert(row, hash);
  ++count_;
  if (ids_[row].is(id::HasSubtype)) hasSubtype_ = row;
  if (ids_[row].is(id::HasTypeDefinition)) hasTypeDefinition_ = row;
  if (ids_[row].is(id::HierarchicalReferences)) hierarchical_ = row;
  if (ids_[row].is(id::HasEventSource)) hasEventSource_ = row;
  return row;
}

NodeIndex Space::newRow(NodeId id) {
  if (freeRows_.empty()) {
    freeRows_.push_back(static_cast<NodeIndex>(ids_.size()));
    ids_.emplace_back();
    classes_.push_back(NodeClass::Unspecified);
    flags_.push_back(0);
    browseNamespaces_.push_back(0);
    browseNames_.push_back(0);
    displayNames_.push_back(0);
    payloads_.push_back(kNoNode);
    referenceRuns_.emplace_back();
    permissionSets_.push_back(0);
  }
  const NodeIndex row = freeRows_.back();
  freeRows_.pop_back();
  ids_[row] = std::move(id);
  payloads_[row] = kNoNode;
  return row;
}

void Space::refer(NodeIndex source, NodeIndex type, NodeIndex target) {
  const Reference forward(type, true, target), inverse(type, false, source);
  // Look on the side with fewer references: a type may have a million instances.
  const bool there = references(source).size() < references(target).size()
                         ? std::ranges::count(references(source), forward) > 0
                         : std::ranges::count(references(target), inverse) > 0;
  if (there) return;
  runs_.add(referenceRuns_[source], forward);
  runs_.add(referenceRuns_[target], inverse);
  // Types other than variable types have no payload of their own: it holds their supertype, which is asked for often.
  if (type == hasSubtype_ && isType(classes_[target]) && !hasValue(classes_[target])) payloads_[target] = source;
}

bool Space::unrefer(NodeIndex source, NodeIndex type, NodeIndex target) {
  if (!runs_.remove(referenceRuns_[source], Reference(type, true, target))) return false;
  runs_.remove(referenceRuns_[target], Reference(type, false, source));
  if (type == hasSubtype_ && isType(classes_[target]) && !hasValue(classes_[target])) payloads_[target] = kNoNode;
  return true;
}

void Space::remove(NodeIndex node) {
  if (removalListener_) removalListener_(node);
  for (const Reference& reference : std::vector<Reference>(references(node).begin(), references(node).end())) {
    const NodeIndex target = reference.target();
    if (target == node) continue;
    runs_.remove(referenceRuns_[target], Reference(reference.type(), !reference.isForward(), node));
    if (reference.isForward() && reference.type() == hasSubtype_ && !hasValue(classes_[target]))
      payloads_[target] = kNoNode;
  }
  runs_.clear(referenceRuns_[node]);
  table_.remove(ids_[node]);
  if (hasValue(classes_[node])) {
    auto& variable = variables_[payloads_[node]];
    variable.cell.write(DataValue(status::BadNodeIdUnknown));
    variable.taps = 0;
    dropSource(variable.source);
    freeVariables_.push_back(payloads_[node]);
  }
  names_.release(browseNames_[node]);
  names_.release(displayNames_[node]);
  classes_[node] = NodeClass::Unspecified;
  ids_[node] = NodeId();
  rare_.erase(node);
  freeRows_.push_back(node);
  --count_;
}

NodeIndex Space::child(NodeIndex parent, const QualifiedName& name, StandardId type) const {
  const NodeIndex wanted = at(type);
  for (const Reference& reference : references(parent)) {
    const NodeIndex target = reference.target();
    if (reference.isForward() && browseNamespaces_[target] == name.namespaceIndex &&
        names_.name(browseNames_[target]).view() == name.name.view() && isSubtype(reference.type(), wanted))
      return target;
  }
  return kNoNode;
}

NodeIndex Space::parent(NodeIndex node) const {
  for (const Reference& reference : references(node))
    if (!reference.isForward() && reference.type() != hasTypeDefinition_ &&
        isSubtype(reference.type(), hierarchical_) && !isSubtype(reference.type(), hasEventSource_))
      return reference.target();
  return kNoNode;
}

std::string Space::path(NodeIndex node) const {
  const NodeIndex objects = at(id::ObjectsFolder);
  std::string out;
  NodeIndex at = node;
  for (int depth = 0; at != kNoNode && at != objects && depth < 100; ++depth) {
    out = names_.name(browseNames_[at]).str() + (out.empty() ? "" : "/") + out;
    at = parent(at);
  }
  return at == objects && !out.empty() ? out : ids_[node].text();
}

NodeIndex Space::typeDefinition(NodeIndex node) const {
  if (classes_[node] != NodeClass::Object && classes_[node] != NodeClass::Variable) return kNoNode;
  for (const Reference& reference : references(node))
    if (reference.isForward() && reference.type() == hasTypeDefinition_) return reference.target();
  return kNoNode;
}

const RareAttributes* Space::rare(NodeIndex node) const {
  const auto found = rare_.find(node);
  return found == rare_.end() ? nullptr : &found->second;
}

NodeIndex Space::supertype(NodeIndex type) const {
  if (!hasValue(classes_[type])) return payloads_[type];
  for (const Reference& reference : references(type))
    if (!reference.isForward() && reference.type() == hasSubtype_) return reference.target();
  return kNoNode;
}

bool Space::isSubtype(NodeIndex type, NodeIndex super) const {
  for (int depth = 0; type != kNoNode && depth < 100; ++depth) {
    if (type == super) return true;
    type = supertype(type);
  }
  return false;
}

BuiltInType Space::builtInType(NodeIndex dataType) const {
  for (int depth = 0; dataType != kNoNode && depth < 100; ++depth) {
    const NodeId& nodeId = ids_[dataType];
    if (nodeId.isNumericIn0()) {
      if (nodeId.is(id::Enumeration)) return BuiltInType::Int32;
      if (nodeId.is(id::Number) || nodeId.is(id::Integer) || nodeId.is(id::UInteger)) return BuiltInType::Variant;
      if (nodeId.numeric() <= id::DiagnosticInfo.value) return static_cast<BuiltInType>(nodeId.numeric());
    }
    dataType = supertype(dataType);
  }
  return BuiltInType::Variant;
}

/// Whether all structures of a value are of this type or a subtype (Part 4, 5.10.4). One without a type is none.
bool Space::holdsOnly(const Variant& structures, NodeIndex dataType) const {
  if (ids_[dataType].is(id::Structure)) return true;
  const auto fits = [&](const ExtensionObject& object) {
    if (object.isNull()) return true;
    const NodeIndex encoding = find(object.encodingId());
    if (encoding == kNoNode) return false;
    if (nodeClass(encoding) == NodeClass::DataType) return isSubtype(encoding, dataType);
    return std::ranges::any_of(references(encoding), [&](const Reference& reference) {
      return !reference.isForward() && ids_[reference.type()].is(id::HasEncoding) &&
             isSubtype(reference.target(), dataType);
    });
  };
  if (const auto* one = structures.get<ExtensionObject>()) return fits(*one);
  return std::ranges::all_of(structures.items<ExtensionObject>(), fits);
}

bool Space::accepts(const ValueTraits& traits, const Variant& value) const {
  const std::int32_t rank = value.valueRank();
  // A ByteString may stand for an array of Byte and the other way round (Part 4, 5.10.4).
  const BuiltInType wanted = traits.dataType == kNoNode ? BuiltInType::Variant : builtInType(traits.dataType);
  if (wanted == BuiltInType::Byte && traits.valueRank == 1 && value.type() == BuiltInType::ByteString && rank == -1)
    return true;
  const bool rankFits = traits.valueRank == -2 || (traits.valueRank == -3 && rank <= 1) ||
                        (traits.valueRank == 0 && rank >= 1) || traits.valueRank == rank;
  if (!rankFits) return false;
  if (wanted == BuiltInType::ExtensionObject && value.type() == wanted) return holdsOnly(value, traits.dataType);
  if (wanted != BuiltInType::Variant) return value.type() == wanted;
  if (traits.dataType == kNoNode || ids_[traits.dataType].is(id::BaseDataType)) return true;
  const NodeIndex own = find(NodeId(static_cast<std::uint32_t>(value.type())));
  return value.type() == BuiltInType::Variant || (own != kNoNode && isSubtype(own, traits.dataType));
}

DataValue Space::value(NodeIndex variable) const {
  const auto& row = variables_[payloads_[variable]];
  return row.source ? sources_[row.source - 1]() : row.cell.read();
}

void Space::setValue(NodeIndex variable, DataValue value) {
  auto& row = variables_[payloads_[variable]];
  const std::uint32_t taps = row.taps;
  if (!taps) return row.cell.write(std::move(value));
  row.cell.write(value);
  const Change change{variable, std::move(value)};
  for (std::size_t tap = 0; tap < taps_.size(); ++tap)
    if (taps >> tap & 1 && taps_[tap]) taps_[tap](std::span(&change, 1));
}

void Space::setValues(std::vector<Change> batch) {
  std::uint32_t taps = 0;
  for (const auto& change : batch) {
    auto& row = variables_[payloads_[change.variable]];
    row.cell.write(change.value);
    taps |= row.taps;
  }
  if (!taps) return;
  std::vector<Change> watched;
  for (std::size_t tap = 0; tap < taps_.size(); ++tap) {
    if (!(taps >> tap & 1) || !taps_[tap]) continue;
    watched.clear();
    // What a tap before this one did may have taken a node away.
    for (const auto& change : batch)
      if (exists(change.variable) && variables_[payloads_[change.variable]].taps >> tap & 1) watched.push_back(change);
    taps_[tap](watched);
  }
}

TapId Space::tap(Tap tap) {
  auto free = std::ranges::find_if(taps_, [](const Tap& each) { return !each; });
  if (free == taps_.end()) {
    if (taps_.size() == 32) throw std::length_error("a space has 32 taps at most");
    free = taps_.emplace(free);
  }
  *free = std::move(tap);
  return static_cast<TapId>(free - taps_.begin());
}

void Space::setSource(NodeIndex variable, std::function<DataValue()> source) {
  auto& row = variables_[payloads_[variable]];
  dropSource(row.source);
  if (freeSources_.empty()) {
    sources_.emplace_back();
    freeSources_.push_back(static_cast<std::uint32_t>(sources_.size()));
  }
  row.source = freeSources_.back();
  freeSources_.pop_back();
  sources_[row.source - 1] = std::move(source);
}

void Space::dropSource(std::uint32_t& source) {
  if (source == 0) return;
  sources_[source - 1] = {};
  freeSources_.push_back(std::exchange(source, 0));
}

}  // namespace zunth::space
