// Who may do what: for each role, service and attribute, over the default permissions and a node's own.
#include "core/secure/roles.hpp"

#include "service/admin/site.hpp"

#include "tests/service/fake_peer.hpp"
#include "tests/service/lone_owner.hpp"
#include "tests/service/process.hpp"
#include <catch2/catch.hpp>
#include <fmt/format.h>

namespace zunth::roles_test {

using namespace zunth::ua;
using test::Bench;

namespace {

EventFilter anyEvent() {
  EventFilter filter;
  filter.selectClauses.push_back({id::BaseEventType, {{0, "Message"}}, 13, {}});
  return filter;
}

/// A server on which every session has this role beside Anonymous.
struct AsRole : Bench {
  explicit AsRole(StandardId role)
      : Bench(true, [role](server::Settings& settings) {
          settings.allowNodeManagement = true;
          settings.roles = server::rolesForEveryone(role);
        }) {
    flow = addVariable("flow", id::Double, Variant(1.5));
    wash = addNode(NodeId(1, String("wash")), NodeClass::Method, "wash", space.at(id::ObjectsFolder));
    server->owners().own(wash, std::make_shared<test::LoneOwner>());
    open();
  }
  DataValue read(NodeId node, AttributeId attribute) {
    ReadRequest request;
    request.nodesToRead.push_back({std::move(node), static_cast<std::uint32_t>(attribute), {}, {}});
    return call(std::move(request))->results[0];
  }
  StatusCode write(NodeId node, AttributeId attribute, Variant value) {
    WriteRequest request;
    request.nodesToWrite.push_back(
        {std::move(node), static_cast<std::uint32_t>(attribute), {}, DataValue(std::move(value))});
    return call(std::move(request))->results[0];
  }
  StatusCode callWash() {
    CallRequest request;
    request.methodsToCall.push_back({id::ObjectsFolder, NodeId(1, String("wash")), {}});
    return call(std::move(request))->results[0].statusCode;
  }
  StatusCode watch(NodeId node, AttributeId attribute) {
    CreateSubscriptionRequest create;
    create.publishingEnabled = true;
    const auto subscription = call(std::move(create))->subscriptionId;
    CreateMonitoredItemsRequest request;
    request.subscriptionId = subscription;
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {std::move(node), static_cast<std::uint32_t>(attribute), {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    if (attribute == AttributeId::EventNotifier) item.requestedParameters.filter = ExtensionObject::of(anyEvent());
    request.itemsToCreate.push_back(std::move(item));
    return call(std::move(request))->results[0].statusCode;
  }
  std::size_t seen() {
    BrowseRequest request;
    request.nodesToBrowse.push_back({id::ObjectsFolder, BrowseDirection::Forward, {}, true, 0, 63});
    std::size_t own = 0;
    const auto response = call(std::move(request));
    for (const auto& reference : response->results[0].references) own += reference.nodeId.nodeId.namespaceIndex() == 1;
    return own;
  }
  StatusCode addTank() {
    AddNodesRequest request;
    AddNodesItem item;
    item.parentNodeId = NodeId(1, String("plant"));
    item.referenceTypeId = id::Organizes;
    item.requestedNewNodeId = NodeId(1, String("tank"));
    item.browseName = {1, "tank"};
    item.nodeClass = NodeClass::Object;
    item.typeDefinition = id::BaseObjectType;
    request.nodesToAdd.push_back(std::move(item));
    return call(std::move(request))->results[0].statusCode;
  }
  StatusCode remove(NodeId node) {
    DeleteNodesRequest request;
    request.nodesToDelete.push_back({std::move(node), true});
    return call(std::move(request))->results[0];
  }
  space::NodeIndex flow, wash;
};

const NodeId kFlow(1, String("flow"));

space::PermissionSet only(StandardId role, std::uint32_t permissions, std::uint16_t restrictions = 0) {
  space::PermissionSet set;
  set.roles.push_back({NodeId(role), permissions});
  set.restrictions = restrictions;
  return set;
}

}  // namespace

TEST_CASE("each role may do what it is for, service by service",
          "[roles][cu:Base Info Security Role Capabilities][cu:Security Role Server Authorization]") {
  constexpr auto good = status::Good;
  constexpr auto denied = status::BadUserAccessDenied, unknown = status::BadNodeIdUnknown;
  struct Row {
    const char* name;
    StandardId role;
    StatusCode see, read, write, call, grants, change;
    int userAccessLevel;
    bool userExecutable;
  };
  const Row rows[] = {
      {"Anonymous", id::WellKnownRole_Anonymous, unknown, unknown, unknown, unknown, unknown, unknown, 0, false},
      {"Observer", id::WellKnownRole_Observer, good, good, denied, denied, denied, denied, 1, false},
      {"Operator", id::WellKnownRole_Operator, good, good, good, good, denied, denied, 3, true},
      {"Supervisor", id::WellKnownRole_Supervisor, good, good, good, good, good, denied, 3, true},
      {"Engineer", id::WellKnownRole_Engineer, good, good, good, good, good, good, 3, true},
      {"ConfigureAdmin", id::WellKnownRole_ConfigureAdmin, good, good, good, good, good, good, 3, true},
      {"SecurityAdmin", id::WellKnownRole_SecurityAdmin, good, good, denied, denied, good, denied, 1, false},
  };
  for (const auto& row : rows) {
    INFO(row.name);
    AsRole b(row.role);
    b.addNode(NodeId(1, String("plant")), NodeClass::Object, "plant", b.space.at(id::ObjectsFolder));
    CHECK(b.seen() == (row.see.isGood() ? 3u : 0u));
    CHECK(b.read(kFlow, AttributeId::BrowseName).status == row.see);
    CHECK(b.read(kFlow, AttributeId::Value).status == row.read);
    CHECK(b.read(kFlow, AttributeId::RolePermissions).status == row.grants);
    CHECK(b.write(kFlow, AttributeId::Value, Variant(2.5)) == row.write);
    const auto changesAttributes = row.change.isGood() ? status::BadNotWritable : row.change;
    CHECK(b.write(kFlow, AttributeId::DisplayName, Variant(LocalizedText("Flow"))) == changesAttributes);
    const auto called = row.call == unknown ? status::BadMethodInvalid : row.call;
    CHECK(b.callWash() == called);
    CHECK(b.watch(kFlow, AttributeId::Value) == row.read);
    CHECK(b.watch(kFlow, AttributeId::DisplayName) == row.see);
    CHECK(b.watch(id::Server, AttributeId::EventNotifier) == good);  // what the server announces is for all
    CHECK(b.addTank() == row.change);
    CHECK(b.remove(NodeId(1, String("plant"))) == row.change);
    if (row.see.isBad()) continue;
    CHECK(*b.read(kFlow, AttributeId::UserAccessLevel).value.get<std::uint8_t>() == row.userAccessLevel);
    CHECK(*b.read(kFlow, AttributeId::AccessLevel).value.get<std::uint8_t>() == 3);
    CHECK(*b.read(NodeId(1, String("wash")), AttributeId::UserExecutable).value.get<bool>() == row.userExecutable);
    const auto own = b.read(kFlow, AttributeId::UserRolePermissions);
    REQUIRE(own.value.length() == 1);
    CHECK(own.value.items<ExtensionObject>()[0].as<RolePermissionType>()->roleId == NodeId(row.role));
  }
}

TEST_CASE("texts and permissions of a model's nodes are written by who may", "[roles]") {
  constexpr auto good = status::Good, denied = status::BadUserAccessDenied;
  struct Row {
    StandardId role;
    StatusCode texts, permissions;
    std::uint32_t mask;
  };
  using Mask = AttributeWriteMask;
  constexpr std::uint32_t kTexts = Mask::DisplayName | Mask::Description;
  constexpr std::uint32_t kPermissions = Mask::RolePermissions | Mask::AccessRestrictions;
  for (const auto& row :
       {Row{id::WellKnownRole_Operator, denied, denied, 0}, Row{id::WellKnownRole_Engineer, good, denied, kTexts},
        Row{id::WellKnownRole_SecurityAdmin, denied, good, kPermissions}}) {
    AsRole b(row.role);
    const auto ns = b.space.addNamespace("http://fernhollow.example/pond");
    const NodeId pond(ns, String("pond"));
    const auto node = b.addNode(pond, NodeClass::Object, "pond", b.space.at(id::ObjectsFolder));
    CHECK(*b.read(pond, AttributeId::WriteMask).value.get<std::uint32_t>() == (kTexts | kPermissions));
    CHECK(*b.read(pond, AttributeId::UserWriteMask).value.get<std::uint32_t>() == row.mask);
    CHECK(b.write(pond, AttributeId::DisplayName, Variant(LocalizedText("The pond"))) == row.texts);
    CHECK(b.write(pond, AttributeId::DisplayName, Variant(LocalizedText("Teich", "de"))) == row.texts);
    CHECK(b.write(pond, AttributeId::Description, Variant(LocalizedText("Behind the hall"))) == row.texts);
    CHECK(b.write(pond, AttributeId::BrowseName, Variant(QualifiedName(1, "x"))).isBad());
    if (row.texts.isGood()) {
      const String german("de");
      CHECK(b.space.displayName(node).text == String("The pond"));
      CHECK(b.space.displayName(node, {&german, 1}).text == String("Teich"));
      CHECK(b.space.description(node).text == String("Behind the hall"));
      CHECK(b.write(pond, AttributeId::DisplayName, Variant(1)) == status::BadTypeMismatch);
      CHECK(b.write(pond, AttributeId::BrowseName, Variant(QualifiedName(1, "x"))) == status::BadNotWritable);
    }
    const auto roles = [](const NodeId& role) {
      return Variant::array(std::vector{ExtensionObject::of(RolePermissionType{role, PermissionType::Browse})});
    };
    CHECK(b.write(pond, AttributeId::AccessRestrictions, Variant(std::uint16_t{4})) == row.permissions);
    if (row.permissions.isGood()) {
      CHECK(b.write(pond, AttributeId::RolePermissions, roles(NodeId(999'999))) == status::BadOutOfRange);
      CHECK(b.space.permissionSets()[b.space.permissionSet(node)].restrictions == 4);
    }
    // The change counts at once: nobody but observers sees the pond now.
    CHECK(b.write(pond, AttributeId::RolePermissions, roles(id::WellKnownRole_Observer)) ==
          (row.permissions.isGood() ? good : row.permissions));
    if (row.permissions.isGood()) CHECK(b.read(pond, AttributeId::NodeId).status == status::BadNodeIdUnknown);
  }
}

TEST_CASE("what a session may not see is not there, by whatever way it looks", "[roles]") {
  AsRole b(id::WellKnownRole_Operator);
  b.space.setPermissions(b.flow, only(id::WellKnownRole_SecurityAdmin, ~0u));
  CHECK(b.seen() == 1);
  CHECK(b.read(kFlow, AttributeId::NodeId).status == status::BadNodeIdUnknown);
  CHECK(b.write(kFlow, AttributeId::Value, Variant(1.0)) == status::BadNodeIdUnknown);
  CHECK(b.watch(kFlow, AttributeId::Value) == status::BadNodeIdUnknown);
  TranslateBrowsePathsToNodeIdsRequest translate;
  translate.browsePaths.push_back({id::ObjectsFolder, {{{{}, false, true, {1, "flow"}}}}});
  CHECK(b.call(translate)->results[0].statusCode == status::BadNoMatch);
  translate.browsePaths[0] = {kFlow, {{{{}, false, true, {1, "x"}}}}};
  CHECK(b.call(translate)->results[0].statusCode == status::BadNodeIdUnknown);
  QueryFirstRequest query;
  NodeTypeDescription type;
  type.typeDefinitionNode = NodeId(id::BaseDataVariableType);
  type.includeSubTypes = false;
  query.nodeTypes.push_back(type);
  const auto found = b.call(query);
  for (const auto& set : found->queryDataSets) CHECK(!(set.nodeId.nodeId == kFlow));
}

TEST_CASE("a node can ask for a signed or encrypted channel", "[roles]") {
  AsRole b(id::WellKnownRole_Operator);
  b.space.setPermissions(
      b.flow, only(id::WellKnownRole_Operator, ~0u, std::uint16_t{AccessRestrictionType::EncryptionRequired}));
  CHECK(b.seen() == 2);  // it is seen, but no more
  CHECK(b.read(kFlow, AttributeId::Value).status == status::BadSecurityModeInsufficient);
  CHECK(b.write(kFlow, AttributeId::Value, Variant(1.0)) == status::BadSecurityModeInsufficient);
  CHECK(*b.read(kFlow, AttributeId::AccessRestrictions).value.get<std::uint16_t>() == 2);
  b.space.setPermissions(b.flow, only(id::WellKnownRole_Operator, ~0u,
                                      std::uint16_t{AccessRestrictionType::SigningRequired |
                                                    AccessRestrictionType::ApplyRestrictionsToBrowse}));
  CHECK(b.seen() == 1);
  const auto& sets = b.space.permissionSets();
  const std::vector<NodeId> roles{NodeId(id::WellKnownRole_Operator)};
  const space::Rights signs(roles, MessageSecurityMode::Sign, false), tls(roles, MessageSecurityMode::None, true);
  CHECK(signs.check(sets, b.space.permissionSet(b.flow), PermissionType::Write).isGood());
  CHECK(tls.check(sets, b.space.permissionSet(b.flow), PermissionType::Write).isGood());
}

TEST_CASE("rules give roles by user, certificate, application and endpoint", "[roles]") {
  using secure::Caller;
  using secure::RoleRule;
  const NodeId role(id::WellKnownRole_Supervisor);
  const auto by = [&](IdentityCriteriaType type, const char* criteria) {
    RoleRule rule;
    rule.role = role;
    rule.identities.push_back({type, String(criteria)});
    return rule;
  };
  Caller mia;
  mia.isAnonymous = false;
  mia.userName = "mia";
  mia.userThumbprint = "A1B2";
  mia.userSubject = "CN = Mia";
  mia.tokenRoles = {"shift"};
  mia.applicationUri = "urn:fernhollow.example:panel";
  mia.endpoint = {"opc.tcp://127.0.0.1:4840", MessageSecurityMode::Sign, "urn:policy", {}};
  const auto has = [&](const Caller& caller, const RoleRule& rule) {
    const auto roles = secure::rolesOf(caller, {rule});
    return std::ranges::find(roles, role) != roles.end();
  };
  struct Row {
    IdentityCriteriaType type;
    const char *fits, *misses;
  };
  for (const auto& row :
       {Row{IdentityCriteriaType::UserName, "mia", "tom"}, Row{IdentityCriteriaType::Thumbprint, "A1B2", "A1B3"},
        Row{IdentityCriteriaType::X509Subject, "CN = Mia", "CN = Tom"},
        Row{IdentityCriteriaType::Role, "shift", "night"},
        Row{IdentityCriteriaType::Application, "urn:fernhollow.example:panel", "urn:x"}}) {
    CHECK(has(mia, by(row.type, row.fits)));
    CHECK_FALSE(has(mia, by(row.type, row.misses)));
    CHECK_FALSE(has(Caller{}, by(row.type, row.fits)));
    CHECK_FALSE(has(Caller{}, by(row.type, "")));  // an empty criterion is not everyone
  }
  CHECK(has(mia, by(IdentityCriteriaType::AuthenticatedUser, "")));
  CHECK_FALSE(has(mia, by(IdentityCriteriaType::Anonymous, "")));
  CHECK(has(mia, by(IdentityCriteriaType::TrustedApplication, "")));
  CHECK(has(Caller{}, by(IdentityCriteriaType::Anonymous, "")));
  auto rule = by(IdentityCriteriaType::UserName, "mia");
  rule.applications = {"urn:other"};
  CHECK_FALSE(has(mia, rule));
  rule.applicationsExclude = true;
  CHECK(has(mia, rule));
  rule.endpoints.push_back({"opc.tcp://127.0.0.1:4840", MessageSecurityMode::Invalid, {}, {}});
  CHECK(has(mia, rule));
  rule.endpoints[0] = {{}, MessageSecurityMode::SignAndEncrypt, {}, {}};
  CHECK_FALSE(has(mia, rule));
  rule.endpoints[0].securityMode = MessageSecurityMode::Sign;
  CHECK(has(mia, rule));
  rule.endpointsExclude = true;
  CHECK_FALSE(has(mia, rule));
  CHECK(secure::rolesOf(mia, {}) ==
        std::vector<NodeId>{NodeId(id::WellKnownRole_Anonymous), NodeId(id::WellKnownRole_AuthenticatedUser)});
}

TEST_CASE("who loses a right in the middle of a session is told by its items", "[roles]") {
  AsRole b(id::WellKnownRole_Operator);
  CHECK(b.watch(kFlow, AttributeId::Value).isGood());
  PublishRequest publish;
  b.send(publish);
  b.pass(2000);
  REQUIRE(b.take<PublishResponse>());
  b.space.setPermissions(b.flow, only(id::WellKnownRole_SecurityAdmin, ~0u));
  b.server->accountsChanged([](const server::User&) { return server::Account{}; });
  b.send(publish);
  b.pass(2000);
  const auto told = b.take<PublishResponse>();
  REQUIRE(told);
  REQUIRE(told->notificationMessage.notificationData.size() == 1);
  const auto data = told->notificationMessage.notificationData[0].as<DataChangeNotification>();
  REQUIRE(data);
  CHECK(data->monitoredItems[0].value.status == status::BadNodeIdUnknown);
}

TEST_CASE("a model grants access by role, from a node on down", "[roles][site]") {
  const auto load = [](const std::string& access, const test::TemporaryFolder& folder) {
    folder.write("site.yaml", "uri: urn:x\nroles:\n  Night shift: {users: [mia, tom]}\n");
    folder.write("model/m.yaml", "namespace: http://x.example\nobjects:\n  Hall:\n" + access +
                                     "    Tank:\n      level: Double writable\n    Office:\n      access: {Observer: "
                                     "see}\n      desk: Double\n");
    return admin::loadSite(folder.path);
  };
  test::TemporaryFolder folder;
  auto site = load("    access: {Observer: read, Night shift: read write, needs: signing}\n", folder);
  for (const auto& line : site.report()) FAIL(line);
  REQUIRE(site.settings.roles.size() == 1);
  CHECK(site.settings.roles[0].identities.size() == 2);
  const auto setOf = [&](const char* path) {
    return site.space->permissionSets()[site.space->permissionSet(site.space->find(NodeId(2, String(path))))];
  };
  const auto level = setOf("Hall/Tank/level");
  CHECK(level.restrictions == AccessRestrictionType::SigningRequired);
  REQUIRE(level.roles.size() == 2);
  CHECK(level.roles[1].roleId == NodeId(1, String("roles/Night shift")));
  CHECK(level.roles[1].permissions & PermissionType::Write);
  CHECK_FALSE(level.roles[0].permissions & PermissionType::Write);
  const auto desk = setOf("Hall/Office/desk");
  REQUIRE(desk.roles.size() == 1);
  CHECK(desk.roles[0].permissions == PermissionType::Browse);
  for (const auto& [access, message] : std::vector<std::pair<std::string, std::string>>{
           {"    access: {Obsever: read}\n", "there is no role 'Obsever'"},
           {"    access: {Observer: reed}\n", "'reed' is nothing that a role may do"},
           {"    access: {needs: patience}\n", "'patience' is nothing that a node can need"},
           {"    access: all\n", "access lists roles"}}) {
    const auto wrong = load(access, folder);
    REQUIRE(!wrong.findings.list().empty());
    CHECK(wrong.findings.list()[0].message == message);
  }
}

}  // namespace zunth::roles_test
