#pragma once

#include "core/ua/generated/structures.hpp"

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace zunth::model {

/// A unit that a site adds to the standard's table.
struct OwnUnit {
  std::string symbol, name;
  std::string code;  // UNECE's common code, up to three characters; empty for a unit that has none
};

/// Engineering units by the symbols that people write (Part 8, 5.6.3).
class Units {
 public:
  /// The standard's table alone.
  static const Units& standard();
  Units() = default;
  explicit Units(std::vector<OwnUnit> own) : own_(std::move(own)) {}

  /// As EUInformation with its UNECE code. Case matters only where two symbols differ by nothing else.
  std::optional<ua::EUInformation> find(std::string_view symbol) const;
  /// The known symbol that is nearest, or empty.
  std::string nearest(std::string_view symbol) const;

 private:
  std::vector<OwnUnit> own_;
};

}  // namespace zunth::model
