// Content filters and event selection, operator by operator (Part 4, 7.7).
#include "core/monitor/event.hpp"

#include "tests/core/standard_space.hpp"
#include <catch2/catch.hpp>

namespace zunth::filter_test {

using namespace zunth::ua;
using test::standardSpace;
using Op = FilterOperator;

namespace {

ExtensionObject literal(Variant value) { return ExtensionObject::of(LiteralOperand{std::move(value)}); }
ExtensionObject element(std::uint32_t index) { return ExtensionObject::of(ElementOperand{index}); }
SimpleAttributeOperand fieldOperand(const char* name, StandardId type = id::BaseEventType) {
  SimpleAttributeOperand operand;
  operand.typeDefinitionId = type;
  operand.browsePath.push_back({0, name});
  operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
  return operand;
}
ExtensionObject field(const char* name) { return ExtensionObject::of(fieldOperand(name)); }

ContentFilterElement makeElement(Op op, std::vector<ExtensionObject> operands) {
  return {op, List<ExtensionObject>(std::move(operands))};
}

monitor::Event sampleEvent() {
  monitor::Event event(standardSpace().at(id::AuditWriteUpdateEventType), standardSpace().at(id::Server));
  event.set("Severity", std::uint16_t{500})
      .set("Message", LocalizedText("Filter DF1 is clogged"))
      .set("SourceName", String("DF1"))
      .set("SourceNode", NodeId(id::Server))
      .set("Time", DateTime{1000});
  return event;
}

bool passes(std::vector<ContentFilterElement> elements) {
  ContentFilter asked;
  asked.elements = List<ContentFilterElement>(std::move(elements));
  ContentFilterResult result;
  auto filter = space::ContentFilter::from(standardSpace(), asked, space::ContentFilter::Purpose::Event, result);
  REQUIRE(filter);
  return filter->passes(standardSpace(), sampleEvent());
}
bool passes(Op op, std::vector<ExtensionObject> operands) { return passes({makeElement(op, std::move(operands))}); }

}  // namespace

TEST_CASE("each operator of a filter does what the standard says", "[filter][cu:Monitor Complex Event Filter]") {
  const auto severity = field("Severity");
  struct Case {
    const char* what;
    Op op;
    std::vector<ExtensionObject> operands;
    bool expected;
  };
  const auto null = literal(Variant());
  const std::vector<Case> cases{
      {"equal across number types", Op::Equals, {severity, literal(500.0)}, true},
      {"not equal", Op::Equals, {severity, literal(std::int32_t{501})}, false},
      {"text as a number", Op::Equals, {severity, literal("500")}, true},
      {"null equals nothing", Op::Equals, {field("LocalTime"), literal(1.0)}, false},
      {"is null", Op::IsNull, {field("LocalTime")}, true},
      {"is not null", Op::IsNull, {severity}, false},
      {"greater", Op::GreaterThan, {severity, literal(std::uint16_t{499})}, true},
      {"greater, the same", Op::GreaterThan, {severity, literal(std::uint16_t{500})}, false},
      {"less", Op::LessThan, {severity, literal(std::int64_t{501})}, true},
      {"at least", Op::GreaterThanOrEqual, {severity, literal(std::uint16_t{500})}, true},
      {"at most", Op::LessThanOrEqual, {severity, literal(std::uint16_t{499})}, false},
      {"times", Op::LessThan, {field("Time"), literal(DateTime{1001})}, true},
      {"like", Op::Like, {field("Message"), literal("Filter%clogged")}, true},
      {"like, one character", Op::Like, {field("SourceName"), literal("DF_")}, true},
      {"like, a set", Op::Like, {field("SourceName"), literal("DF[0-3]")}, true},
      {"like, not in the set", Op::Like, {field("SourceName"), literal("DF[^0-3]")}, false},
      {"like, an escape", Op::Like, {literal("100%"), literal("100\\%")}, true},
      {"like, an escape that isn't met", Op::Like, {literal("1000"), literal("100\\%")}, false},
      {"like, many runs", Op::Like, {literal(std::string(200, 'a').c_str()), literal("%a%a%a%a%a%a%a%a%b")}, false},
      {"not", Op::Not, {literal(false)}, true},
      {"not of nothing", Op::Not, {null}, false},
      {"between", Op::Between, {severity, literal(std::uint16_t{500}), literal(std::uint16_t{600})}, true},
      {"not between", Op::Between, {severity, literal(std::uint16_t{501}), literal(std::uint16_t{600})}, false},
      {"in a list", Op::InList, {field("SourceName"), literal("DF9"), literal("DF1")}, true},
      {"not in a list", Op::InList, {field("SourceName"), literal("DF9")}, false},
      {"and with nothing", Op::And, {literal(true), null}, false},
      {"or with nothing", Op::Or, {null, literal(true)}, true},
      {"of this type", Op::OfType, {literal(NodeId(id::AuditEventType))}, true},
      {"of another type", Op::OfType, {literal(NodeId(id::SystemEventType))}, false},
      {"bits that are set", Op::BitwiseAnd, {severity, literal(std::uint16_t{0x100})}, true},
      {"bits that aren't", Op::BitwiseAnd, {severity, literal(std::uint16_t{0x200})}, false},
      {"either bits", Op::BitwiseOr, {literal(std::int32_t{0}), literal(std::int32_t{1})}, true},
  };
  for (const auto& c : cases) {
    INFO(c.what);
    CHECK(passes(c.op, c.operands) == c.expected);
  }
}

TEST_CASE("elements of a filter refer to later ones", "[filter]") {
  // Severity > 400 and (SourceName = DF2 or not (Message like %dry%))
  CHECK(passes({makeElement(Op::And, {element(1), element(2)}),
                makeElement(Op::GreaterThan, {field("Severity"), literal(std::uint16_t{400})}),
                makeElement(Op::Or, {element(3), element(4)}),
                makeElement(Op::Equals, {field("SourceName"), literal("DF2")}), makeElement(Op::Not, {element(5)}),
                makeElement(Op::Like, {field("Message"), literal("%dry%")})}));
  CHECK(passes({makeElement(Op::Equals, {element(1), literal(std::uint16_t{500})}),
                makeElement(Op::Cast, {literal("500"), literal(NodeId(id::UInt16))})}));
  // Each element is evaluated once, however often it is referred to.
  std::vector<ContentFilterElement> ladder;
  for (std::uint32_t i = 0; i < 500; ++i) ladder.push_back(makeElement(Op::And, {element(i + 1), element(i + 1)}));
  ladder.push_back(makeElement(Op::Not, {literal(false)}));
  CHECK(passes(ladder));
}

TEST_CASE("a filter that can't be is refused element by element", "[filter]") {
  struct Case {
    const char* what;
    std::vector<ContentFilterElement> elements;
    StatusCode code;
  };
  auto wrongField = fieldOperand("Nonsense");
  const std::vector<Case> cases{
      {"unknown operator", {makeElement(static_cast<Op>(99), {})}, status::BadFilterOperatorInvalid},
      {"too few operands", {makeElement(Op::Equals, {literal(1.0)})}, status::BadFilterOperandCountMismatch},
      {"too many operands",
       {makeElement(Op::Not, {literal(true), literal(true)})},
       status::BadFilterOperandCountMismatch},
      {"an element that leads to itself", {makeElement(Op::Not, {element(0)})}, status::BadFilterOperandInvalid},
      {"an element that isn't there", {makeElement(Op::Not, {element(7)})}, status::BadFilterOperandInvalid},
      {"no operand at all", {makeElement(Op::Not, {ExtensionObject::of(Range{})})}, status::BadFilterOperandInvalid},
      {"a field that isn't there",
       {makeElement(Op::IsNull, {ExtensionObject::of(wrongField)})},
       status::BadFilterOperandInvalid},
      {"a query's operator",
       {makeElement(Op::RelatedTo, {literal(1.0), literal(1.0), literal(1.0)})},
       status::BadFilterOperatorUnsupported},
  };
  for (const auto& c : cases) {
    INFO(c.what);
    ContentFilter asked;
    asked.elements = List<ContentFilterElement>(c.elements);
    ContentFilterResult result;
    const auto filter =
        space::ContentFilter::from(standardSpace(), asked, space::ContentFilter::Purpose::Event, result);
    CHECK(filter.code() == status::BadContentFilterInvalid);
    REQUIRE(result.elementResults.size() == c.elements.size());
    CHECK(result.elementResults[0].statusCode == c.code);
  }
}

TEST_CASE("select clauses take fields of events, null where there is none", "[filter][cu:Monitor Basic Event Filter]") {
  EventFilter asked;
  for (const char* name : {"Severity", "Message", "LocalTime"}) asked.selectClauses.push_back(fieldOperand(name));
  asked.selectClauses.push_back(fieldOperand("AttributeId", id::AuditWriteUpdateEventType));
  asked.selectClauses.push_back(fieldOperand("Severity", id::SystemEventType));
  EventFilterResult result;
  const auto selector = monitor::EventSelector::from(standardSpace(), asked, result);
  REQUIRE(selector);
  CHECK(result == EventFilterResult());
  auto event = sampleEvent();
  event.set("AttributeId", std::uint32_t{13});
  const auto fields = selector->select(standardSpace(), event);
  REQUIRE(fields.size() == 5);
  CHECK(fields[0] == Variant(std::uint16_t{500}));
  CHECK(fields[1] == Variant(LocalizedText("Filter DF1 is clogged")));
  CHECK(fields[2].isNull());
  CHECK(fields[3] == Variant(13u));
  CHECK(fields[4].isNull());  // the event is of no such type
}

TEST_CASE("select clauses that can't be are told one by one", "[filter]") {
  EventFilter asked;
  asked.selectClauses.push_back(fieldOperand("Severity"));
  asked.selectClauses.push_back(fieldOperand("Nonsense"));
  asked.selectClauses.push_back(fieldOperand("Severity", id::FolderType));
  asked.selectClauses.push_back(fieldOperand("Severity"));
  asked.selectClauses.back().attributeId = 99;
  asked.selectClauses.push_back(fieldOperand("Severity"));
  asked.selectClauses.back().indexRange = "x";
  EventFilterResult result;
  REQUIRE(monitor::EventSelector::from(standardSpace(), asked, result));
  CHECK(result.selectClauseResults == List<StatusCode>{status::Good, status::BadNodeIdUnknown,
                                                       status::BadTypeDefinitionInvalid, status::BadAttributeIdInvalid,
                                                       status::BadIndexRangeInvalid});
  EventFilter nothing;
  CHECK(monitor::EventSelector::from(standardSpace(), nothing, result).code() == status::BadEventFilterInvalid);
}

}  // namespace zunth::filter_test
