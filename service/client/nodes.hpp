#pragma once

#include "core/ua/json.hpp"
#include "service/client/node_finder.hpp"

/// Variables as people know them: at the command line, and in the console.
namespace zunth::client {

/// What is needed to show or convert a variable's value.
struct VariableFacts {
  ua::BuiltInType builtIn = ua::BuiltInType::Null;  // of its data type; Variant when several are allowed
  ua::NodeId dataType;
  std::string dataTypeName;
  std::int32_t valueRank = -1;
  std::uint8_t accessLevel = 0;
  std::string unit;
  std::vector<std::pair<std::int64_t, std::string>> enumeration;
  std::shared_ptr<const ua::TypeCatalog> types;    // where the server's own structures are known
  const ua::StructureSchema* structure = nullptr;  // of a structure that the server defines itself
  bool isWritable() const { return accessLevel & ua::AccessLevelType::CurrentWrite; }
};
/// In the order of `variables`; what the server doesn't tell is left at its default.
Awaitable<ua::Result<std::vector<VariableFacts>>> factsOf(SessionPtr session, std::vector<ua::NodeId> variables);
/// The facts of a data type alone, as for a method's argument.
Awaitable<ua::Result<VariableFacts>> factsOfType(SessionPtr session, ua::NodeId dataType, std::int32_t valueRank);

/// The value as people read it: an enumeration by its name, a structure by its fields, everything else as
/// ua::format() has it.
std::string valueText(const ua::Variant& value, const VariableFacts& facts);
/// The value as scripts read it.
ua::Json valueJson(const ua::Variant& value, const VariableFacts& facts);
/// What was typed, as the variable's type: an enumeration's name counts, too, and a structure is typed as JSON.
ua::Result<ua::Variant> typedValue(const std::string& text, const VariableFacts& facts);

}  // namespace zunth::client
