// Alarms that the server raises of itself.
#include "core/alarm/own_alarm.hpp"
#include "service/admin/certificate_alarm.hpp"
#include "service/admin/trust_list_alarm.hpp"
#include "service/admin/trust_store.hpp"

#include "tests/core/model_space.hpp"
#include "tests/identity.hpp"
#include "tests/service/process.hpp"

namespace zunth::own_alarms_test {

using namespace zunth::ua;

TEST_CASE("the server's certificate says in time that it runs out", "[alarm]") {
  auto space = test::freshSpace();
  server::Server server(*space, {}, server::Clock::real());
  admin::CertificateAlarm watched(server);
  watched.add();
  server.bindAlarms();
  const auto node = space->find(NodeId(1, String("alarms/certificate")));
  REQUIRE(node != space::kNoNode);
  CHECK(space->browseName(node).name.view() == "CertificateExpired");
  const auto& state = server.alarms().find(node)->state();
  const auto identity = test::identity("urn:fernhollow.example:own");
  constexpr std::int64_t kDay = 864'000'000'000;
  struct Row {
    std::int64_t days;  // before its end
    bool isActive;
    std::uint16_t severity;
  };
  for (const Row& row : {Row{100, false, 700}, {15, false, 700}, {13, true, 700}, {1, true, 700}, {-1, true, 900}}) {
    INFO(row.days);
    watched.look(identity, DateTime{identity->certificate.validTo().ticks - row.days * kDay});
    CHECK(state.active.is == row.isActive);
    if (row.isActive) CHECK(state.severity == row.severity);
  }
  CHECK(state.message.text.view().find("has run out") != std::string_view::npos);
  CHECK(space->value(space->child(node, {0, "ExpirationDate"})).value == Variant(identity->certificate.validTo()));
  // A new certificate, and it goes.
  watched.look(identity, DateTime{identity->certificate.validTo().ticks - 300 * kDay});
  CHECK(!state.active.is);
}

TEST_CASE("a list of trusted certificates that nobody looks through says so", "[alarm]") {
  auto space = test::freshSpace();
  server::Server server(*space, {}, server::Clock::real());
  test::TemporaryFolder folder;
  const admin::TrustStore store(folder.path / "trust");
  admin::TrustListAlarm watched(server);
  const auto node = [&] { return space->find(NodeId(1, String("alarms/trust-list"))); };
  CHECK(!watched.expect(0));
  CHECK(node() == space::kNoNode);
  constexpr double kDay = 86'400'000;
  constexpr std::int64_t kTicks = 864'000'000'000;
  CHECK(watched.expect(90 * kDay));
  CHECK(!watched.expect(90 * kDay));  // alarms need not be bound again
  server.bindAlarms();
  const auto& state = server.alarms().find(node())->state();
  REQUIRE(store.review());
  const DateTime updated = store.updated();
  for (const auto& [days, isActive] : {std::pair{0, false}, {89, false}, {91, true}, {200, true}}) {
    INFO(days);
    watched.look(updated, DateTime{updated.ticks + days * kTicks});
    CHECK(state.active.is == isActive);
  }
  CHECK(state.message.text.view().find("for 200 days") != std::string_view::npos);
  CHECK(space->value(space->child(node(), {0, "UpdateFrequency"})).value == Variant(90 * kDay));
  CHECK(space->value(space->child(node(), {0, "LastUpdateTime"})).value == Variant(updated));
  watched.look(DateTime{updated.ticks + 199 * kTicks}, DateTime{updated.ticks + 200 * kTicks});
  CHECK(!state.active.is);
  // A list that was never there is as old as can be.
  watched.look(DateTime{}, updated);
  CHECK(state.active.is);
  CHECK(state.message.text.view().find("certificates yet:") != std::string_view::npos);
  CHECK(watched.expect(0));
  CHECK(node() == space::kNoNode);
}

TEST_CASE("an alarm of the server's own judges like any other, and goes with its object", "[alarm]") {
  auto space = test::spaceOf(
      "namespace: http://fernhollow.example/own\n"
      "objects:\n"
      "  Device:\n"
      "    connected: Boolean = true\n");
  server::Server server(*space, {}, server::Clock::real());
  alarm::OwnAlarm gone;
  gone.id = "gone";
  gone.name = {1, "Gone"};
  gone.type = id::InstrumentDiagnosticAlarmType;
  gone.input = space->find(NodeId(2, String("Device/connected")));
  gone.normal = Variant(true);
  gone.message = LocalizedText("it doesn't answer", "en");
  const auto owner = space->find(NodeId(2, String("Device")));
  const auto node = alarm::addOwnAlarm(*space, owner, gone);
  REQUIRE(node != space::kNoNode);
  CHECK(alarm::addOwnAlarm(*space, owner, gone) == node);
  CHECK(space->eventNotifier(owner) & EventNotifierType::SubscribeToEvents);
  server.bindAlarms();
  space->setValue(gone.input, DataValue(Variant(false)));
  server.tick();
  const auto* found = server.alarms().find(node);
  REQUIRE(found);
  CHECK(found->state().active.is);
  CHECK(found->state().message.text.view() == "it doesn't answer");
  const auto nodes = space->size();
  alarm::removeOwnAlarm(*space, node);
  CHECK(!server.alarms().find(node));
  CHECK(space->size() < nodes - 20);
  CHECK(space->find(NodeId(1, String("gone/EventId"))) == space::kNoNode);
}

}  // namespace zunth::own_alarms_test
