#include "core/space/content_filter.hpp"

#include "core/space/browse.hpp"
#include "core/space/node_set.hpp"
#include "core/ua/footprint.hpp"
#include "core/ua/index_range.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <cmath>
#include <compare>

namespace zunth::space {

using namespace ua;

namespace {

struct Arity {
  std::size_t least, most;
};

/// How many operands an operator takes (Part 4, tables 119 and 120); nothing for one that isn't known.
std::optional<Arity> arityOf(FilterOperator op) {
  switch (op) {
    case FilterOperator::IsNull:
    case FilterOperator::Not:
    case FilterOperator::InView:
    case FilterOperator::OfType: return Arity{1, 1};
    case FilterOperator::Equals:
    case FilterOperator::GreaterThan:
    case FilterOperator::LessThan:
    case FilterOperator::GreaterThanOrEqual:
    case FilterOperator::LessThanOrEqual:
    case FilterOperator::Like:
    case FilterOperator::And:
    case FilterOperator::Or:
    case FilterOperator::Cast:
    case FilterOperator::BitwiseAnd:
    case FilterOperator::BitwiseOr: return Arity{2, 2};
    case FilterOperator::Between: return Arity{3, 3};
    case FilterOperator::InList: return Arity{2, SIZE_MAX};
    case FilterOperator::RelatedTo: return Arity{3, 6};
  }
  return std::nullopt;
}

/// Part 4, 7.7.3, table 122: the type with the higher rank is the one that both operands become.
int precedence(BuiltInType type) {
  static constexpr BuiltInType order[] = {
      BuiltInType::QualifiedName, BuiltInType::LocalizedText, BuiltInType::NodeId,  BuiltInType::ExpandedNodeId,
      BuiltInType::String,        BuiltInType::Guid,          BuiltInType::Boolean, BuiltInType::Byte,
      BuiltInType::SByte,         BuiltInType::UInt16,        BuiltInType::Int16,   BuiltInType::StatusCode,
      BuiltInType::UInt32,        BuiltInType::Int32,         BuiltInType::UInt64,  BuiltInType::Int64,
      BuiltInType::Float,         BuiltInType::Double};
  const auto* found = std::ranges::find(order, type);
  return found == std::end(order) ? -1 : static_cast<int>(found - order);
}

std::optional<std::string> textOf(const Variant& value) {
  if (const auto* text = value.get<String>()) return text->str();
  if (const auto* text = value.get<LocalizedText>()) return text->text.str();
  if (const auto* name = value.get<QualifiedName>()) return name->name.str();
  return std::nullopt;
}

/// The value as another type, or null when the standard knows no such conversion or it fails.
Variant cast(const Variant& value, BuiltInType to) {
  if (value.type() == to) return value;
  if (value.isArray()) return {};
  if (to == BuiltInType::String) {
    if (const auto text = textOf(value)) return String(*text);
    const bool isText = isNumeric(value.type()) || value.type() == BuiltInType::Boolean ||
                        value.type() == BuiltInType::Guid || value.type() == BuiltInType::NodeId ||
                        value.type() == BuiltInType::ExpandedNodeId || value.type() == BuiltInType::DateTime;
    return isText ? Variant(String(format(value))) : Variant();
  }
  if (const auto* code = value.get<StatusCode>()) {
    if (to == BuiltInType::UInt16) return static_cast<std::uint16_t>(code->value >> 16);
    return isInteger(to) ? cast(code->value, to) : Variant();
  }
  if (to == BuiltInType::StatusCode) {
    double number = 0;
    if (const auto* word = value.get<std::uint16_t>()) return StatusCode{std::uint32_t{*word} << 16};
    return value.toDouble(number) && number >= 0 && number <= UINT32_MAX
               ? Variant(StatusCode{static_cast<std::uint32_t>(number)})
               : Variant();
  }
  if (const auto* id = value.get<NodeId>(); id && to == BuiltInType::ExpandedNodeId) return ExpandedNodeId(*id);
  if (const auto* id = value.get<ExpandedNodeId>(); id && to == BuiltInType::NodeId)
    return id->isLocal() ? Variant(id->nodeId) : Variant();
  if (const auto* name = value.get<QualifiedName>(); name && to == BuiltInType::LocalizedText)
    return LocalizedText(name->name);
  if (isNumeric(to) || to == BuiltInType::Boolean) {
    if (isNumeric(value.type()) || value.type() == BuiltInType::Boolean) {
      auto converted = convert(value, to, true);
      return converted ? *converted : Variant();
    }
  }
  if (const auto* text = value.get<String>()) {
    const bool isParsed = isNumeric(to) || to == BuiltInType::Boolean || to == BuiltInType::Guid ||
                          to == BuiltInType::NodeId || to == BuiltInType::ExpandedNodeId || to == BuiltInType::DateTime;
    if (to == BuiltInType::LocalizedText) return LocalizedText(*text);
    if (to == BuiltInType::QualifiedName) return QualifiedName::parse(text->view());
    if (!isParsed) return {};
    auto parsed = parse(text->view(), to);
    return parsed ? *parsed : Variant();
  }
  return {};
}

/// Makes both of the type with the higher precedence; false when there is no way.
bool unify(Variant& a, Variant& b) {
  if (a.type() == b.type()) return true;
  const int left = precedence(a.type()), right = precedence(b.type());
  if (left < 0 || right < 0) return false;
  if (left < right)
    a = cast(a, b.type());
  else
    b = cast(b, a.type());
  return !a.isNull() && !b.isNull();
}

std::optional<std::partial_ordering> compare(Variant a, Variant b) {
  if (a.isNull() || b.isNull() || !unify(a, b)) return std::nullopt;
  if (a.isArray() || b.isArray())
    return a == b ? std::optional(std::partial_ordering::equivalent) : std::partial_ordering::unordered;
  return visitBuiltIn(a.type(), [&]<class T>(std::type_identity<T>) -> std::optional<std::partial_ordering> {
    if constexpr (std::is_arithmetic_v<T> || std::is_same_v<T, DateTime> || std::is_same_v<T, Guid>)
      return *a.get<T>() <=> *b.get<T>();
    else if constexpr (std::is_same_v<T, StatusCode>)
      return a.get<T>()->value <=> b.get<T>()->value;
    else if constexpr (std::is_base_of_v<Octets, T>)
      return a.get<T>()->view() <=> b.get<T>()->view();
    else if constexpr (std::is_same_v<T, LocalizedText>)
      return a.get<T>()->text.view() <=> b.get<T>()->text.view();
    else
      return a == b ? std::partial_ordering::equivalent : std::partial_ordering::unordered;
  });
}

/// How many characters of the pattern stand for this one character of the text; 0 when they don't.
std::size_t matchOne(char c, std::string_view pattern) {
  if (pattern.empty()) return 0;
  if (pattern[0] == '_') return 1;
  if (pattern[0] == '\\' && pattern.size() > 1) return pattern[1] == c ? 2 : 0;
  constexpr std::size_t kLongestSet = 128;
  const auto end = pattern[0] == '[' ? pattern.substr(0, kLongestSet).find(']', 2) : std::string_view::npos;
  if (end == std::string_view::npos) return pattern[0] == c ? 1 : 0;
  std::string_view set = pattern.substr(1, end - 1);
  const bool negated = set.starts_with('^');
  if (negated) set.remove_prefix(1);
  bool found = false;
  for (std::size_t i = 0; i < set.size(); ++i) {
    const bool isRange = i + 2 < set.size() && set[i + 1] == '-';
    found |= isRange ? c >= set[i] && c <= set[i + 2] : c == set[i];
    if (isRange) i += 2;
  }
  return found != negated ? end + 1 : 0;
}

/// Part 4, 7.7.3, table 121: % any run, _ one character, [abc] [a-z] [^abc] a set, \ takes the next as itself.
/// Goes back to the last % only, so that no pattern takes more than text times pattern steps.
bool isLike(std::string_view text, std::string_view pattern, Steps& steps) {
  std::size_t t = 0, p = 0, afterRun = std::string_view::npos, runEnd = 0;
  while (t < text.size()) {
    if (!steps.take()) return false;
    if (p < pattern.size() && pattern[p] == '%') {
      afterRun = ++p;
      runEnd = t;
    } else if (const auto taken = matchOne(text[t], pattern.substr(std::min(p, pattern.size())))) {
      ++t;
      p += taken;
    } else if (afterRun != std::string_view::npos) {
      p = afterRun;
      t = ++runEnd;
    } else {
      return false;
    }
  }
  return pattern.find_first_not_of('%', p) == std::string_view::npos;
}

/// A truth value, or null for "not known".
std::optional<bool> truth(const Variant& value) {
  if (const auto* held = value.get<bool>()) return *held;
  if (const Variant converted = cast(value, BuiltInType::Boolean); !converted.isNull()) return *converted.get<bool>();
  return std::nullopt;
}

/// Works bit by bit on two integers made alike; null for anything else.
template <class Combine>
Variant bitwise(Variant a, Variant b, Combine combine) {
  if (a.isNull() || b.isNull() || !unify(a, b) || !isInteger(a.type()) || a.isArray() || b.isArray()) return {};
  return visitBuiltIn(a.type(), [&]<class T>(std::type_identity<T>) -> Variant {
    if constexpr (std::is_integral_v<T> && !std::is_same_v<T, bool>)
      return static_cast<T>(combine(*a.get<T>(), *b.get<T>()));
    else
      return {};
  });
}

/// The node that a NodeId or ExpandedNodeId operand names.
NodeIndex nodeOf(const Space& space, const Variant& value) {
  if (const auto* id = value.get<NodeId>()) return space.find(*id);
  if (const auto* id = value.get<ExpandedNodeId>()) return id->isLocal() ? space.find(id->nodeId) : kNoNode;
  return kNoNode;
}

}  // namespace

StatusCode checkOperand(const Space& space, const SimpleAttributeOperand& operand) {
  if (operand.attributeId < 1 || operand.attributeId > static_cast<std::uint32_t>(AttributeId::AccessLevelEx))
    return status::BadAttributeIdInvalid;
  if (!operand.indexRange.empty()) {
    if (operand.attributeId != static_cast<std::uint32_t>(AttributeId::Value)) return status::BadIndexRangeInvalid;
    if (auto range = IndexRange::parse(operand.indexRange.view()); !range) return range.code();
  }
  NodeIndex type = space.at(id::BaseEventType);
  if (!operand.typeDefinitionId.isNull()) {
    type = space.find(operand.typeDefinitionId);
    if (type == kNoNode || !space.isSubtype(type, id::BaseEventType)) return status::BadTypeDefinitionInvalid;
  }
  if (operand.browsePath.empty())
    return operand.attributeId == static_cast<std::uint32_t>(AttributeId::NodeId) ? status::Good
                                                                                  : status::BadAttributeIdInvalid;
  for (const auto& name : operand.browsePath)
    if (name.name.empty()) return status::BadBrowseNameInvalid;
  // The field may belong to the type or to one above it.
  for (; type != kNoNode; type = space.supertype(type)) {
    NodeIndex node = type;
    for (const auto& name : operand.browsePath)
      if (node != kNoNode) node = space.child(node, name);
    if (node != kNoNode) return status::Good;
  }
  return status::BadNodeIdUnknown;
}

StatusCode ContentFilter::read(const Space& space, const ExtensionObject& from, Purpose purpose, std::size_t element,
                               std::size_t elements, Operand& to) {
  if (from.is<ElementOperand>()) {
    auto operand = from.as<ElementOperand>();
    if (!operand) return status::BadFilterOperandInvalid;
    // An element may only lead forward, so that nothing leads in a circle (Part 4, 7.7.4.2).
    if (operand->index <= element || operand->index >= elements) return status::BadFilterOperandInvalid;
    to = *operand;
  } else if (from.is<LiteralOperand>()) {
    auto operand = from.as<LiteralOperand>();
    if (!operand || footprint(operand->value) > kMostLiteral) return status::BadFilterLiteralInvalid;
    to = std::move(*operand);
  } else if (from.is<AttributeOperand>()) {
    if (purpose == Purpose::Event) return status::BadFilterOperandInvalid;
    auto operand = from.as<AttributeOperand>();
    if (!operand) return status::BadFilterOperandInvalid;
    if (operand->attributeId < 1 || operand->attributeId > static_cast<std::uint32_t>(AttributeId::AccessLevelEx))
      return status::BadAttributeIdInvalid;
    if (space.find(operand->nodeId) == kNoNode) return status::BadNodeIdUnknown;
    if (auto range = IndexRange::parse(operand->indexRange.view()); !range) return range.code();
    to = std::move(*operand);
  } else if (from.is<SimpleAttributeOperand>()) {
    auto operand = from.as<SimpleAttributeOperand>();
    if (!operand) return status::BadFilterOperandInvalid;
    if (purpose == Purpose::Query) return status::BadFilterOperandInvalid;
    if (const auto code = checkOperand(space, *operand); code.isBad()) return code;
    to = std::move(*operand);
  } else {
    return status::BadFilterOperandInvalid;
  }
  return status::Good;
}

Result<ContentFilter> ContentFilter::from(const Space& space, const ua::ContentFilter& filter, Purpose purpose,
                                          ContentFilterResult& result) {
  ContentFilter out;
  const std::size_t count = filter.elements.size();
  List<ContentFilterElementResult> results;
  bool isFine = true;
  for (std::size_t i = 0; i < count; ++i) {
    const auto& asked = filter.elements[i];
    ContentFilterElementResult outcome;
    Element element{asked.filterOperator, {}};
    const auto arity = arityOf(asked.filterOperator);
    if (!arity)
      outcome.statusCode = status::BadFilterOperatorInvalid;
    else if (asked.filterOperator == FilterOperator::RelatedTo && purpose == Purpose::Event)
      outcome.statusCode = status::BadFilterOperatorUnsupported;
    else if (asked.filterOperands.size() < arity->least || asked.filterOperands.size() > arity->most)
      outcome.statusCode = status::BadFilterOperandCountMismatch;
    for (const auto& object : asked.filterOperands) {
      const auto code = read(space, object, purpose, i, count, element.operands.emplace_back());
      outcome.operandStatusCodes.push_back(code);
      if (code.isBad() && outcome.statusCode.isGood()) outcome.statusCode = status::BadFilterOperandInvalid;
    }
    isFine &= outcome.statusCode.isGood();
    results.push_back(std::move(outcome));
    out.elements_.push_back(std::move(element));
  }
  if (isFine) return out;
  result.elementResults = std::move(results);
  return Error{status::BadContentFilterInvalid, "the filter asks what can't be asked here", {}};
}

Variant ContentFilter::valueOf(const FilterSubject& subject, const Operand& operand, const Values& values) {
  if (const auto* element = std::get_if<ElementOperand>(&operand)) return values[element->index];
  if (const auto* literal = std::get_if<LiteralOperand>(&operand)) return literal->value;
  if (const auto* attribute = std::get_if<AttributeOperand>(&operand)) return subject.value(*attribute);
  return subject.value(std::get<SimpleAttributeOperand>(operand));
}

bool ContentFilter::isRelated(const Space& space, const FilterSubject& subject, const Element& element,
                              const Values& values, Steps& steps) {
  auto operand = [&](std::size_t i) {
    return i < element.operands.size() ? valueOf(subject, element.operands[i], values) : Variant();
  };
  const NodeIndex type = nodeOf(space, operand(1)), reference = nodeOf(space, operand(2));
  if (type == kNoNode || reference == kNoNode || subject.node() == kNoNode) return false;
  const Variant hops = cast(operand(3), BuiltInType::UInt32);
  const std::uint32_t most = hops.isNull() ? 1 : *hops.get<std::uint32_t>();
  const bool withSubtypes = truth(operand(4)).value_or(true), withReferenceSubtypes = truth(operand(5)).value_or(true);
  // The first operand narrows the nodes to start from: a type that the subject must be of.
  if (const NodeIndex start = nodeOf(space, operand(0)); start != kNoNode)
    if (subject.type() != start && !space.isSubtype(subject.type(), start)) return false;
  NodeSet reached;
  reached.add(subject.node());
  std::size_t next = 0;
  for (std::uint32_t hop = 0; (most == 0 || hop < most) && hop < 50 && next < reached.size(); ++hop)
    for (const std::size_t end = reached.size(); next < end; ++next)
      for (const Reference& r : space.references(reached[next])) {
        if (!steps.take()) return false;
        if (!r.isForward()) continue;
        if (r.type() != reference && !(withReferenceSubtypes && space.isSubtype(r.type(), reference))) continue;
        if (!reached.add(r.target())) continue;
        const NodeIndex of = space.typeDefinition(r.target());
        const bool isLast = most == 0 || hop + 1 == most;
        if (isLast && of != kNoNode && (of == type || (withSubtypes && space.isSubtype(of, type)))) return true;
      }
  return false;
}

Variant ContentFilter::evaluate(const Space& space, const FilterSubject& subject, const Element& element,
                                const Values& values, Steps& steps) {
  auto operand = [&](std::size_t i) {
    steps.take();
    return valueOf(subject, element.operands[i], values);
  };
  auto ordered = [&](std::size_t a, std::size_t b, auto test) -> Variant {
    const auto order = compare(operand(a), operand(b));
    return order && *order != std::partial_ordering::unordered ? Variant(test(*order)) : Variant();
  };
  switch (element.op) {
    case FilterOperator::Equals: {
      const auto order = compare(operand(0), operand(1));
      return order ? Variant(*order == std::partial_ordering::equivalent) : Variant(false);
    }
    case FilterOperator::IsNull: return operand(0).isNull();
    case FilterOperator::GreaterThan: return ordered(0, 1, [](auto o) { return o > 0; });
    case FilterOperator::LessThan: return ordered(0, 1, [](auto o) { return o < 0; });
    case FilterOperator::GreaterThanOrEqual: return ordered(0, 1, [](auto o) { return o >= 0; });
    case FilterOperator::LessThanOrEqual: return ordered(0, 1, [](auto o) { return o <= 0; });
    case FilterOperator::Like: {
      const auto text = textOf(operand(0)), pattern = textOf(operand(1));
      return text && pattern ? Variant(isLike(*text, *pattern, steps)) : Variant(false);
    }
    case FilterOperator::Not: {
      const auto held = truth(operand(0));
      return held ? Variant(!*held) : Variant();
    }
    case FilterOperator::Between: {
      const auto low = ordered(0, 1, [](auto o) { return o >= 0; });
      const auto high = ordered(0, 2, [](auto o) { return o <= 0; });
      return low.isNull() || high.isNull() ? Variant(false) : Variant(*low.get<bool>() && *high.get<bool>());
    }
    case FilterOperator::InList:
      for (std::size_t i = 1; i < element.operands.size() && !steps.isOut(); ++i)
        if (compare(operand(0), operand(i)) == std::partial_ordering::equivalent) return true;
      return false;
    case FilterOperator::And: {
      const auto a = truth(operand(0)), b = truth(operand(1));
      if ((a && !*a) || (b && !*b)) return false;
      return a && b ? Variant(true) : Variant();
    }
    case FilterOperator::Or: {
      const auto a = truth(operand(0)), b = truth(operand(1));
      if ((a && *a) || (b && *b)) return true;
      return a && b ? Variant(false) : Variant();
    }
    case FilterOperator::Cast: {
      const NodeIndex type = nodeOf(space, operand(1));
      return type == kNoNode ? Variant() : cast(operand(0), space.builtInType(type));
    }
    case FilterOperator::InView: {
      const NodeIndex view = nodeOf(space, operand(0));
      return view != kNoNode && subject.node() != kNoNode && isInView(space, subject.node(), view);
    }
    case FilterOperator::OfType: {
      const NodeIndex type = nodeOf(space, operand(0));
      return type != kNoNode && subject.type() != kNoNode && space.isSubtype(subject.type(), type);
    }
    case FilterOperator::RelatedTo: return isRelated(space, subject, element, values, steps);
    case FilterOperator::BitwiseAnd: return bitwise(operand(0), operand(1), [](auto a, auto b) { return a & b; });
    case FilterOperator::BitwiseOr: return bitwise(operand(0), operand(1), [](auto a, auto b) { return a | b; });
  }
  return {};
}

bool ContentFilter::passes(const Space& space, const FilterSubject& subject) const {
  if (elements_.empty()) return true;
  // From the last to the first: an element only refers to later ones, so that each is evaluated once.
  Values values(elements_.size());
  Steps steps(kMostSteps);
  for (std::size_t i = elements_.size(); i-- > 0 && !steps.isOut();)
    values[i] = evaluate(space, subject, elements_[i], values, steps);
  return !steps.isOut() && truth(values.front()).value_or(false);
}

}  // namespace zunth::space
