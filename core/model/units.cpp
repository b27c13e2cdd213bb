#include "core/model/units.hpp"

#include "core/ua/text.hpp"

#include <algorithm>
#include <iterator>

namespace zunth::model {
namespace {

struct Unit {
  const char* code;
  std::int32_t unitId;
  const char* symbol;
  const char* name;
};
#include "core/model/generated/unit_rows.inc"

std::string lower(std::string_view text) {
  std::string out(text);
  std::ranges::transform(out, out.begin(),
                         [](unsigned char c) { return static_cast<char>(c < 128 ? std::tolower(c) : c); });
  return out;
}

}  // namespace

std::optional<ua::EUInformation> findUnit(std::string_view symbol) {
  const Unit* found = std::ranges::find_if(kUnits, [&](const Unit& u) { return symbol == u.symbol; });
  if (found == std::end(kUnits)) {
    const std::string wanted = lower(symbol);
    found = std::ranges::find_if(kUnits, [&](const Unit& u) { return lower(u.symbol) == wanted; });
  }
  if (found == std::end(kUnits)) return std::nullopt;
  return ua::EUInformation{"http://www.opcfoundation.org/UA/units/un/cefact", found->unitId,
                           ua::LocalizedText(ua::String(symbol)), ua::LocalizedText(found->name)};
}

std::string nearestUnit(std::string_view symbol) {
  std::vector<std::string> symbols;
  for (const Unit& unit : kUnits) symbols.emplace_back(unit.symbol);
  return ua::nearest(symbol, symbols);
}

}  // namespace zunth::model
