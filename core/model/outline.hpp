#pragma once

#include "core/space/space.hpp"
#include "core/ua/structure_schema.hpp"

#include <string>
#include <vector>

/// Models as people read them: what the text tree, the diagram and the page of documentation show alike.
namespace zunth::model {

/// What is said of a node in a line.
struct NodeFacts {
  std::string name;
  std::string type;    // of a variable "Double[3]", its own type's name, or the states "Closed | Open"
  std::string unit;    // "kPa"
  std::string range;   // "0..50"
  std::string access;  // "writable", "history" and the like; empty for what is only read
  std::string value;   // initial, short; of an alarm its words
  std::string about;
};
/// The `type` of alarms that the language can say.
inline constexpr std::string_view kAlarmType = "alarm";
/// `types` are the site's structures, by which their values are told.
NodeFacts factsOf(const space::Space& space, space::NodeIndex node, const ua::TypeCatalog* types = nullptr);

/// The symbol of a variable's engineering unit; empty when it has none.
std::string unitText(const space::Space& space, space::NodeIndex variable);

/// "seconds UInt16, how Mode[]" of a method's InputArguments or OutputArguments.
std::string argumentsText(const space::Space& space, space::NodeIndex method, const char* property);
/// "wash(seconds UInt16) -> started Boolean".
std::string signatureText(const space::Space& space, space::NodeIndex method);

/// The objects, variables and methods below a node, or the members of a type, as one writes them: without the
/// properties that units, ranges and arguments are told by.
std::vector<space::NodeIndex> membersOf(const space::Space& space, space::NodeIndex node);
/// Types of the model's own namespaces by class, in their order.
std::vector<space::NodeIndex> typesOf(const space::Space& space, ua::NodeClass nodeClass);
/// "Mandatory", "Optional", ...; empty for none.
std::string modellingRule(const space::Space& space, space::NodeIndex node);

struct OutlineOptions {
  int depth = 100;     // levels below the root
  std::string filter;  // names, types or units that contain it, in whatever case, with what they are in; empty for all
};
struct OutlineRow {
  space::NodeIndex node;
  std::string lead;        // the lines that lead to it
  std::size_t hidden = 0;  // nodes below it that the depth cuts off
};
std::vector<OutlineRow> outline(const space::Space& space, space::NodeIndex root, const OutlineOptions& options);

}  // namespace zunth::model
