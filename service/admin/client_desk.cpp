#include "service/admin/client_desk.hpp"

#include "core/ua/foreign.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;

namespace {

std::string_view securityOf(const server::Session& session) {
  const auto& proof = session.proof;
  switch (proof.mode) {
    case MessageSecurityMode::SignAndEncrypt: return "signed and encrypted";
    case MessageSecurityMode::Sign: return "signed";
    default: return proof.isEncryptedBelow ? "encrypted by TLS, or within this machine" : "unsecured";
  }
}

}  // namespace

Json ClientDesk::clientsOf(const server::Server& server) {
  auto sessions = server.sessionList();
  std::ranges::sort(sessions, {}, [](const server::Session* session) {
    return std::pair(session->diagnostics.clientConnectionTime.ticks, session->name.view());
  });
  Json clients = Json::array();
  for (const auto* session : sessions) {
    std::size_t items = 0;
    for (const auto& [id, subscription] : session->subscriptions) items += subscription->items().size();
    clients.push_back({{"id", session->sessionId.text()},
                       {"name", shown(session->name.view())},
                       {"application", shown(session->client.applicationUri.view())},
                       {"user", session->isActivated ? shown(session->userName()) : "not yet known"},
                       {"from", session->proof.host},
                       {"security", securityOf(*session)},
                       {"policy", shown(session->proof.policyUri.view())},
                       {"since", session->diagnostics.clientConnectionTime.text()},
                       {"lastHeard", session->diagnostics.clientLastContactTime.text()},
                       {"subscriptions", session->subscriptions.size()},
                       {"items", items},
                       {"reads", session->diagnostics.readCount.totalCount},
                       {"writes", session->diagnostics.writeCount.totalCount}});
  }
  return clients;
}

void ClientDesk::open(Control& control) {
  control.on("clients", [this](const Actor&, const Json&, const Control::Answer& answer) {
    answer({{"clients", clientsOf(server_)}});
  });
  control.on("end client", [this](const Actor& actor, const Json& asked, const Control::Answer& answer) {
    auto told = end(actor, asked);
    answer(told ? std::move(*told) : Json{{"error", jsonOf(told.error())}});
  });
}

Result<Json> ClientDesk::end(const Actor& actor, const Json& asked) {
  const std::string text = asked.value("id", "");
  const auto id = NodeId::parse(text);
  const auto* session = id ? server_.sessionOf(*id) : nullptr;
  if (!session)
    return Error{status::BadSessionIdInvalid, "there is no session " + shown(text), "zunth clients shows them all"};
  Json told{{"name", shown(session->name.view())}, {"application", shown(session->client.applicationUri.view())}};
  record_({DateTime::from(std::chrono::system_clock::now()), "session ended", actor.name, session->proof.host,
           session->client.applicationUri.str(), status::Good, shown(session->name.view())});
  server_.endSession(*id, {status::BadSessionClosed, "an administrator of the server has ended the session", {}});
  return told;
}

}  // namespace zunth::admin
