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

/// What is done to a point's value, or to each element of it, in this order. What is written goes the same way back.
struct Conversion {
  std::vector<std::pair<std::string, ua::Variant>> meanings;  // of texts: "ON" is true
  int bit = -1;                                               // of a whole number, 0 is the lowest; -1 for the whole
  double scale = 1, offset = 0;                               // value = raw * scale + offset
  std::optional<std::pair<double, double>> bounds;            // what lies outside shows as the nearer of both
  std::vector<std::pair<std::int64_t, std::string>> names;    // of numbers; the value is then text
  bool isInverted = false;                                    // a Boolean, the other way round
  double countsOf = 0;  // of a number of so many ms since 1970; the value is a time
  /// A change that is not larger is none, in the value's unit: it doesn't leave the device's side.
  double deadband = 0;

  bool isScaled() const { return scale != 1 || offset != 0; }
  bool isIdentity() const {
    return meanings.empty() && bit < 0 && !isScaled() && !bounds && names.empty() && !isInverted && countsOf == 0;
  }
  /// The type of what comes out when this goes in; Variant for what shows only by the value.
  ua::BuiltInType typeFrom(ua::BuiltInType raw) const;

  /// The value to show; each step is added to the trace. BadOutOfRange for a number without a name or a text without a
  /// meaning, BadTypeMismatch for what is no number where one is needed.
  ua::Result<ua::Variant> toNode(ua::Variant raw, Trace* trace = nullptr) const;
  /// What to write to the point; of a single bit, that bit. BadOutOfRange where it can't hold it, BadTypeMismatch for
  /// what is of another kind.
  ua::Result<ua::Variant> toDevice(const ua::Variant& value, ua::BuiltInType raw) const;

 private:
  ua::Result<ua::Variant> elementToNode(ua::Variant raw, Trace* trace) const;
  ua::Result<ua::Variant> elementToDevice(const ua::Variant& value, ua::BuiltInType raw) const;
};

/// Reads the words of a conversion at `at` of the words behind a point's place and type, and moves on. False for a word
/// of another kind; a finding, and nothing, for what isn't sound.
std::optional<bool> readConversion(const std::vector<model::Text>& words, std::size_t& at, Conversion& conversion,
                                   model::Findings& findings);
/// The words that readConversion() knows.
const std::vector<std::string>& conversionWords();
/// Whether the steps fit to each other and to what the device gives; a finding when not.
bool checkConversion(const Conversion& conversion, ua::BuiltInType raw, const model::Text& words,
                     model::Findings& findings, bool isArray = false);

}  // namespace zunth::device
