#include "core/space/permissions.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/admin/client_desk.hpp"
#include "service/console/console.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;

namespace {

/// Who looks, and what they may; with the proof that the page sends along from now on.
Json meOf(Console& console, const Login* login) {
  const auto& settings = console.server().settings();
  Json me{{"site", {{"name", settings.applicationName}, {"uri", settings.applicationUri}}},
          {"allowsAnonymous", settings.allowAnonymous},
          {"awaitsFirstUser", console.awaitsFirstUser()}};
  if (!login) return me;
  Json roles = Json::array();
  for (const auto& name : space::roleNames())
    if (const auto role = space::roleNamed(name); role && login->desk->hasRole(*role)) roles.push_back(name);
  me["user"] = login->desk->user();
  me["isAnonymous"] = login->desk->user().empty();
  me["roles"] = std::move(roles);
  me["proof"] = login->proof;
  return me;
}

std::string cookieHeader(const std::string& value, bool isSecure) {
  return fmt::format("zunth={}; HttpOnly; SameSite=Strict; Path=/{}{}", value, isSecure ? "; Secure" : "",
                     value.empty() ? "; Max-Age=0" : "");
}

Awaitable<Answer> logInAs(Console& console, std::string user, std::string password, Request request) {
  auto login = co_await console.logins().logIn(std::move(user), std::move(password), request.address, console.url());
  if (!login) co_return Answer::of(login.error());
  Answer answer = Answer::of(meOf(console, login->get()));
  answer.headers.emplace_back("Set-Cookie", cookieHeader((*login)->cookie, request.isSecure));
  co_return answer;
}

/// A site that lets anybody look around does so without a question.
Awaitable<Answer> tellMe(Console& console, Visit visit) {
  if (!visit.login && console.server().settings().allowAnonymous)
    co_return co_await logInAs(console, {}, {}, visit.request);
  co_return Answer::of(meOf(console, visit.login.get()));
}

Awaitable<Answer> logIn(Console& console, Visit visit) {
  const auto before = visit.login;
  Answer answer = co_await logInAs(console, visit.body.at("user").get<std::string>(),
                                   visit.body.at("password").get<std::string>(), visit.request);
  if (answer.status == 200 && before) co_await console.logins().logOut(before);
  co_return answer;
}

Awaitable<Answer> logOut(Console& console, Visit visit) {
  co_await console.logins().logOut(visit.login);
  Answer answer = Answer::of(Json::object());
  answer.headers.emplace_back("Set-Cookie", cookieHeader({}, visit.request.isSecure));
  co_return answer;
}

Json firstUser(const std::string& name, const std::string& password) {
  return {{"verb", "user"},
          {"change", "add"},
          {"name", name},
          {"password", password},
          {"roles", {"SecurityAdmin", "ConfigureAdmin", "Engineer", "Operator"}}};
}

/// Where nobody can log in yet, somebody who sees what the service prints makes the first administrator.
Awaitable<Answer> makeFirstUser(Console& console, Visit visit) {
  if (!console.awaitsFirstUser())
    co_return Answer::of(Error{status::BadInvalidState, "there are users here already", "log in as one of them"});
  if (!console.takesCode(visit.body.at("code").get<std::string>()))
    co_return Answer::of(Error{status::BadUserAccessDenied, "that is not the code",
                               "look where zunthd was started: it prints the code with the console's address"});
  const std::string name = visit.body.at("user").get<std::string>();
  const std::string password = visit.body.at("password").get<std::string>();
  Json asked = firstUser(name, password);
  admin::Actor actor{fmt::format("{} at the console's first start", hostPart(visit.request.address))};
  auto made = co_await console.perform(std::move(actor), std::move(asked));
  if (!made) co_return Answer::of(made.error());
  co_return co_await logInAs(console, name, password, visit.request);
}

Json certificateJson(const secure::Certificate& certificate) {
  return {{"subject", shown(certificate.subject())},
          {"application", shown(certificate.applicationUri())},
          {"fingerprint", certificate.fingerprint()},
          {"validFrom", timeJson(certificate.validFrom())},
          {"validTo", timeJson(certificate.validTo())}};
}

/// Times as pages have them.
Json clientsOf(const server::Server& server) {
  Json clients = admin::ClientDesk::clientsOf(server);
  for (auto& client : clients)
    for (const char* key : {"since", "lastHeard"})
      if (const auto time = DateTime::parse(client.at(key).get<std::string>())) client[key] = timeJson(*time);
  return clients;
}

/// What wants somebody's attention, the most urgent first, each with the next step.
Json worriesOf(Console& console, const Json& devices, DateTime now) {
  Json out = Json::array();
  const auto add = [&](const char* how, std::string what, std::string next, std::string page) {
    out.push_back({{"how", how}, {"what", std::move(what)}, {"next", std::move(next)}, {"page", std::move(page)}});
  };
  const auto& settings = console.server().settings();
  for (const auto& device : devices)
    if (device.value("state", "") == "away")
      add("bad",
          fmt::format("The device {} does not answer: {}", device.value("device", ""), device.value("lastError", "")),
          "look at its address and its cable", "/devices/" + device.value("device", ""));
  if (const auto identity = settings.identities.main()) {
    const auto left = identity->certificate.validTo().time() - now.time();
    const auto days = std::chrono::duration_cast<std::chrono::hours>(left).count() / 24;
    if (days < 30)
      add(days < 0 ? "bad" : "warn",
          days < 0 ? std::string("The server's certificate has run out")
                   : fmt::format("The server's certificate runs out in {} days", days),
          "renew it", "/access");
  }
  if (const auto waiting = admin::TrustStore(console.site().folder() / "state/trust").find("");
      std::ranges::any_of(waiting, [](const auto& e) { return e.kind == admin::TrustStore::Kind::Rejected; }))
    add("warn", "A client was refused, as its certificate is not trusted", "decide about it", "/access");
  if (settings.allowUnsecured)
    add("warn",
        settings.allowAnonymous ? "Anybody may connect without signing or encryption"
                                : "Clients may connect without signing or encryption",
        "take 'unsecured: on' out of site.yaml where others share the network", "");
  if (console.awaitsFirstUser())
    add("note", "Nobody has a name and password here yet", "make the first administrator", "/first");
  return out;
}

Json statusOf(Console& console, Json devices) {
  auto& server = console.server();
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  Json counts{{"clients", server.sessionCount()},
              {"subscriptions", server.subscriptionCount()},
              {"items", server.monitoredItemCount()},
              {"nodes", server.space().size()},
              {"pages", console.feedCount()}};
  const auto load = console.load().look(std::chrono::steady_clock::now());
  const auto& settings = server.settings();
  Json endpoints = Json::array();
  for (const auto& url : settings.endpointUrls)
    endpoints.push_back({{"url", url}, {"isUnsecured", settings.allowUnsecured && url.starts_with("opc.tcp")}});
  Json status{{"name", settings.applicationName},
              {"uri", settings.applicationUri},
              {"state", "running"},
              {"since", timeJson(server.startedAt())},
              {"now", timeJson(now)},
              {"endpoints", std::move(endpoints)},
              {"allowsAnonymous", settings.allowAnonymous},
              {"allowsUnsecured", settings.allowUnsecured},
              {"counts", std::move(counts)},
              {"load", {{"processor", load.processor}, {"memory", load.memory}}},
              {"worries", worriesOf(console, devices, now)},
              {"devices", std::move(devices)},
              {"clients", clientsOf(server)}};
  if (const auto identity = settings.identities.main()) status["certificate"] = certificateJson(identity->certificate);
  return status;
}

Awaitable<Answer> tellStatus(Console& console, Visit visit) {
  Json asked;
  asked["verb"] = "devices";
  auto told = co_await console.perform(*visit.login, std::move(asked));
  co_return Answer::of(statusOf(console, told ? (*told)["devices"] : Json::array()));
}

/// How clients may secure their way here, and how many do now: by transport, policy and mode.
Awaitable<Answer> tellPolicies(Console& console, Visit visit) {
  auto told = co_await visit.session()->request(GetEndpointsRequest{});
  if (!told) co_return Answer::of(told.error());
  static constexpr const char* kModes[] = {"Invalid", "None", "Sign", "SignAndEncrypt"};
  static constexpr const char* kUsers[] = {"anonymous", "password", "certificate", "token"};
  Json policies = Json::array();
  for (const auto& endpoint : told->endpoints) {
    const std::string url = endpoint.endpointUrl.str();
    const std::string transport = url.substr(0, url.find(':'));
    const std::string policy = endpoint.securityPolicyUri.str();
    const auto mode = static_cast<std::size_t>(endpoint.securityMode);
    const bool isTls = transport == "opc.https" || transport == "opc.wss";
    Json row{{"transport", shown(transport)},
             {"policy", shown(policy.substr(policy.rfind('#') + 1))},
             {"mode", mode < std::size(kModes) ? kModes[mode] : kModes[0]},
             {"isSecure", isTls || endpoint.securityMode == MessageSecurityMode::SignAndEncrypt}};
    if (std::ranges::any_of(policies, [&](const Json& other) {
          return std::ranges::all_of(std::initializer_list<const char*>{"transport", "policy", "mode"},
                                     [&](const char* key) { return other.at(key) == row.at(key); });
        }))
      continue;
    Json users = Json::array();
    for (const auto& token : endpoint.userIdentityTokens) {
      const auto kind = static_cast<std::size_t>(token.tokenType);
      if (kind >= std::size(kUsers)) continue;
      if (std::ranges::find(users, Json(kUsers[kind])) == users.end()) users.push_back(kUsers[kind]);
    }
    row["users"] = std::move(users);
    row["clients"] = std::ranges::count_if(console.server().sessionList(), [&](const server::Session* session) {
      return session->proof.mode == endpoint.securityMode &&
             session->proof.policyUri.view() == endpoint.securityPolicyUri.view() &&
             session->proof.isEncryptedBelow == isTls;
    });
    policies.push_back(std::move(row));
  }
  co_return Answer::of(Json{{"policies", std::move(policies)}});
}

/// What the door itself serves, asked for as if it were a page.
Awaitable<Answer> isLive(Console&, Visit) {
  co_return Answer::of(Error{status::BadRequestNotAllowed, "this is a live connection",
                             "open /api/live as a WebSocket, or name nodes: /api/stream?node=…"});
}

Awaitable<Answer> describeApi(Console&, Visit) { co_return Answer::of(openApi()); }

}  // namespace

std::vector<Route> siteRoutes() {
  return {
      {"GET", "/api/openapi.json", "This description", Needs::Nobody, describeApi},
      {"GET", "/api/me", "Who is logged in, and what they may", Needs::Nobody, tellMe},
      {"GET",
       "/api/policies",
       "How connections may be secured, and how many are",
       Needs::Login,
       tellPolicies,
       {},
       "zunth endpoints"},
      {"POST",
       "/api/login",
       "Log in",
       Needs::Nobody,
       logIn,
       {{"user", "the name", true}, {"password", "the password", true}},
       "--user NAME with any verb"},
      {"POST", "/api/logout", "Log out", Needs::Login, logOut},
      {"POST",
       "/api/first-user",
       "Make the first administrator, while there is none",
       Needs::Nobody,
       makeFirstUser,
       {{"code", "the code that zunthd printed", true}, {"user", "a name", true}, {"password", "a password", true}},
       "zunth user add NAME --role SecurityAdmin"},
      {"GET",
       "/api/live",
       "Values and alarms as they happen, over a WebSocket (docs/http.md)",
       Needs::Login,
       isLive,
       {},
       "zunth watch, zunth alarms --watch"},
      {"GET",
       "/api/stream",
       "The same as Server-Sent Events, for scripts that only listen",
       Needs::Login,
       isLive,
       {{"node", "a path or a NodeId; several times for more"},
        {"alarms", "true for alarms, too"},
        {"token", "in place of a login, here or as Authorization: Bearer: what it is for, in the rows of /api/table"},
        {"every", "with a token: ms between two looks, from 250 to 60,000; 1,000 without it"}},
       "zunth watch NODE…"},
      {"GET", "/api/status", "How the service is", Needs::Login, tellStatus, {}, "zunth status"},
  };
}

}  // namespace zunth::console
