// Clients that change the address space: every operation's errors, and what comes of it when it goes well.
#include "tests/service/fake_peer.hpp"
#include <catch2/catch.hpp>

namespace zunth::node_management_test {

using namespace zunth::ua;
using test::Bench;

namespace {

Bench& allow(Bench& b) {
  b.open();
  return b;
}
const auto kAllowed = [](server::Settings& settings) { settings.allowNodeManagement = true; };

AddNodesItem tank() {
  AddNodesItem item;
  item.parentNodeId = NodeId(id::ObjectsFolder);
  item.referenceTypeId = id::Organizes;
  item.requestedNewNodeId = NodeId(1, String("tank"));
  item.browseName = {1, "tank"};
  item.nodeClass = NodeClass::Object;
  item.typeDefinition = id::BaseObjectType;
  return item;
}

AddNodesItem level() {
  AddNodesItem item = tank();
  item.requestedNewNodeId = NodeId(1, String("level"));
  item.browseName = {1, "level"};
  item.nodeClass = NodeClass::Variable;
  item.typeDefinition = id::BaseDataVariableType;
  VariableAttributes attributes;
  attributes.specifiedAttributes = NodeAttributesMask::Value | NodeAttributesMask::DataType |
                                   NodeAttributesMask::AccessLevel | NodeAttributesMask::DisplayName;
  attributes.value = Variant(1.5);
  attributes.dataType = id::Double;
  attributes.accessLevel = AccessLevelType::CurrentRead | AccessLevelType::CurrentWrite | AccessLevelType::StatusWrite |
                           AccessLevelType::TimestampWrite;
  attributes.displayName = LocalizedText("Level");
  item.nodeAttributes = ExtensionObject::of(attributes);
  return item;
}

AddNodesResult add(Bench& b, AddNodesItem item) {
  AddNodesRequest request;
  request.nodesToAdd.push_back(std::move(item));
  const auto response = b.call(request);
  REQUIRE(response);
  return response->results[0];
}

StatusCode addReference(Bench& b, NodeId source, NodeId type, NodeId target, NodeClass targetClass,
                        const char* server = "") {
  AddReferencesRequest request;
  request.referencesToAdd.push_back({std::move(source), std::move(type), true, server, std::move(target), targetClass});
  return b.call(request)->results[0];
}

StatusCode deleteReference(Bench& b, NodeId source, NodeId type, NodeId target) {
  DeleteReferencesRequest request;
  request.referencesToDelete.push_back({std::move(source), std::move(type), true, std::move(target), true});
  return b.call(request)->results[0];
}

}  // namespace

TEST_CASE("nodes are added with what their type asks for",
          "[nodes][cu:Address Space Base][cu:Node Management Add Node][cu:Attribute Write StatusCode and Timestamp]") {
  Bench b(true, kAllowed);
  allow(b);
  CHECK(add(b, tank()).addedNodeId == NodeId(1, String("tank")));
  CHECK(add(b, level()).statusCode.isGood());
  const auto node = b.space.find(NodeId(1, String("level")));
  CHECK(b.space.value(node).value == Variant(1.5));
  CHECK(b.space.displayName(node).text.view() == "Level");
  auto analog = level();
  analog.requestedNewNodeId = NodeId();
  analog.browseName = {1, "flow"};
  analog.typeDefinition = id::AnalogItemType;
  const auto added = add(b, analog);
  REQUIRE(added.statusCode.isGood());
  const auto flow = b.space.find(added.addedNodeId);
  CHECK(b.space.child(flow, {0, "EURange"}) != space::kNoNode);  // mandatory
  CHECK(b.space.child(flow, {0, "InstrumentRange"}) == space::kNoNode);
  // A value with its own time and status, where the access level allows that.
  WriteRequest write;
  DataValue value(Variant(2.5), DateTime{77}, status::UncertainLastUsableValue);
  write.nodesToWrite.push_back({NodeId(1, String("level")), 13, {}, value});
  CHECK(b.call(write)->results[0].isGood());
  CHECK(b.space.value(node).status == status::UncertainLastUsableValue);
  CHECK(b.space.value(node).sourceTimestamp == DateTime{77});
}

TEST_CASE("nodes that can't be added are refused for the reason that the standard names", "[nodes]") {
  Bench b(true, kAllowed);
  allow(b);
  add(b, tank());
  struct Case {
    const char* what;
    std::function<void(AddNodesItem&)> change;
    StatusCode expected;
  };
  const std::vector<Case> cases{
      {"unknown parent", [](auto& i) { i.parentNodeId = NodeId(9, 9u); }, status::BadParentNodeIdInvalid},
      {"no reference type", [](auto& i) { i.referenceTypeId = id::Server; }, status::BadReferenceTypeIdInvalid},
      {"abstract reference type", [](auto& i) { i.referenceTypeId = id::HierarchicalReferences; },
       status::BadReferenceTypeIdInvalid},
      {"not hierarchical", [](auto& i) { i.referenceTypeId = id::HasTypeDefinition; }, status::BadReferenceNotAllowed},
      {"an object as property", [](auto& i) { i.referenceTypeId = id::HasProperty; }, status::BadReferenceNotAllowed},
      {"the id is taken",
       [](auto& i) {
         i.browseName = {1, "b"};
       },
       status::BadNodeIdExists},
      {"a standard id", [](auto& i) { i.requestedNewNodeId = NodeId(0, 99'999u); }, status::BadNodeIdRejected},
      {"an unknown namespace", [](auto& i) { i.requestedNewNodeId = NodeId(77, 1u); }, status::BadNodeIdRejected},
      {"another server", [](auto& i) { i.requestedNewNodeId.serverIndex = 1; }, status::BadServerIndexInvalid},
      {"no class", [](auto& i) { i.nodeClass = NodeClass::Unspecified; }, status::BadNodeClassInvalid},
      {"two classes", [](auto& i) { i.nodeClass = static_cast<NodeClass>(3); }, status::BadNodeClassInvalid},
      {"no name", [](auto& i) { i.browseName = {}; }, status::BadBrowseNameInvalid},
      {"a name twice",
       [](auto& i) {
         i.parentNodeId = NodeId(id::BaseEventType);
         i.nodeClass = NodeClass::Variable;
         i.referenceTypeId = id::HasComponent;
         i.typeDefinition = id::BaseDataVariableType;
         i.browseName = {0, "Severity"};
       },
       status::BadBrowseNameDuplicated},
      {"below the Server object",
       [](auto& i) {
         i.parentNodeId = NodeId(id::Server_ServerDiagnostics);
         i.referenceTypeId = id::HasComponent;
       },
       status::BadUserAccessDenied},
      {"an id that the server gives", [](auto& i) { i.requestedNewNodeId = NodeId(1, "sessions/mine"); },
       status::BadNodeIdRejected},
      {"others' attributes", [](auto& i) { i.nodeAttributes = ExtensionObject::of(MethodAttributes{}); },
       status::BadNodeAttributesInvalid},
      {"no type", [](auto& i) { i.typeDefinition = ExpandedNodeId(); }, status::BadTypeDefinitionInvalid},
      {"a type of another class", [](auto& i) { i.typeDefinition = id::PropertyType; },
       status::BadTypeDefinitionInvalid},
      {"an abstract type", [](auto& i) { i.typeDefinition = id::BaseConditionClassType; },
       status::BadTypeDefinitionInvalid},
      {"a type for a method",
       [](auto& i) {
         i.nodeClass = NodeClass::Method;
         i.referenceTypeId = id::HasComponent;
       },
       status::BadTypeDefinitionInvalid},
  };
  for (const auto& c : cases) {
    INFO(c.what);
    auto item = tank();
    c.change(item);
    CHECK(add(b, item).statusCode == c.expected);
  }
  auto wrongValue = level();
  VariableAttributes attributes;
  attributes.specifiedAttributes = NodeAttributesMask::Value | NodeAttributesMask::DataType;
  attributes.value = Variant("much");
  attributes.dataType = id::Double;
  wrongValue.nodeAttributes = ExtensionObject::of(attributes);
  CHECK(add(b, wrongValue).statusCode == status::BadNodeAttributesInvalid);
}

TEST_CASE("all classes of nodes can be added", "[nodes]") {
  Bench b(true, kAllowed);
  allow(b);
  struct Case {
    NodeClass nodeClass;
    StandardId parent, reference;
    ExtensionObject attributes;
  };
  ReferenceTypeAttributes feeds;
  feeds.specifiedAttributes = NodeAttributesMask::InverseName;
  feeds.inverseName = LocalizedText("FedBy");
  int number = 0;
  for (const auto& c : std::vector<Case>{
           {NodeClass::Method, id::BaseObjectType, id::HasComponent, ExtensionObject::of(MethodAttributes{})},
           {NodeClass::View, id::ViewsFolder, id::Organizes, ExtensionObject::of(ViewAttributes{})},
           {NodeClass::ObjectType, id::BaseObjectType, id::HasSubtype, ExtensionObject::of(ObjectTypeAttributes{})},
           {NodeClass::VariableType, id::BaseDataVariableType, id::HasSubtype,
            ExtensionObject::of(VariableTypeAttributes{})},
           {NodeClass::ReferenceType, id::NonHierarchicalReferences, id::HasSubtype, ExtensionObject::of(feeds)},
           {NodeClass::DataType, id::Double, id::HasSubtype, ExtensionObject::of(DataTypeAttributes{})}}) {
    auto item = tank();
    item.nodeClass = c.nodeClass;
    item.parentNodeId = c.parent;
    item.referenceTypeId = c.reference;
    item.browseName = {1, String("new" + std::to_string(++number))};
    item.requestedNewNodeId = NodeId(1, static_cast<std::uint32_t>(5000 + number));
    item.typeDefinition = ExpandedNodeId();
    item.nodeAttributes = c.attributes;
    INFO(static_cast<int>(c.nodeClass));
    CHECK(add(b, item).statusCode.isGood());
  }
}

TEST_CASE("what clients write takes no more memory than it may, and is given back", "[nodes][bounds]") {
  Bench b(true, [](server::Settings& settings) {
    kAllowed(settings);
    settings.limits.maxWritten = 100'000;
  });
  allow(b);
  const auto text = [](std::size_t octets) { return Variant(String(std::string(octets, 'x'))); };
  const auto write = [&](const char* node, Variant value, AttributeId attribute = AttributeId::Value) {
    WriteRequest request;
    request.nodesToWrite.push_back(WriteValue{NodeId(1, String(node)), static_cast<std::uint32_t>(attribute), {}, {}});
    request.nodesToWrite[0].value.value = std::move(value);
    return b.call(request)->results[0];
  };
  b.addVariable("one", id::String, Variant("x"));
  b.addVariable("other", id::String, Variant("x"));
  CHECK(write("one", text(60'000), AttributeId::DisplayName).isBad());  // what is refused takes nothing
  CHECK(write("one", text(60'000)) == status::Good);
  CHECK(write("other", text(60'000)) == status::BadOutOfMemory);
  CHECK(write("other", text(200)) == status::Good);   // small ones are always taken
  CHECK(write("one", text(70'000)) == status::Good);  // in place of what was there
  CHECK(write("one", text(30'000)) == status::Good);
  CHECK(write("other", text(60'000)) == status::Good);
  // A new node counts with what it comes with, until it goes.
  AddNodesItem large = level();
  VariableAttributes attributes = *large.nodeAttributes.as<VariableAttributes>();
  attributes.dataType = id::String;
  attributes.value = text(30'000);
  large.nodeAttributes =
      ExtensionObject::binary(NodeId(VariableAttributes::kBinaryId), ByteString(BytesView(encode(attributes))));
  CHECK(add(b, large).statusCode == status::BadOutOfMemory);
  CHECK(write("one", text(1)) == status::Good);
  CHECK(add(b, large).statusCode == status::Good);
  CHECK(write("one", text(30'000)) == status::BadOutOfMemory);
  DeleteNodesRequest deletion;
  deletion.nodesToDelete.push_back({NodeId(1, String("level")), true});
  CHECK(b.call(deletion)->results[0] == status::Good);
  CHECK(write("one", text(30'000)) == status::Good);
}

TEST_CASE("nodes are deleted with what hangs on them alone", "[nodes][cu:Node Management Delete Node]") {
  Bench b(true, kAllowed);
  allow(b);
  add(b, tank());
  auto inside = level();
  inside.parentNodeId = NodeId(1, String("tank"));
  inside.referenceTypeId = id::HasComponent;
  add(b, inside);
  DeleteNodesRequest request;
  request.nodesToDelete.push_back({NodeId(9, 9u), true});
  request.nodesToDelete.push_back({id::Server, true});
  request.nodesToDelete.push_back({NodeId(1, String("tank")), true});
  const auto before = b.space.size();
  const auto response = b.call(request);
  CHECK(response->results == List<StatusCode>{status::BadNodeIdUnknown, status::BadNoDeleteRights, status::Good});
  CHECK(response->diagnosticInfos.size() == 3);
  CHECK(b.space.size() == before - 2);
  CHECK(b.space.find(NodeId(1, String("level"))) == space::kNoNode);
}

TEST_CASE("references are added and deleted, or refused for the reason that the standard names",
          "[nodes][cu:Node Management Add Ref][cu:Node Management Delete Ref]") {
  Bench b(true, kAllowed);
  allow(b);
  add(b, tank());
  add(b, level());
  const NodeId tankId(1, String("tank")), levelId(1, String("level")), unknown(9, 9u);
  const auto variable = NodeClass::Variable;
  CHECK(addReference(b, unknown, id::HasComponent, levelId, variable) == status::BadSourceNodeIdInvalid);
  CHECK(addReference(b, tankId, unknown, levelId, variable) == status::BadReferenceTypeIdInvalid);
  CHECK(addReference(b, tankId, id::HasComponent, unknown, variable) == status::BadTargetNodeIdInvalid);
  CHECK(addReference(b, tankId, id::HasComponent, levelId, variable, "urn:x") == status::BadReferenceLocalOnly);
  CHECK(addReference(b, tankId, id::HasComponent, levelId, NodeClass::Object) == status::BadNodeClassInvalid);
  CHECK(addReference(b, tankId, id::HasComponent, tankId, NodeClass::Object) == status::BadInvalidSelfReference);
  CHECK(addReference(b, tankId, id::HasTypeDefinition, id::FolderType, NodeClass::ObjectType) ==
        status::BadReferenceNotAllowed);
  CHECK(addReference(b, id::BaseObjectType, id::HasSubtype, id::FolderType, NodeClass::ObjectType) ==
        status::BadDuplicateReferenceNotAllowed);
  CHECK(addReference(b, tankId, id::HasComponent, levelId, variable).isGood());
  CHECK(addReference(b, tankId, id::HasComponent, levelId, variable) == status::BadDuplicateReferenceNotAllowed);
  CHECK(b.space.child(b.space.find(tankId), {1, "level"}) != space::kNoNode);
  CHECK(deleteReference(b, unknown, id::HasComponent, levelId) == status::BadSourceNodeIdInvalid);
  CHECK(deleteReference(b, tankId, unknown, levelId) == status::BadReferenceTypeIdInvalid);
  CHECK(deleteReference(b, tankId, id::HasComponent, unknown) == status::BadTargetNodeIdInvalid);
  CHECK(deleteReference(b, tankId, id::Organizes, levelId) == status::BadNotFound);
  CHECK(deleteReference(b, tankId, id::HasTypeDefinition, id::BaseObjectType) == status::BadReferenceNotAllowed);
  CHECK(deleteReference(b, id::ObjectsFolder, id::Organizes, id::Server) == status::BadNoDeleteRights);
  CHECK(deleteReference(b, tankId, id::HasComponent, levelId).isGood());
  CHECK(deleteReference(b, id::ObjectsFolder, id::Organizes, levelId) == status::BadReferenceNotAllowed);  // its last
}

TEST_CASE("a server whose address space is its own lets nobody change it", "[nodes]") {
  Bench b;
  b.open();
  AddNodesRequest request;
  request.nodesToAdd.push_back(tank());
  const auto refused = b.call(request);
  CHECK(refused.code() == status::BadUserAccessDenied);
  CHECK(refused.error().cause.find("may not change") != std::string::npos);
  Bench open(true, kAllowed);
  allow(open);
  CHECK(open.call(AddNodesRequest{}).code() == status::BadNothingToDo);
  CHECK(open.call(DeleteNodesRequest{}).code() == status::BadNothingToDo);
  CHECK(open.call(AddReferencesRequest{}).code() == status::BadNothingToDo);
  CHECK(open.call(DeleteReferencesRequest{}).code() == status::BadNothingToDo);
}

}  // namespace zunth::node_management_test
