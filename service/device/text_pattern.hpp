#pragma once

#include "core/ua/result.hpp"

#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace zunth::device {

/// How the texts of a device look: "{stable},{kind},{weight}{unit}". What stands in braces is a field, blanks stand for
/// any number of blanks, none included, and all else for itself.
class TextPattern {
 public:
  using Fields = std::map<std::string, std::string, std::less<>>;

  /// BadSyntaxError for braces that don't close, a field without a name, or one that is there twice.
  static ua::Result<TextPattern> parse(std::string_view pattern);
  /// The fields of a text, without blanks around them; nothing when it looks otherwise. A field followed by a letter or
  /// a digit of the pattern, or by another field, ends where a number ends or begins.
  std::optional<Fields> read(std::string_view text) const;
  const std::vector<std::string>& fields() const { return names_; }

 private:
  struct Part {
    enum class Kind { Field, Blanks, Literal } kind;
    std::string text;  // of a literal; the name of a field
  };
  std::vector<Part> parts_;
  std::vector<std::string> names_;
};

/// "\r\n", "\x02" and the like as the octets they stand for. BadSyntaxError.
ua::Result<std::string> unescaped(std::string_view text);
/// Octets as a person can read them: "\r\n" for what can't be seen.
std::string escaped(std::string_view octets);

}  // namespace zunth::device
