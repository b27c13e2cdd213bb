#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct StatusOptions {
  bool sessions = false, subscriptions = false, limits = false;
};

template <class T>
std::optional<T> structureOf(const DataValue& value) {
  const auto* object = value.value.get<ExtensionObject>();
  if (!object) return std::nullopt;
  auto read = object->as<T>();
  return read ? std::optional<T>(std::move(*read)) : std::nullopt;
}

template <class T>
std::vector<T> structuresOf(const DataValue& value) {
  std::vector<T> out;
  for (const auto& object : value.value.items<ExtensionObject>())
    if (auto read = object.as<T>()) out.push_back(std::move(*read));
  return out;
}

std::string stateName(ServerState state) {
  static const char* names[] = {"Running",  "Failed", "NoConfiguration",    "Suspended",
                                "Shutdown", "Test",   "CommunicationFault", "Unknown"};
  const auto number = static_cast<std::size_t>(state);
  return number < std::size(names) ? names[number] : "Unknown";
}

std::string spanText(std::chrono::seconds span) {
  const auto s = span.count();
  if (s < 60) return fmt::format("{} s", s);
  if (s < 3600) return fmt::format("{} min {} s", s / 60, s % 60);
  if (s < 86'400) return fmt::format("{} h {} min", s / 3600, s / 60 % 60);
  return fmt::format("{} d {} h", s / 86'400, s / 3600 % 24);
}

Awaitable<Result<List<DataValue>>> valuesOf(SessionPtr session, std::vector<NodeId> nodes) {
  std::vector<ReadValueId> what;
  for (auto& node : nodes) what.push_back({std::move(node), static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  return session->read(std::move(what));
}

Awaitable<int> showOverview(SessionPtr session, Options options) {
  std::vector<NodeId> nodes{id::Server_ServerStatus, id::Server_ServerDiagnostics_ServerDiagnosticsSummary,
                            id::Server_ServiceLevel, id::Server_ServerDiagnostics_EnabledFlag};
  const auto asked = std::chrono::system_clock::now();
  auto values = co_await valuesOf(session, std::move(nodes));
  if (!values) co_return fail(values.error());
  const auto answered = std::chrono::system_clock::now();
  Records records({"what", "value"});
  const auto add = [&](const char* what, std::string text, Json json) {
    records.add({what, Cell(std::move(text), std::move(json))});
  };
  bool isFine = false;
  if (const auto status = structureOf<ServerStatusDataType>((*values)[0])) {
    isFine = status->state == ServerState::Running;
    const auto now = status->currentTime.time();
    add("product",
        fmt::format("{} {} by {}", status->buildInfo.productName.view(), status->buildInfo.softwareVersion.view(),
                    status->buildInfo.manufacturerName.view()),
        status->buildInfo.productName.str());
    add("state", stateName(status->state), stateName(status->state));
    add("running for", spanText(std::chrono::duration_cast<std::chrono::seconds>(now - status->startTime.time())),
        status->startTime.text());
    // Half the way there and back lies between asking and the server's look at its clock.
    const double skew = std::chrono::duration<double>(now - (asked + (answered - asked) / 2)).count();
    add("clock",
        std::abs(skew) < 1 ? "in step with this machine"
                           : fmt::format("{:.1f} s {} of this machine", std::abs(skew), skew > 0 ? "ahead" : "behind"),
        skew);
  }
  const double level = [&] {
    double number = 0;
    return (*values)[2].value.toDouble(number) ? number : 0.0;
  }();
  add("service level", fmt::format("{:.0f} of 255", level), level);
  if (const auto summary = structureOf<ServerDiagnosticsSummaryDataType>((*values)[1])) {
    add("sessions",
        fmt::format("{} now, {} ever, {} refused, {} timed out", summary->currentSessionCount,
                    summary->cumulatedSessionCount, summary->rejectedSessionCount, summary->sessionTimeoutCount),
        summary->currentSessionCount);
    add("subscriptions",
        fmt::format("{} now, {} ever", summary->currentSubscriptionCount, summary->cumulatedSubscriptionCount),
        summary->currentSubscriptionCount);
    add("requests refused",
        fmt::format("{}, {} of them for want of rights", summary->rejectedRequestsCount,
                    summary->securityRejectedRequestsCount),
        summary->rejectedRequestsCount);
  } else {
    add("diagnostics", "switched off", "off");
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return isFine ? kDone : kNo;
}

Awaitable<int> showSessions(SessionPtr session, Options options) {
  std::vector<NodeId> nodes(1, id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionDiagnosticsArray);
  auto values = co_await valuesOf(session, std::move(nodes));
  if (!values) co_return fail(values.error());
  if (values->front().status.isBad())
    co_return fail({values->front().status, "the server shows no diagnostics of its sessions",
                    "zunth write " + NodeId(id::Server_ServerDiagnostics_EnabledFlag).text() + "=true"});
  Records records({"session", "client", "since", "last word", "subscriptions", "items", "requests", "errors"});
  for (const auto& one : structuresOf<SessionDiagnosticsDataType>(values->front()))
    records.add({one.sessionName.str(), one.clientDescription.applicationUri.str(),
                 Cell(localTime(one.clientConnectionTime.time()), one.clientConnectionTime.text()),
                 Cell(localTime(one.clientLastContactTime.time()), one.clientLastContactTime.text()),
                 Cell(std::to_string(one.currentSubscriptionsCount), one.currentSubscriptionsCount),
                 Cell(std::to_string(one.currentMonitoredItemsCount), one.currentMonitoredItemsCount),
                 Cell(std::to_string(one.totalRequestCount.totalCount), one.totalRequestCount.totalCount),
                 Cell(std::to_string(one.totalRequestCount.errorCount), one.totalRequestCount.errorCount)});
  std::fputs(records.text(options.format, isTerminal(), {4, 5, 6, 7}).c_str(), stdout);
  co_return kDone;
}

Awaitable<int> showSubscriptions(SessionPtr session, Options options) {
  std::vector<NodeId> nodes(1, id::Server_ServerDiagnostics_SubscriptionDiagnosticsArray);
  auto values = co_await valuesOf(session, std::move(nodes));
  if (!values) co_return fail(values.error());
  if (values->front().status.isBad())
    co_return fail({values->front().status, "the server shows no diagnostics of its subscriptions", {}});
  Records records({"subscription", "session", "interval", "items", "told", "unacknowledged", "late", "overflows"});
  for (const auto& one : structuresOf<SubscriptionDiagnosticsDataType>(values->front()))
    records.add({Cell(std::to_string(one.subscriptionId), one.subscriptionId),
                 one.sessionId.isNull() ? std::string("waits for a client") : one.sessionId.text(),
                 Cell(fmt::format("{:g} ms", one.publishingInterval), one.publishingInterval),
                 Cell(std::to_string(one.monitoredItemCount), one.monitoredItemCount),
                 Cell(std::to_string(one.notificationsCount), one.notificationsCount),
                 Cell(std::to_string(one.unacknowledgedMessageCount), one.unacknowledgedMessageCount),
                 Cell(std::to_string(one.latePublishRequestCount), one.latePublishRequestCount),
                 Cell(std::to_string(one.monitoringQueueOverflowCount), one.monitoringQueueOverflowCount)});
  std::fputs(records.text(options.format, isTerminal(), {0, 2, 3, 4, 5, 6, 7}).c_str(), stdout);
  co_return kDone;
}

Awaitable<int> showLimits(SessionPtr session, Options options) {
  Records records({"limit", "value"});
  for (const NodeId& parent :
       {NodeId(id::Server_ServerCapabilities), NodeId(id::Server_ServerCapabilities_OperationLimits)}) {
    BrowseDescription what{parent,
                           BrowseDirection::Forward,
                           id::HierarchicalReferences,
                           true,
                           static_cast<std::uint32_t>(NodeClass::Variable),
                           63};
    auto found = co_await session->browse(what);
    if (!found) co_return fail(found.error());
    std::vector<NodeId> nodes;
    for (const auto& reference : *found) nodes.push_back(reference.nodeId.nodeId);
    if (nodes.empty()) continue;
    auto values = co_await valuesOf(session, std::move(nodes));
    if (!values) co_return fail(values.error());
    for (std::size_t i = 0; i < found->size(); ++i)
      records.add({(*found)[i].browseName.name.str(),
                   Cell((*values)[i].value.isNull() ? "-" : format((*values)[i].value), toJson((*values)[i].value))});
  }
  std::fputs(records.text(options.format, isTerminal(), {1}).c_str(), stdout);
  co_return kDone;
}

}  // namespace

void addStatus(Program program) {
  const auto verb = addVerb(program, "status", "How a server is: its state, clock, sessions, subscriptions, limits.",
                            "zunth status --sessions");
  verb.option("PLACE", program.options.at, "The server, as --at takes it");
  auto asked = std::make_shared<StatusOptions>();
  verb.flag("--sessions", asked->sessions, "Who is connected, and what they asked for");
  verb.flag("--subscriptions", asked->subscriptions, "Who watches how much");
  verb.flag("--limits", asked->limits, "What the server grants at most");
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      if (asked->sessions) return showSessions(session, program.options);
      if (asked->subscriptions) return showSubscriptions(session, program.options);
      if (asked->limits) return showLimits(session, program.options);
      return showOverview(session, program.options);
    });
  });
}

}  // namespace zunth::cli
