#include "service/console/node_pages.hpp"

#include "core/space/attributes.hpp"
#include "core/space/conditions.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/json.hpp"
#include "core/ua/structure_codec.hpp"
#include "core/ua/text.hpp"
#include "service/client/attribute_texts.hpp"

#include <algorithm>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Rights;
using space::Space;

namespace {

constexpr TextLimits kShownText{4'000, 10};
constexpr std::size_t kMostReferences = 1'000;

/// The way that events go is not where things are, though the standard calls both hierarchical.
bool leadsDown(const Space& space, const space::Reference& reference) {
  if (!reference.isForward()) return false;
  const auto type = reference.type();
  return space.isSubtype(type, id::HierarchicalReferences) && !space.isSubtype(type, id::HasEventSource) &&
         !space.isSubtype(type, id::AlarmGroupMember) && !space.isSubtype(type, id::HasAlarmSuppressionGroup);
}

std::string className(NodeClass nodeClass) {
  return client::attributeText(AttributeId::NodeClass, Variant(static_cast<std::int32_t>(nodeClass)));
}

std::uint32_t accessOf(const Space& space, const Rights& rights, NodeIndex node) {
  const auto value = space::readAttribute(space, node, AttributeId::UserAccessLevel, rights);
  const auto* level = value.value.get<std::uint8_t>();
  return level ? *level : 0;
}

/// The value of a property, where it has one.
Variant propertyOf(const Space& space, NodeIndex node, std::string_view name) {
  const NodeIndex property = space.child(node, {0, String(name)}, id::HasProperty);
  if (property == kNoNode || space.nodeClass(property) != NodeClass::Variable) return {};
  return space.value(property).value;
}

std::string unitOf(const Space& space, NodeIndex node) {
  const Variant value = propertyOf(space, node, "EngineeringUnits");
  const auto* object = value.get<ExtensionObject>();
  const auto unit = object ? object->as<EUInformation>() : Result<EUInformation>(status::BadNotFound);
  return unit ? unit->displayName.text.str() : std::string();
}

Json rangeJson(const std::optional<Range>& range) {
  return range ? Json{{"low", range->low}, {"high", range->high}} : Json();
}

/// What the numbers of an enumeration mean, in their order.
Json membersOf(const Space& space, NodeIndex dataType) {
  Json out = Json::array();
  if (dataType == kNoNode || !space.isSubtype(dataType, id::Enumeration)) return out;
  if (const auto* rare = space.rare(dataType))
    if (const auto definition = rare->typeDefinition.as<EnumDefinition>()) {
      for (const auto& field : definition->fields)
        out.push_back({{"value", field.value},
                       {"name", field.displayName.text.empty() ? field.name.str() : field.displayName.text.str()}});
      return out;
    }
  const Variant texts = propertyOf(space, dataType, "EnumStrings"), values = propertyOf(space, dataType, "EnumValues");
  std::int64_t number = 0;
  for (const auto& text : texts.items<LocalizedText>()) out.push_back({{"value", number++}, {"name", text.text.str()}});
  for (const auto& object : values.items<ExtensionObject>())
    if (const auto member = object.as<EnumValueType>())
      out.push_back({{"value", member->value}, {"name", member->displayName.text.str()}});
  return out;
}

std::string nameOf(const Space& space, NodeIndex node) {
  return node == kNoNode ? std::string() : std::string(space.name(node));
}

/// What a page needs to show and take values of a data type.
Json typeFacts(const Space& space, NodeIndex dataType, std::int32_t valueRank) {
  const auto builtIn = dataType == kNoNode ? BuiltInType::Variant : space.builtInType(dataType);
  Json facts{{"dataType", nameOf(space, dataType)},
             {"kind", builtIn == BuiltInType::Boolean                                   ? "boolean"
                      : builtIn >= BuiltInType::SByte && builtIn <= BuiltInType::UInt64 ? "integer"
                      : builtIn == BuiltInType::Float || builtIn == BuiltInType::Double ? "number"
                      : builtIn == BuiltInType::DateTime                                ? "time"
                      : builtIn == BuiltInType::ExtensionObject                         ? "structure"
                                                                                        : "text"},
             {"valueRank", valueRank}};
  if (auto members = membersOf(space, dataType); !members.empty()) facts["members"] = std::move(members);
  return facts;
}

Json variableFacts(const Space& space, const Rights& rights, NodeIndex node) {
  const auto& traits = space.traits(node);
  Json facts = typeFacts(space, traits.dataType, traits.valueRank);
  const auto access = accessOf(space, rights, node);
  facts["unit"] = unitOf(space, node);
  facts["range"] = rangeJson(space::rangeProperty(space, node, "EURange"));
  facts["limits"] = rangeJson(space::rangeProperty(space, node, "InstrumentRange"));
  for (const auto& [property, name] : {std::pair("TrueState", "whenTrue"), std::pair("FalseState", "whenFalse")})
    if (const Variant text = propertyOf(space, node, property); !text.isNull()) facts[name] = format(text, kShownText);
  facts["isReadable"] = (access & AccessLevelType::CurrentRead) != 0;
  facts["isWritable"] = (access & AccessLevelType::CurrentWrite) != 0;
  facts["hasHistory"] = (access & AccessLevelType::HistoryRead) != 0;
  return facts;
}

Json argumentsOf(const Space& space, NodeIndex method, std::string_view property) {
  Json out = Json::array();
  for (const auto& argument : space::methodArguments(space, method, property)) {
    Json one{{"name", argument.name.str()}, {"description", argument.description.text.str()}};
    one.update(typeFacts(space, space.find(argument.dataType), argument.valueRank));
    out.push_back(std::move(one));
  }
  return out;
}

std::string idWithUri(const Space& space, const NodeId& id) {
  ExpandedNodeId expanded;
  expanded.nodeId = id;
  if (id.namespaceIndex() != 0 && id.namespaceIndex() < space.namespaces().size())
    expanded.namespaceUri = space.namespaces()[id.namespaceIndex()];
  return expanded.text();
}

std::string lower(std::string_view text) {
  std::string out(text);
  std::ranges::transform(out, out.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return out;
}

}  // namespace

NodeIndex nodeNamed(const Space& space, const Rights& rights, const std::string& text) {
  NodeIndex node = kNoNode;
  if (text.empty() || text == "Objects") node = space.at(id::ObjectsFolder);
  if (const auto id = ExpandedNodeId::parse(text); node == kNoNode && id) {
    auto local = id->nodeId;
    const auto ns = id->namespaceUri.isNull() ? std::nullopt : space.namespaceIndex(id->namespaceUri.view());
    if (ns) local = local.inNamespace(*ns);
    if (id->namespaceUri.isNull() || ns) node = space.find(local);
  }
  if (node == kNoNode) node = space::nodeAt(space, text);
  return node != kNoNode && space.sees(rights, node) ? node : kNoNode;
}

namespace {

/// A name against a segment with * for any run of characters, in steps that grow with both lengths only.
bool fits(std::string_view name, std::string_view segment) {
  std::size_t n = 0, s = 0, star = std::string_view::npos, from = 0;
  while (n < name.size()) {
    if (s < segment.size() && segment[s] == '*') {
      star = s++;
      from = n;
    } else if (s < segment.size() && segment[s] == name[n]) {
      ++s;
      ++n;
    } else if (star != std::string_view::npos) {
      s = star + 1;
      n = ++from;
    } else {
      return false;
    }
  }
  return segment.find_first_not_of('*', s) == std::string_view::npos;
}

}  // namespace

std::vector<NodeIndex> variablesNamed(const Space& space, const Rights& rights, const std::string& pattern,
                                      std::size_t most) {
  constexpr std::size_t kMostLooked = 200'000;
  if (pattern.find('*') == std::string::npos) {
    const auto node = nodeNamed(space, rights, pattern);
    const bool isOne = node != kNoNode && space.nodeClass(node) == NodeClass::Variable;
    return isOne ? std::vector<NodeIndex>(1, node) : std::vector<NodeIndex>();
  }
  std::vector<NodeIndex> level(1, space.at(id::ObjectsFolder));
  std::size_t looked = 0;
  const auto below = [&](NodeIndex node, auto take) {
    for (const auto& reference : space.references(node)) {
      if (++looked > kMostLooked) return;
      if (leadsDown(space, reference) && space.sees(rights, reference.target())) take(reference.target());
    }
  };
  std::string_view rest = pattern;
  while (!rest.empty() && !level.empty()) {
    const auto slash = std::min(rest.find('/'), rest.size());
    const auto segment = rest.substr(0, slash);
    rest.remove_prefix(std::min(slash + 1, rest.size()));
    std::vector<NodeIndex> next;
    if (segment == "**") {
      std::unordered_set<NodeIndex> seen(level.begin(), level.end());
      next = level;
      for (std::size_t i = 0; i < next.size() && next.size() < kMostLooked; ++i)
        if (!space::isCondition(space, next[i]))
          below(next[i], [&](NodeIndex child) {
            if (seen.insert(child).second) next.push_back(child);
          });
    } else {
      for (const auto node : level)
        below(node, [&](NodeIndex child) {
          if (fits(space.name(child), segment)) next.push_back(child);
        });
    }
    level = std::move(next);
  }
  std::erase_if(level, [&](NodeIndex node) { return space.nodeClass(node) != NodeClass::Variable; });
  if (level.size() > most) level.resize(most);
  return level;
}

Json valueOf(const Space& space, const Rights& rights, NodeIndex variable) {
  const DataValue value = space::readAttribute(space, variable, AttributeId::Value, rights);
  const auto time = value.sourceTimestamp.isNull() ? value.serverTimestamp : value.sourceTimestamp;
  const auto name = space::enumerationName(space, space.traits(variable).dataType, value.value);
  const bool isBad = value.status.isBad();
  return {{"node", space.path(variable)},
          {"id", space.nodeId(variable).text()},
          {"value", isBad ? Json() : Json(toJson(value.value))},
          {"text", isBad  ? std::string()
                   : name ? name->str()
                          : format(value.value, kShownText)},
          {"unit", unitOf(space, variable)},
          {"status", std::string(value.status.name())},
          {"time", time.isNull() ? Json() : Json(time.text())}};
}

Error noNode(const Space& space, const std::string& text) {
  // What comes before the part that is wrong, and what is there instead.
  std::string_view path = text;
  NodeIndex at = space.at(id::ObjectsFolder);
  std::size_t from = 0;
  while (from < path.size()) {
    const auto slash = std::min(path.find('/', from), path.size());
    const NodeIndex next = space::nodeAt(space, path.substr(0, slash));
    if (next == kNoNode) break;
    at = next;
    from = slash + 1;
  }
  std::vector<std::string> names;
  for (const auto& reference : space.references(at))
    if (leadsDown(space, reference)) names.emplace_back(space.name(reference.target()));
  const auto end = std::min(path.find('/', std::min(from, path.size())), path.size());
  const std::string wrong(path.substr(std::min(from, path.size()), end - std::min(from, path.size())));
  const auto near = nearest(wrong, names);
  return {status::BadNodeIdUnknown, fmt::format("there is no node {}", shown(text)),
          near.empty() ? std::string() : std::string(path.substr(0, from)) + near};
}

Json briefOf(const Space& space, const Rights& rights, NodeIndex node) {
  Json brief{{"id", space.nodeId(node).text()},
             {"name", std::string(space.name(node))},
             {"path", space.path(node)},
             {"class", className(space.nodeClass(node))},
             {"type", nameOf(space, space.typeDefinition(node))}};
  const auto text = space.displayName(node, rights.locales()).text.view();
  if (text != space.name(node)) brief["displayName"] = std::string(text);
  const auto references = space.references(node);
  brief["hasChildren"] = std::ranges::any_of(references, [&](const auto& reference) {
    return leadsDown(space, reference) && space.sees(rights, reference.target());
  });
  if (space::isCondition(space, node)) brief["isAlarm"] = true;
  if (space.nodeClass(node) == NodeClass::Variable) brief["facts"] = variableFacts(space, rights, node);
  return brief;
}

Json childrenOf(const Space& space, const Rights& rights, NodeIndex node, std::size_t from, std::size_t most) {
  Json nodes = Json::array(), next;
  const auto references = space.references(node);
  std::size_t at = from;
  for (; at < references.size(); ++at) {
    const auto& reference = references[at];
    if (!leadsDown(space, reference) || !space.sees(rights, reference.target())) continue;
    if (nodes.size() == most) {
      next = at;
      break;
    }
    Json brief = briefOf(space, rights, reference.target());
    if (space.isSubtype(reference.type(), id::HasProperty)) brief["isProperty"] = true;
    nodes.push_back(std::move(brief));
  }
  return {{"nodes", std::move(nodes)}, {"next", std::move(next)}};
}

Json ancestorsOf(const Space& space, const Rights& rights, NodeIndex node) {
  constexpr int kDeepest = 50;
  std::vector<NodeIndex> up;
  for (auto at = space.parent(node); at != kNoNode && up.size() < kDeepest; at = space.parent(at)) up.push_back(at);
  Json out = Json::array();
  for (auto at = up.rbegin(); at != up.rend(); ++at)
    if (space.sees(rights, *at))
      out.push_back(
          {{"id", space.nodeId(*at).text()}, {"name", std::string(space.name(*at))}, {"path", space.path(*at)}});
  return out;
}

Json pageOf(const Space& space, const Rights& rights, NodeIndex node) {
  Json page = briefOf(space, rights, node);
  page["description"] = space.description(node, rights.locales()).text.str();
  page["ancestors"] = ancestorsOf(space, rights, node);
  const NodeId& id = space.nodeId(node);
  page["addresses"] = {{"path", space.path(node)}, {"nodeId", id.text()}, {"nodeIdWithUri", idWithUri(space, id)}};
  if (space.nodeClass(node) == NodeClass::Method) {
    page["inputs"] = argumentsOf(space, node, "InputArguments");
    page["outputs"] = argumentsOf(space, node, "OutputArguments");
    const auto may = space::readAttribute(space, node, AttributeId::UserExecutable, rights);
    const auto* is = may.value.get<bool>();
    page["isCallable"] = is && *is;
  }
  Json attributes = Json::array();
  for (const auto& [attribute, name] : client::attributeNames()) {
    if (attribute == AttributeId::Value) continue;
    const DataValue value = space::readAttribute(space, node, attribute, rights);
    if (value.status == status::BadAttributeIdInvalid) continue;
    std::string text =
        value.status.isBad() ? std::string(value.status.name()) : client::attributeText(attribute, value.value);
    if (attribute == AttributeId::DataType)
      if (const auto* type = value.value.get<NodeId>())
        text = fmt::format("{} ({})", nameOf(space, space.find(*type)), type->text());
    attributes.push_back({{"name", name}, {"text", cut(text, kShownText.octets)}});
  }
  page["attributes"] = std::move(attributes);
  Json references = Json::array();
  bool isCut = false;
  for (const auto& reference : space.references(node)) {
    const auto target = reference.target();
    if (!space.sees(rights, target)) continue;
    if ((isCut = references.size() == kMostReferences)) break;
    references.push_back({{"type", nameOf(space, reference.type())},
                          {"typeId", space.nodeId(reference.type()).text()},
                          {"isForward", reference.isForward()},
                          {"id", space.nodeId(target).text()},
                          {"name", std::string(space.name(target))},
                          {"path", space.path(target)},
                          {"class", className(space.nodeClass(target))}});
  }
  page["references"] = std::move(references);
  page["moreReferences"] = isCut;
  return page;
}

Search::Search(const Space& space, const Rights& rights, std::string_view words, std::size_t most)
    : space_(space), rights_(rights), most_(most) {
  const std::string all = lower(words);
  for (std::size_t at = 0; at < all.size();) {
    const auto end = std::min(all.find(' ', at), all.size());
    if (end > at) words_.push_back(all.substr(at, end - at));
    at = end + 1;
  }
}

bool Search::step(std::size_t rows) {
  const auto end = std::min<std::size_t>(space_.rows(), at_ + rows);
  for (; at_ < end && !words_.empty(); ++at_) {
    if (!space_.exists(at_)) continue;
    // The last word is of the name, or all are of the path or id; a name that has none of them is passed over at once.
    const std::string name = lower(space_.name(at_));
    int rank = -1;
    if (words_.size() == 1 && name == words_[0])
      rank = 0;
    else if (words_.size() == 1 && name.starts_with(words_[0]))
      rank = 1;
    else if (std::ranges::all_of(words_, [&](const auto& word) { return name.find(word) != std::string::npos; }))
      rank = 2;
    if (rank < 0) {
      const bool hasOne =
          std::ranges::any_of(words_, [&](const auto& word) { return name.find(word) != std::string::npos; });
      const auto hasAll = [&](const std::string& text) {
        return std::ranges::all_of(words_, [&](const auto& word) { return text.find(word) != std::string::npos; });
      };
      if (hasOne && hasAll(lower(space_.path(at_))))
        rank = 3;
      else if (words_.size() == 1 && words_[0].find('=') != std::string::npos &&
               lower(space_.nodeId(at_).text()) == words_[0])
        rank = 0;
      else if (const auto type = space_.typeDefinition(at_);
               type != kNoNode && words_.size() == 1 && lower(space_.name(type)) == words_[0])
        rank = 4;
    }
    if (rank < 0 || !space_.sees(rights_, at_)) continue;
    // What is the plant's comes before what is the standard's, and alarms' fields last.
    if (space_.nodeId(at_).namespaceIndex() == 0) rank += 10;
    const auto parent = space_.parent(at_);
    if (parent != kNoNode && space::isCondition(space_, parent)) rank += 20;
    found_.push_back({rank, at_});
    if (found_.size() > 4 * most_) {
      std::ranges::stable_sort(found_, {}, &Found::rank);
      found_.resize(most_);
    }
  }
  return at_ < space_.rows() && !words_.empty();
}

Json Search::take() const {
  auto found = found_;
  std::ranges::stable_sort(found, {}, &Found::rank);
  if (found.size() > most_) found.resize(most_);
  Json out = Json::array();
  for (const auto& one : found)
    if (space_.exists(one.node)) out.push_back(briefOf(space_, rights_, one.node));
  return out;
}

}  // namespace zunth::console
