#pragma once

#include "core/ua/basic_types.hpp"
#include "core/ua/generated/structures.hpp"

#include <functional>
#include <sstream>

#include <pugixml.hpp>

/// What reading and writing NodeSet2 have in common.
namespace zunth::model {

inline constexpr const char* kNodeSetXml = "http://opcfoundation.org/UA/2011/03/UANodeSet.xsd";

/// A node's element and its class.
struct ClassName {
  const char* element;
  ua::NodeClass nodeClass;
};
inline constexpr ClassName kClasses[] = {{"UAObject", ua::NodeClass::Object},
                                         {"UAVariable", ua::NodeClass::Variable},
                                         {"UAMethod", ua::NodeClass::Method},
                                         {"UAObjectType", ua::NodeClass::ObjectType},
                                         {"UAVariableType", ua::NodeClass::VariableType},
                                         {"UAReferenceType", ua::NodeClass::ReferenceType},
                                         {"UADataType", ua::NodeClass::DataType},
                                         {"UAView", ua::NodeClass::View}};

/// What a node's element says beside its attributes in the space: kept as it is, and written again.
inline constexpr const char* kExtraAttributes[] = {"SymbolicName", "ReleaseStatus", "WriteMask"};
inline constexpr const char* kExtraElements[] = {"Category", "Documentation", "Extensions"};

/// Changes the namespace indexes of ids and names, as from a file's to a space's.
class Renumber {
 public:
  explicit Renumber(std::function<std::uint16_t(std::uint16_t)> index) : index_(std::move(index)) {}

  ua::NodeId operator()(const ua::NodeId& id) const { return id.inNamespace(index_(id.namespaceIndex())); }
  ua::QualifiedName operator()(const ua::QualifiedName& name) const { return {index_(name.namespaceIndex), name.name}; }
  /// Those inside a value's XML (Part 6, 5.3.1.10 to 5.3.1.14), whatever structures they stand in.
  void operator()(pugi::xml_node value, int depth = 0) const {
    if (depth > 200) return;  // no value that can be read nests like this
    for (auto element : value.children()) {
      if (element.type() != pugi::node_element) continue;
      const std::string_view name = localName(element);
      if (name == "Identifier" && isAlone(element)) {
        if (const auto id = ua::NodeId::parse(element.text().get());
            id && std::string_view(element.text().get()).starts_with("ns="))
          element.text().set((*this)(*id).text().c_str());
      } else if (name == "NamespaceIndex" && isOfName(element)) {
        element.text().set(static_cast<unsigned>(index_(static_cast<std::uint16_t>(element.text().as_uint()))));
      } else {
        (*this)(element, depth + 1);
      }
    }
  }

 private:
  static std::string_view localName(pugi::xml_node element) {
    const std::string_view name = element.name();
    return name.substr(name.find(':') + 1);  // npos + 1 is 0
  }
  static bool isAlone(pugi::xml_node element) {
    return element.parent().first_child() == element && !element.next_sibling();
  }
  static bool isOfName(pugi::xml_node element) {
    for (const auto sibling : element.parent().children())
      if (const auto name = localName(sibling);
          sibling.type() == pugi::node_element && name != "NamespaceIndex" && name != "Name")
        return false;
    return true;
  }
  std::function<std::uint16_t(std::uint16_t)> index_;
};

inline std::string xmlOf(pugi::xml_node node) {
  std::ostringstream out;
  node.print(out, "", pugi::format_raw);
  return std::move(out).str();
}

}  // namespace zunth::model
