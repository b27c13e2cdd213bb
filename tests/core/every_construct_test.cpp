// Address spaces with everything that a node, a value or a reference can be, made at random: NodeSet2 loses nothing of
// them.
#include "core/model/difference.hpp"
#include "core/model/nodeset.hpp"
#include "core/ua/binary_writer.hpp"

#include <random>

#include "tests/core/model_space.hpp"

namespace zunth::every_construct_test {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

class Chaos {
 public:
  explicit Chaos(unsigned seed) : random_(seed), space_(test::freshSpace()) {
    space_->addNamespace("http://fernhollow.example/one");
    space_->addNamespace("http://fernhollow.example/two?a=1&b=<2>;");
    for (int i = 0; i < 60; ++i) addNode();
    for (int i = 0; i < 60; ++i) addReference();
  }
  std::unique_ptr<Space> take() { return std::move(space_); }

 private:
  unsigned pick(unsigned below) { return static_cast<unsigned>(random_() % below); }
  bool chance(unsigned percent) { return pick(100) < percent; }
  double number() {
    static constexpr double odd[] = {0, -0.0, 1e-320, 1.7976931348623157e308, -1, 0.1, 3e7, 1.0 / 3};
    return chance(40) ? odd[pick(std::size(odd))] : std::uniform_real_distribution<>(-1e6, 1e6)(random_);
  }
  std::string word() {
    static const char* const words[] = {"plain",
                                        "with space",
                                        " leading",
                                        "trailing ",
                                        "<tag/>",
                                        "a&b",
                                        "\"quoted\" 'too'",
                                        "]]>",
                                        "größe",
                                        "日本",
                                        "\xE2\x80\xAE"
                                        "turned",
                                        "a/b",
                                        "line\nbreak",
                                        "tab\there",
                                        "%20;",
                                        "ns=1;s=x",
                                        "0"};
    return words[pick(std::size(words))];
  }
  String text() { return chance(8) ? String() : chance(8) ? String("") : String(word()); }
  LocalizedText localized() {
    if (chance(10)) return {};
    LocalizedText out(String(word()), chance(50) ? String("en") : chance(50) ? String("de-AT") : String());
    return out;
  }
  std::uint16_t ns() { return static_cast<std::uint16_t>(2 + pick(2)); }
  NodeId nodeId(std::uint16_t in) {
    ++count_;
    switch (pick(4)) {
      case 0: return NodeId(in, 1'000'000 + count_);
      case 1: return NodeId(in, String(word() + std::to_string(count_)));
      case 2: return NodeId(in, Guid{count_, static_cast<std::uint16_t>(random_()), 7, {1, 2, 3, 4, 5, 6, 7, 8}});
      default: return NodeId(in, ByteString(&count_, sizeof count_));
    }
  }
  NodeId anyId() {
    if (chance(10)) return {};
    if (chance(20)) return NodeId(0, 58u);
    return made_.empty() ? NodeId(2, 1u) : space_->nodeId(made_[pick(static_cast<unsigned>(made_.size()))]);
  }
  Variant structure() {
    switch (pick(4)) {
      case 0: {
        Range range;
        range.low = number();
        range.high = number();
        return Variant(ExtensionObject::of(range));
      }
      case 1: {
        Argument argument;
        argument.name = text();
        argument.dataType = anyId();
        argument.valueRank = static_cast<std::int32_t>(pick(4)) - 2;
        if (chance(50)) argument.arrayDimensions = List<std::uint32_t>(std::vector<std::uint32_t>{3, 0});
        argument.description = localized();
        return Variant(ExtensionObject::of(argument));
      }
      case 2: return Variant(ExtensionObject());
      default: {
        EUInformation unit;
        unit.namespaceUri = text();
        unit.unitId = static_cast<std::int32_t>(random_());
        unit.displayName = localized();
        unit.description = localized();
        return Variant(ExtensionObject::of(unit));
      }
    }
  }
  template <class T>
  T one() {
    if constexpr (std::is_same_v<T, bool>)
      return chance(50);
    else if constexpr (std::is_floating_point_v<T>) {
      if (chance(5)) return std::numeric_limits<T>::infinity();
      return static_cast<T>(std::clamp(number(), -3e38, 3e38));
    } else if constexpr (std::is_integral_v<T>) {
      return chance(20)   ? std::numeric_limits<T>::max()
             : chance(20) ? std::numeric_limits<T>::min()
                          : static_cast<T>(random_());
    } else if constexpr (std::is_same_v<T, String>)
      return text();
    else if constexpr (std::is_same_v<T, DateTime>)
      return chance(10) ? DateTime() : DateTime{130'000'000'000'000'000 + static_cast<std::int64_t>(random_())};
    else if constexpr (std::is_same_v<T, Guid>)
      return Guid{static_cast<std::uint32_t>(random_()), 1, 2, {9, 8, 7, 6, 5, 4, 3, 2}};
    else if constexpr (std::is_same_v<T, ByteString>)
      return chance(10) ? ByteString() : ByteString(word().data(), 3);
    else if constexpr (std::is_same_v<T, XmlElement>)
      return XmlElement("<a xmlns=\"urn:x\" b=\"&lt;1\">t &amp; u<c/></a>");
    else if constexpr (std::is_same_v<T, NodeId>)
      return anyId();
    else if constexpr (std::is_same_v<T, ExpandedNodeId>)
      return ExpandedNodeId(anyId());
    else if constexpr (std::is_same_v<T, StatusCode>)
      return chance(50) ? StatusCode(status::BadTimeout) : StatusCode(status::Good);
    else if constexpr (std::is_same_v<T, QualifiedName>)
      return {ns(), text()};
    else if constexpr (std::is_same_v<T, LocalizedText>)
      return localized();
    else if constexpr (std::is_same_v<T, ExtensionObject>)
      return *structure().template get<ExtensionObject>();
    else
      return T();
  }
  template <class T>
  Variant valueOf(std::int32_t rank) {
    if (rank < 0) return Variant(one<T>());
    const std::size_t size = rank > 1 ? 6 : pick(4);
    std::vector<T> items;
    for (std::size_t i = 0; i < size; ++i) items.push_back(one<T>());
    return rank > 1 ? Variant::array(items, {2, 3}) : Variant::array(items);
  }
  void addNode() {
    NewNode node;
    const auto in = ns();
    node.nodeId = nodeId(in);
    node.browseName = {chance(80) ? in : static_cast<std::uint16_t>(chance(50) ? 0 : ns()),
                       String(word() + std::to_string(count_))};
    if (chance(60)) node.displayName = localized();
    if (chance(40)) node.description = localized();
    static constexpr NodeClass classes[] = {NodeClass::Object,        NodeClass::Variable,     NodeClass::Variable,
                                            NodeClass::Variable,      NodeClass::Variable,     NodeClass::Method,
                                            NodeClass::ObjectType,    NodeClass::VariableType, NodeClass::DataType,
                                            NodeClass::ReferenceType, NodeClass::View};
    node.nodeClass = classes[pick(std::size(classes))];
    const bool isType = node.nodeClass == NodeClass::ObjectType || node.nodeClass == NodeClass::VariableType ||
                        node.nodeClass == NodeClass::DataType || node.nodeClass == NodeClass::ReferenceType;
    if (isType) node.isAbstract = chance(40);
    if (node.nodeClass == NodeClass::ReferenceType) {
      node.isSymmetric = chance(30);
      if (!node.isSymmetric && chance(70)) node.inverseName = LocalizedText(String(word()), "en");
    }
    if (node.nodeClass == NodeClass::Object || node.nodeClass == NodeClass::View)
      node.eventNotifier = static_cast<std::uint8_t>(chance(50) ? 1 : chance(50) ? 5 : 0);
    if (node.nodeClass == NodeClass::View) node.containsNoLoops = chance(50);
    if (node.nodeClass == NodeClass::Method) node.executable = chance(70);
    if (node.nodeClass == NodeClass::Variable || node.nodeClass == NodeClass::VariableType) fillValue(node);
    const auto added = space_->add(std::move(node));
    REQUIRE(added);
    link(*added);
    decorate(*added);
    made_.push_back(*added);
  }
  void fillValue(NewNode& node) {
    auto& traits = node.traits;
    const auto type = static_cast<BuiltInType>(1 + pick(22));
    const std::int32_t rank = chance(60) ? -1 : chance(60) ? 1 : 2;
    traits.valueRank = rank;
    traits.dataType = space_->at(StandardId(static_cast<std::uint32_t>(type)));
    if (rank == 1 && chance(40))
      node.arrayDimensions = List<std::uint32_t>(std::vector<std::uint32_t>{chance(50) ? 0u : 5u});
    if (rank == 2) node.arrayDimensions = List<std::uint32_t>(std::vector<std::uint32_t>{2, 3});
    if (node.nodeClass == NodeClass::Variable) {
      traits.accessLevel =
          static_cast<std::uint16_t>(chance(50) ? AccessLevelExType::CurrentRead
                                                : AccessLevelExType::CurrentRead | AccessLevelExType::CurrentWrite);
      traits.historizing = chance(20);
      if (chance(30)) traits.minimumSamplingInterval = chance(30) ? -1.0f : 250.5f;
    }
    if (chance(20)) return;
    visitBuiltIn(type, [&]<class T>(std::type_identity<T>) {
      if constexpr (!std::is_same_v<T, DataValue> && !std::is_same_v<T, Variant> && !std::is_same_v<T, DiagnosticInfo>)
        node.value = valueOf<T>(rank);
    });
  }
  /// What few nodes have.
  void decorate(NodeIndex node) {
    const auto several = [&] {
      return std::vector<LocalizedText>{LocalizedText(String(word()), "en"), LocalizedText(String(word()), "de"),
                                        LocalizedText(String(word()), "fr-CA")};
    };
    if (chance(20)) space_->setDisplayNames(node, several());
    if (chance(20)) space_->setDescriptions(node, several());
    if (chance(20)) {
      space::PermissionSet set;
      for (const auto role : {id::WellKnownRole_Operator, id::WellKnownRole_Observer}) {
        RolePermissionType one;
        one.roleId = role;
        one.permissions = static_cast<std::uint32_t>(random_() & 0x1FFFF);
        if (chance(70)) set.roles.push_back(one);
      }
      set.restrictions = static_cast<std::uint16_t>(pick(16));
      space_->setPermissions(node, set);
    }
    if (space_->nodeClass(node) != NodeClass::DataType) return;
    StructureDefinition definition;
    definition.baseDataType = id::Structure;
    definition.structureType = static_cast<StructureType>(pick(5));
    const bool mayFlag =
        definition.structureType != StructureType::Structure && definition.structureType != StructureType::Union;
    for (unsigned i = 0; i < 1 + pick(4); ++i) {
      StructureField field;
      field.name = String("field" + std::to_string(i));
      field.description = localized();
      field.dataType = NodeId(0, 1 + pick(12));
      field.valueRank = chance(70) ? -1 : 1;
      if (field.valueRank == 1)
        field.arrayDimensions = List<std::uint32_t>(std::vector<std::uint32_t>{chance(50) ? 4u : 0u});
      if (field.dataType == NodeId(0, 12u) && chance(50)) field.maxStringLength = 80;
      // Of a kind with a flag, one field has it at least.
      field.isOptional = mayFlag && (i == 0 || chance(50));
      definition.fields.push_back(field);
    }
    space_->rareOf(node).typeDefinition = ExtensionObject::of(definition);
  }
  /// Each node stands somewhere: types below types, others in the objects' folder or in one another.
  void link(NodeIndex node) {
    const auto nodeClass = space_->nodeClass(node);
    const auto below = [&](StandardId standard) {
      std::vector<NodeIndex> known{space_->at(standard)};
      for (const NodeIndex each : made_)
        if (space_->nodeClass(each) == nodeClass) known.push_back(each);
      space_->refer(known[pick(static_cast<unsigned>(known.size()))], id::HasSubtype, node);
    };
    switch (nodeClass) {
      case NodeClass::ObjectType: return below(id::BaseObjectType);
      case NodeClass::VariableType: return below(id::BaseDataVariableType);
      // What a structure inherits is among its fields: these inherit nothing.
      case NodeClass::DataType: return space_->refer(space_->at(id::Structure), id::HasSubtype, node);
      case NodeClass::ReferenceType: return below(id::NonHierarchicalReferences);
      case NodeClass::View: return space_->refer(space_->at(id::ViewsFolder), id::Organizes, node);
      default: break;
    }
    std::vector<NodeIndex> objects{space_->at(id::ObjectsFolder)};
    for (const NodeIndex each : made_)
      if (space_->nodeClass(each) == NodeClass::Object || space_->nodeClass(each) == NodeClass::ObjectType)
        objects.push_back(each);
    const NodeIndex parent = objects[pick(static_cast<unsigned>(objects.size()))];
    space_->refer(parent, parent == objects[0] ? id::Organizes : id::HasComponent, node);
    if (nodeClass == NodeClass::Object)
      space_->refer(node, id::HasTypeDefinition, space_->at(chance(50) ? id::FolderType : id::BaseObjectType));
    if (nodeClass == NodeClass::Variable)
      space_->refer(node, id::HasTypeDefinition, space_->at(id::BaseDataVariableType));
    if (space_->nodeClass(parent) == NodeClass::ObjectType)
      space_->refer(node, id::HasModellingRule,
                    space_->at(chance(50) ? id::ModellingRule_Mandatory : id::ModellingRule_Optional));
  }
  void addReference() {
    std::vector<NodeIndex> types{space_->at(id::HasCause), space_->at(id::HasEffect)};
    for (const NodeIndex each : made_)
      if (space_->nodeClass(each) == NodeClass::ReferenceType) types.push_back(each);
    const NodeIndex from = made_[pick(static_cast<unsigned>(made_.size()))];
    const NodeIndex to = chance(20) ? space_->at(id::Server) : made_[pick(static_cast<unsigned>(made_.size()))];
    if (from != to) space_->refer(from, types[pick(static_cast<unsigned>(types.size()))], to);
  }

  std::mt19937 random_;
  std::unique_ptr<Space> space_;
  std::vector<NodeIndex> made_;
  std::uint32_t count_ = 0;
};

}  // namespace

TEST_CASE("of whatever a space is made, a node set loses nothing", "[model][nodeset]") {
  const std::vector<std::uint16_t> models{2, 3};
  for (unsigned seed = 1; seed <= 60; ++seed) {
    const auto space = Chaos(seed).take();
    const std::string xml = model::writeNodeSet(*space, models);
    auto again = test::freshSpace();
    model::Findings findings;
    model::readNodeSet(*again, {"chaos.xml", xml}, findings);
    std::string told;
    for (const auto& finding : findings.list()) told += model::format(finding, "") + "\n";
    for (const auto& change : model::compare(*space, *again))
      told += change.path + " " + change.what + ": '" + change.before + "' -> '" + change.after + "'\n";
    INFO("seed " << seed << "\n" << told.substr(0, 3'000));
    CHECK(told.empty());
    REQUIRE(space->size() == again->size());
    for (NodeIndex node = 0; node < space->rows(); ++node) {
      const auto id = space->nodeId(node);
      if (id.namespaceIndex() < 2) continue;
      const NodeIndex twin = again->find(id);
      REQUIRE(twin != kNoNode);
      INFO(id.text());
      CHECK(space->references(node).size() == again->references(twin).size());
      if (space->nodeClass(node) != NodeClass::Variable) continue;
      Bytes one, other;
      BinaryWriter(one).write(space->value(node).value);
      BinaryWriter(other).write(again->value(twin).value);
      CHECK(one == other);
    }
    CHECK(model::writeNodeSet(*again, models) == xml);
  }
}

}  // namespace zunth::every_construct_test
