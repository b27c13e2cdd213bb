#pragma once

#include "core/model/units.hpp"
#include "core/model/yaml_source.hpp"

#include <optional>
#include <vector>

/// The small grammars inside a model file's keys and values (docs/model-language.md).
namespace zunth::model {

/// "Double kPa 0..50 = 12 writable": what stands after a name.
struct Spec {
  struct Range {
    double low = 0, high = 0;
    Place place;
  };
  std::optional<Text> type;               // the first word, unless it is '=' or a known word
  std::optional<Text> dataType;           // "AnalogItemType of Float[3]": where the type is a variable type
  std::optional<std::string> dimensions;  // inside [] after the type: "" or "4" or "2,3"
  std::optional<Text> unit;
  std::optional<Range> range, instrumentRange;
  std::optional<Text> precision;       // digits after the point
  std::optional<double> sampledEvery;  // ms
  std::optional<Text> status;          // of the initial value
  std::vector<Text> states;            // "Closed | Open": the texts of 0, 1, ...
  std::optional<Text> initial;         // after '='
  bool isWritable = false, isReadOnly = false, isReadable = true, isHistorized = false;
  bool isProperty = false, isAddIn = false;
  bool isNotifier = false;  // an object whose events clients can hear
  bool isStatic = false;    // of the type alone: instances don't have it
  std::vector<Text> words;  // those after the type, for telling where they don't fit

  bool saysMoreThanType() const { return !words.empty() || initial || !states.empty(); }
};
Spec parseSpec(const Text& text, Findings& findings, const Units& units = Units::standard());

/// One named and typed thing of a list: an argument of a method, a field of a structure.
struct Member {
  Text name;
  Text type;
  std::optional<std::string> dimensions;
  bool isOptional = false;  // "pellets? String", where that is allowed
};

/// "wash(seconds UInt16) -> started Boolean": a method's key.
struct Signature {
  Text name;
  std::vector<Member> inputs, outputs;
};
/// Nothing when the key is no method's, which has brackets.
std::optional<Signature> parseSignature(const Text& key, Findings& findings);

/// "enum Off | Auto = 5", "options Wet | Hot", "struct { grams UInt32, why? String }", "union { ... }": a data type.
struct DataTypeWords {
  enum class Kind { Enumeration, Options, Structure, Union };
  struct Value {
    Text name;
    std::int64_t number = 0;  // of an enumeration's member; the bit of an option
  };
  Kind kind = Kind::Enumeration;
  std::vector<Value> values;
  std::vector<Member> fields;
};
/// Nothing when the text begins with none of these words.
std::optional<DataTypeWords> parseDataType(const Text& text, Findings& findings);

/// "0..50"; one that is none, or empty, is a finding.
std::optional<Spec::Range> parseRange(const Text& word, Findings& findings);

std::vector<Text> splitWords(const Text& text);
/// The names of a path ("Hatchery/Intake/DF1").
std::vector<Text> splitPath(const Text& path);

/// "Tank A{1..8}" -> "Tank A1" ... "Tank A8"; "Pump{A,B}" -> "PumpA", "PumpB"; a name without braces is itself.
std::vector<std::string> expandName(const Text& name, Findings& findings);

}  // namespace zunth::model
