// The RoleSet's methods: who administers security gives and takes roles, at once and lastingly.
#include "service/admin/role_configuration.hpp"

#include "tests/identity.hpp"
#include "tests/service/fake_peer.hpp"
#include "tests/service/process.hpp"
#include <catch2/catch.hpp>

namespace zunth::role_configuration_test {

using namespace zunth::ua;
using test::Bench;

namespace {

struct Administering {
  explicit Administering(StandardId role = id::WellKnownRole_SecurityAdmin,
                         MessageSecurityMode mode = MessageSecurityMode::SignAndEncrypt)
      : bench(true, [role](server::Settings& settings) {
          settings.identities = test::identity("urn:fernhollow.example:test");
          settings.roles = server::rolesForEveryone(role);
        }) {
    roles = std::make_unique<admin::RoleConfiguration>(*bench.server, folder.path / "roles.json");
    bench.peer->pretend(mode);
    bench.open();
  }
  CallMethodResult call(NodeId object, NodeId method, std::vector<Variant> inputs) {
    CallRequest request;
    request.methodsToCall.push_back({std::move(object), std::move(method), List<Variant>(std::move(inputs))});
    auto response = bench.call(std::move(request));
    REQUIRE(response);
    return response->results[0];
  }
  StatusCode ofEngineer(StandardId method, Variant input) {
    return call(id::WellKnownRole_Engineer, method, {std::move(input)}).statusCode;
  }
  std::size_t shown(const NodeId& role, const char* property) {
    const auto node = bench.space.child(bench.space.find(role), {0, property});
    REQUIRE(node != space::kNoNode);
    return bench.space.value(node).value.length();
  }
  test::TemporaryFolder folder;
  Bench bench;
  std::unique_ptr<admin::RoleConfiguration> roles;
};

Variant identity(IdentityCriteriaType type, const char* criteria) {
  return Variant(ExtensionObject::of(IdentityMappingRuleType{type, String(criteria)}));
}
Variant endpoint(const char* url) {
  return Variant(ExtensionObject::of(EndpointType{url, MessageSecurityMode::Invalid, {}, {}}));
}

}  // namespace

TEST_CASE("a role's identities, applications and endpoints are added and taken away",
          "[roles][cu:Security Role Server IdentityManagement]") {
  Administering a;
  struct Row {
    StandardId add, remove;
    const char* property;
    Variant item, wrong;
  };
  const Row rows[] = {
      {id::WellKnownRole_Engineer_AddIdentity, id::WellKnownRole_Engineer_RemoveIdentity, "Identities",
       identity(IdentityCriteriaType::UserName, "mia"), identity(IdentityCriteriaType::UserName, "")},
      {id::WellKnownRole_Engineer_AddApplication, id::WellKnownRole_Engineer_RemoveApplication, "Applications",
       Variant(String("urn:fernhollow.example:panel")), Variant(String(""))},
      {id::WellKnownRole_Engineer_AddEndpoint, id::WellKnownRole_Engineer_RemoveEndpoint, "Endpoints",
       endpoint("opc.tcp://127.0.0.1:4840"), endpoint("")},
  };
  for (const auto& row : rows) {
    INFO(row.property);
    CHECK(a.ofEngineer(row.add, row.wrong) == status::BadInvalidArgument);
    CHECK(a.ofEngineer(row.remove, row.item) == status::BadNotFound);
    CHECK(a.ofEngineer(row.add, row.item).isGood());
    CHECK(a.ofEngineer(row.add, row.item) == status::BadAlreadyExists);
    CHECK(a.shown(id::WellKnownRole_Engineer, row.property) == 1);
    const auto kept = admin::RoleConfiguration::changed({}, a.folder.path / "roles.json");
    REQUIRE((kept && kept->size() == 1));
    const auto& rule = kept->front();
    CHECK(rule.identities.size() + rule.applications.size() + rule.endpoints.size() == 1);
    CHECK(a.ofEngineer(row.remove, row.item).isGood());
    CHECK(a.shown(id::WellKnownRole_Engineer, row.property) == 0);
  }
}

TEST_CASE("roles are made and removed, and count at once", "[roles][cu:Security Role Server Management]") {
  Administering a;
  const NodeId set(id::Server_ServerCapabilities_RoleSet);
  const NodeId add(id::Server_ServerCapabilities_RoleSet_AddRole),
      remove(id::Server_ServerCapabilities_RoleSet_RemoveRole);
  const auto made = a.call(set, add, {Variant(String("Night shift")), Variant(String())});
  REQUIRE(made.statusCode.isGood());
  const NodeId role = *made.outputArguments.at(0).get<NodeId>();
  CHECK(a.call(set, add, {Variant(String("Night shift")), Variant(String())}).statusCode == status::BadAlreadyExists);
  CHECK(a.call(set, add, {Variant(String("Operator")), Variant(String())}).statusCode == status::BadAlreadyExists);
  CHECK(a.call(set, add, {Variant(String("x")), Variant(String("urn:else"))}).statusCode == status::BadInvalidArgument);
  CHECK(a.call(role, id::RoleType_AddIdentity, {identity(IdentityCriteriaType::Anonymous, "")}).statusCode.isGood());
  // Whoever is anonymous has it from now on: it opens what only the night shift may see.
  const NodeId lamp(1, String("lamp"));
  const auto node = a.bench.addNode(lamp, NodeClass::Object, "lamp", a.bench.space.at(id::ObjectsFolder));
  space::PermissionSet set2;
  set2.roles.push_back({role, PermissionType::Browse});
  a.bench.space.setPermissions(node, set2);
  const auto seen = [&] {
    ReadRequest request;
    request.nodesToRead.push_back({lamp, static_cast<std::uint32_t>(AttributeId::NodeId), {}, {}});
    return a.bench.call(std::move(request))->results[0].status;
  };
  CHECK(seen().isGood());
  CHECK(a.call(set, remove, {Variant(role)}).statusCode.isGood());
  CHECK(seen() == status::BadNodeIdUnknown);
  CHECK(a.bench.space.find(role) == space::kNoNode);
  // Not even where site.yaml has it: what was removed stays so after a restart.
  secure::RoleRule ofSite;
  ofSite.role = role;
  CHECK(admin::RoleConfiguration::changed({ofSite}, a.folder.path / "roles.json")->empty());
  CHECK(a.call(set, remove, {Variant(role)}).statusCode == status::BadNodeIdUnknown);
  CHECK(a.call(set, remove, {Variant(NodeId(id::WellKnownRole_Operator))}).statusCode == status::BadNotSupported);
}

TEST_CASE("roles are changed by security administrators over encrypted channels only", "[roles]") {
  const auto mia = identity(IdentityCriteriaType::UserName, "mia");
  Administering engineer(id::WellKnownRole_Engineer);
  CHECK(engineer.ofEngineer(id::WellKnownRole_Engineer_AddIdentity, mia) == status::BadUserAccessDenied);
  Administering open(id::WellKnownRole_SecurityAdmin, MessageSecurityMode::Sign);
  CHECK(open.ofEngineer(id::WellKnownRole_Engineer_AddIdentity, mia) == status::BadSecurityModeInsufficient);
}

}  // namespace zunth::role_configuration_test
