#pragma once

#include "core/space/space.hpp"
#include "core/ua/steps.hpp"

#include <variant>

namespace zunth::space {

/// What a filter is asked about: an event, or a node of a query. Operands take their values from it.
class FilterSubject {
 public:
  virtual ~FilterSubject() = default;
  /// Null when it has no such field.
  virtual ua::Variant value(const ua::SimpleAttributeOperand& operand) const = 0;
  virtual ua::Variant value(const ua::AttributeOperand& operand) const = 0;
  /// Of what type it is; for OfType.
  virtual NodeIndex type() const = 0;
  /// The node itself, or an event's source; for InView and RelatedTo.
  virtual NodeIndex node() const = 0;
};

/// A content filter (Part 4, 7.7): elements that refer to each other, evaluated in the standard's three-valued logic,
/// operands of different types converted by its precedence. Like knows % _ [] [^] and \.
class ContentFilter {
 public:
  /// Where a filter stands decides what it may ask: RelatedTo belongs to queries, SimpleAttributeOperand to events.
  enum class Purpose { Event, Query };

  /// Passes everything.
  ContentFilter() = default;
  /// Checks the filter; `result` gets the outcome of each element when one is refused, else stays empty.
  /// BadContentFilterInvalid for the whole; an element: BadFilterOperatorInvalid, BadFilterOperatorUnsupported,
  /// BadFilterOperandCountMismatch, BadFilterOperandInvalid, BadFilterElementInvalid (an element that leads to itself
  /// or back), and its operands' own codes.
  static ua::Result<ContentFilter> from(const Space& space, const ua::ContentFilter& filter, Purpose purpose,
                                        ua::ContentFilterResult& result);

  bool isEmpty() const { return elements_.empty(); }
  /// False, too, when it would take more steps than one subject is worth: long texts compared with long patterns.
  bool passes(const Space& space, const FilterSubject& subject) const;

 private:
  using Operand =
      std::variant<ua::ElementOperand, ua::LiteralOperand, ua::AttributeOperand, ua::SimpleAttributeOperand>;
  struct Element {
    ua::FilterOperator op;
    std::vector<Operand> operands;
  };
  static ua::StatusCode read(const Space& space, const ua::ExtensionObject& from, Purpose purpose, std::size_t element,
                             std::size_t elements, Operand& to);
  using Values = std::vector<ua::Variant>;  // of the elements
  static ua::Variant evaluate(const Space& space, const FilterSubject& subject, const Element& element,
                              const Values& values, ua::Steps& steps);
  static ua::Variant valueOf(const FilterSubject& subject, const Operand& operand, const Values& values);
  static bool isRelated(const Space& space, const FilterSubject& subject, const Element& element, const Values& values,
                        ua::Steps& steps);
  static constexpr std::size_t kMostSteps = 10'000;
  static constexpr std::size_t kMostLiteral = 4'096;  // octets

  std::vector<Element> elements_;
};

/// The attribute that an operand of a select or where clause names, checked: BadAttributeIdInvalid,
/// BadIndexRangeInvalid, BadTypeDefinitionInvalid (no event type), BadNodeIdUnknown (no such field; for types known
/// here).
ua::StatusCode checkOperand(const Space& space, const ua::SimpleAttributeOperand& operand);

}  // namespace zunth::space
