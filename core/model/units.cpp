#include "core/model/units.hpp"

#include "core/ua/letters.hpp"
#include "core/ua/text.hpp"

#include <unordered_map>

namespace zunth::model {

using ua::lower;

namespace {

struct Unit {
  const char* code;
  std::int32_t unitId;
  const char* symbol;
  const char* name;
};
#include "core/model/generated/unit_rows.inc"

/// The rows by symbol, the first of each: as it is written, and in lower case. A table names a unit in each of its
/// lines.
struct Rows {
  Rows() {
    for (const Unit& unit : kUnits) {
      bySymbol.try_emplace(unit.symbol, &unit);
      byLowerCase.try_emplace(lower(unit.symbol), &unit);
    }
  }
  std::unordered_map<std::string_view, const Unit*> bySymbol;
  std::unordered_map<std::string, const Unit*> byLowerCase;
};

const Unit* unitWith(std::string_view symbol) {
  static const Rows rows;
  if (const auto exact = rows.bySymbol.find(symbol); exact != rows.bySymbol.end()) return exact->second;
  const auto alike = rows.byLowerCase.find(lower(symbol));
  return alike == rows.byLowerCase.end() ? nullptr : alike->second;
}

/// Of UNECE's common code, as the standard makes it a number.
std::int32_t unitIdOf(std::string_view code) {
  std::int32_t id = 0;
  for (const char c : code) id = id << 8 | static_cast<unsigned char>(c);
  return id;
}

}  // namespace

const Units& Units::standard() {
  static const Units units;
  return units;
}

std::optional<ua::EUInformation> Units::find(std::string_view symbol) const {
  constexpr const char* kUnece = "http://www.opcfoundation.org/UA/units/un/cefact";
  for (const OwnUnit& own : own_)
    if (own.symbol == symbol)
      return ua::EUInformation{own.code.empty() ? ua::String() : ua::String(kUnece),
                               own.code.empty() ? -1 : unitIdOf(own.code), ua::LocalizedText(ua::String(symbol)),
                               ua::LocalizedText(ua::String(own.name))};
  const Unit* found = unitWith(symbol);
  if (!found) return std::nullopt;
  return ua::EUInformation{kUnece, found->unitId, ua::LocalizedText(ua::String(symbol)),
                           ua::LocalizedText(found->name)};
}

std::string Units::nearest(std::string_view symbol) const {
  std::vector<std::string> symbols;
  for (const Unit& unit : kUnits) symbols.emplace_back(unit.symbol);
  for (const OwnUnit& own : own_) symbols.push_back(own.symbol);
  return ua::nearest(symbol, symbols);
}

}  // namespace zunth::model
