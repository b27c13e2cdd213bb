#pragma once

#include "core/model/yaml_source.hpp"

#include <optional>
#include <vector>

/// The small grammars inside a model file's keys and values (docs/model-language.md).
namespace zunth::model {

/// "Double kPa 0..50 = 12 writable": what stands after a name.
struct Spec {
  std::optional<Text> type;               // the first word, unless it is '=' or a known word
  std::optional<std::string> dimensions;  // inside [] after the type: "" or "4" or "2,3"
  std::optional<Text> unit;
  struct Range {
    double low = 0, high = 0;
    Place place;
  };
  std::optional<Range> range;
  std::optional<Text> initial;  // after '='
  bool isWritable = false;
  bool isProperty = false;
};
Spec parseSpec(const Text& text, Findings& findings);

/// "wash(seconds UInt16) -> started Boolean": a method's key.
struct Signature {
  struct Argument {
    Text name;
    Text type;
    std::optional<std::string> dimensions;
  };
  Text name;
  std::vector<Argument> inputs, outputs;
};
/// Nothing when the key is no method's, which has brackets.
std::optional<Signature> parseSignature(const Text& key, Findings& findings);

/// "Tank A{1..8}" -> "Tank A1" ... "Tank A8"; "Pump{A,B}" -> "PumpA", "PumpB"; a name without braces is itself.
std::vector<std::string> expandName(const Text& name, Findings& findings);

}  // namespace zunth::model
