#pragma once

#include "core/model/yaml_source.hpp"
#include "core/ua/result.hpp"
#include "service/device/driver.hpp"

#include <optional>
#include <string>
#include <vector>

/// From what a device gives to what a node shows, and back: the same steps for every driver.
namespace zunth::device {

/// A text's words, each with its place in the file.
std::vector<model::Text> wordsOf(const model::Text& text);

/// What is done to a point's value, in this order: a bit is taken out, a number is scaled, or a number is named.
struct Conversion {
  int bit = -1;                                             // of a whole number, 0 is the lowest; -1 for the whole
  double scale = 1, offset = 0;                             // value = raw * scale + offset
  std::vector<std::pair<std::int64_t, std::string>> names;  // of numbers; the value is then text

  bool isScaled() const { return scale != 1 || offset != 0; }
  bool isIdentity() const { return bit < 0 && !isScaled() && names.empty(); }
  /// The type of what comes out when this goes in.
  ua::BuiltInType typeFrom(ua::BuiltInType raw) const;

  /// The value to show; each step is added to the trace. BadOutOfRange for a number without a name, BadTypeMismatch for
  /// what is no number where one is needed.
  ua::Result<ua::Variant> toNode(ua::Variant raw, Trace* trace = nullptr) const;
  /// What to write to the point. BadOutOfRange where it can't hold it, BadTypeMismatch for what is of another kind,
  /// BadNotWritable for a single bit.
  ua::Result<ua::Variant> toDevice(const ua::Variant& value, ua::BuiltInType raw) const;
};

/// Reads "bit N", "scale X", "offset Y" and "named 0=off 1=on" at `at` of the words behind a point's place and type,
/// and moves on. False for a word of another kind; a finding, and nothing, for what isn't sound.
std::optional<bool> readConversion(const std::vector<model::Text>& words, std::size_t& at, Conversion& conversion,
                                   model::Findings& findings);
/// The words that readConversion() knows.
const std::vector<std::string>& conversionWords();
/// Whether the steps fit to each other and to what the device gives; a finding when not.
bool checkConversion(const Conversion& conversion, ua::BuiltInType raw, const model::Text& words,
                     model::Findings& findings);

}  // namespace zunth::device
