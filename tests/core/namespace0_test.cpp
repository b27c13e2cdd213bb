// A walk over all of namespace 0, held against the standard's tables.
#include "core/space/attributes.hpp"

#include <fstream>
#include <map>
#include <set>

#include "tests/core/standard_space.hpp"
#include <catch2/catch.hpp>

namespace zunth::namespace0_test {

using namespace zunth::ua;
using space::kNoNode;
using space::NodeIndex;
using test::standardSpace;

namespace {

struct IdRow {
  std::string name, nodeClass;
};
std::map<std::uint32_t, IdRow> idRows() {
  std::map<std::uint32_t, IdRow> out;
  for (const char* file : {"node_ids.csv", "node_ids_more.csv"}) {
    std::ifstream in(std::string(ZUNTH_SOURCE_DIR "/core/ua/standard/") + file);
    std::string line;
    for (std::getline(in, line); std::getline(in, line);) {
      const auto first = line.find(','), second = line.find(',', first + 1);
      out[static_cast<std::uint32_t>(std::stoul(line.substr(first + 1)))] = {
          line.substr(0, first), line.substr(second + 1, line.find_last_not_of("\r\n") - second)};
    }
  }
  return out;
}

std::string classOf(const space::Space& s, NodeIndex node) {
  static const std::map<NodeClass, std::string> names{
      {NodeClass::Object, "Object"},     {NodeClass::Variable, "Variable"},
      {NodeClass::Method, "Method"},     {NodeClass::ObjectType, "ObjectType"},
      {NodeClass::DataType, "DataType"}, {NodeClass::ReferenceType, "ReferenceType"},
      {NodeClass::View, "View"},         {NodeClass::VariableType, "VariableType"}};
  return names.at(s.nodeClass(node));
}

/// Letters and digits only, in lower case: symbolic names leave the rest of a browse name out, and write "Xml".
std::string letters(std::string_view text) {
  std::string out;
  for (char c : text)
    if (std::isalnum(static_cast<unsigned char>(c))) out += static_cast<char>(std::tolower(c));
  return out;
}

template <class Visit>
void eachNode(Visit&& visit) {
  const auto& s = standardSpace();
  for (NodeIndex node = 0; node < s.rows(); ++node)
    if (s.exists(node)) visit(s, node);
}

}  // namespace

TEST_CASE("every node of namespace 0 has the standard's id, class and name",
          "[namespace0][cu:Base Info Core Structure 2]") {
  const auto rows = idRows();
  std::size_t nodes = 0;
  eachNode([&](const space::Space& s, NodeIndex node) {
    const auto found = rows.find(s.nodeId(node).numeric());
    INFO(s.nodeId(node).text() << " " << s.browseName(node).text());
    REQUIRE(found != rows.end());
    CHECK(found->second.nodeClass == classOf(s, node));
    const std::string symbol = letters(found->second.name), name = letters(s.browseName(node).name.view());
    // Roles, the namespace's own object, folders and placeholders carry more in their symbolic name.
    CHECK((symbol.find(name) != std::string::npos || s.nodeId(node).is(id::OPCUANamespaceMetadata)));
    ++nodes;
  });
  CHECK(nodes > 3000);
}

TEST_CASE("references of namespace 0 lead somewhere, both ways, by a reference type", "[namespace0]") {
  eachNode([](const space::Space& s, NodeIndex node) {
    std::set<std::tuple<NodeIndex, bool, NodeIndex>> seen;
    for (const auto& reference : s.references(node)) {
      INFO(s.nodeId(node).text() << " " << s.browseName(node).text());
      REQUIRE(s.exists(reference.target()));
      CHECK(s.nodeClass(reference.type()) == NodeClass::ReferenceType);
      CHECK_FALSE(s.isAbstract(reference.type()));
      CHECK(seen.emplace(reference.type(), reference.isForward(), reference.target()).second);
      const space::Reference back(reference.type(), !reference.isForward(), node);
      CHECK(std::ranges::count(s.references(reference.target()), back) == 1);
    }
  });
}

TEST_CASE("instances of namespace 0 have a type, types a supertype, all of them a way to the root",
          "[namespace0][cu:Base Info Type Information]") {
  eachNode([](const space::Space& s, NodeIndex node) {
    INFO(s.nodeId(node).text() << " " << s.browseName(node).text());
    const auto nodeClass = s.nodeClass(node);
    const bool isInstance = nodeClass == NodeClass::Object || nodeClass == NodeClass::Variable;
    if (isInstance) {
      const auto type = s.typeDefinition(node);
      REQUIRE(type != kNoNode);
      CHECK(s.nodeClass(type) == (nodeClass == NodeClass::Object ? NodeClass::ObjectType : NodeClass::VariableType));
    }
    const std::set<std::uint32_t> tops{id::References.value, id::BaseDataType.value, id::BaseObjectType.value,
                                       id::BaseVariableType.value};
    if (!isInstance && nodeClass != NodeClass::Method && !tops.contains(s.nodeId(node).numeric()))
      CHECK(s.supertype(node) != kNoNode);
    const bool isAside =  // reached by references of their own
        s.browseName(node).name.view().starts_with("Default ") ||
        (s.typeDefinition(node) != kNoNode && s.nodeId(s.typeDefinition(node)).is(id::ModellingRuleType));
    NodeIndex top = node;
    for (int depth = 0; depth < 50 && s.parent(top) != kNoNode; ++depth) top = s.parent(top);
    // A data set's writers hang on it by a reference that is no part of the hierarchy.
    if (!isAside) CHECK((s.nodeId(top).is(id::RootFolder) || s.nodeId(top).is(StandardId{15222})));
  });
}

TEST_CASE("variables of namespace 0 have a data type, and no two children share a name", "[namespace0]") {
  eachNode([](const space::Space& s, NodeIndex node) {
    INFO(s.nodeId(node).text() << " " << s.browseName(node).text());
    if (s.nodeClass(node) == NodeClass::Variable || s.nodeClass(node) == NodeClass::VariableType)
      CHECK(s.traits(node).dataType != kNoNode);
    std::set<std::string> names;
    for (const auto& reference : s.references(node))
      if (reference.isForward() && s.isSubtype(reference.type(), id::Aggregates))
        CHECK(names.insert(s.browseName(reference.target()).text()).second);
  });
}

TEST_CASE("instances below the Objects folder have what their types ask for", "[namespace0]") {
  const auto& s = standardSpace();
  std::vector<NodeIndex> queue{s.at(id::ObjectsFolder)};
  std::size_t checked = 0;
  for (std::size_t i = 0; i < queue.size(); ++i) {
    const NodeIndex node = queue[i];
    for (auto type = s.typeDefinition(node); type != kNoNode; type = s.supertype(type))
      for (const auto& member : s.references(type)) {
        if (!member.isForward() || !s.isSubtype(member.type(), id::HierarchicalReferences)) continue;
        const auto rules = s.references(member.target());
        const bool isMandatory = std::ranges::any_of(rules, [&](const auto& r) {
          return r.isForward() && s.nodeId(r.target()).is(id::ModellingRule_Mandatory);
        });
        if (!isMandatory) continue;
        INFO(s.path(node) << " lacks " << s.browseName(member.target()).text());
        CHECK(s.child(node, s.browseName(member.target())) != kNoNode);
        ++checked;
      }
    for (const auto& reference : s.references(node))
      if (reference.isForward() && s.isSubtype(reference.type(), id::HierarchicalReferences))
        queue.push_back(reference.target());
  }
  CHECK(checked > 60);
}

TEST_CASE("structures of namespace 0 say how they are encoded", "[namespace0][cu:Base Info Custom Type System]") {
  std::size_t defined = 0;
  eachNode([&](const space::Space& s, NodeIndex node) {
    if (s.nodeClass(node) != NodeClass::DataType) return;
    const auto definition = space::readAttribute(s, node, AttributeId::DataTypeDefinition);
    const auto* object = definition.value.get<ExtensionObject>();
    if (!object) return;
    INFO(s.browseName(node).text());
    if (auto structure = object->as<StructureDefinition>()) {
      for (const auto& field : structure->fields) CHECK(s.find(field.dataType) != kNoNode);
      CHECK_FALSE(structure->baseDataType.isNull());
      ++defined;
    } else {
      CHECK(object->is<EnumDefinition>());
    }
  });
  CHECK(defined > 150);
}

}  // namespace zunth::namespace0_test
