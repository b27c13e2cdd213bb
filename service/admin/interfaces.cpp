#include "service/admin/interfaces.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/admin/state_list.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;

namespace {

const Error kTurnedOut{status::BadConnectionClosed, "an administrator has inhibited the way in", {}};

StateList inhibitedIn(const std::filesystem::path& folder) {
  return {folder / "state/inhibited.json", "interfaces",
          "move it away, and inhibit again what is to be (zunth interfaces)"};
}

std::string nameOf(const registers::RegisterFile& file) { return "registers/" + file.name; }

/// Of the URL of an endpoint.
std::string schemeOf(const std::string& url) { return url.substr(0, url.find(':')); }

}  // namespace

Result<std::vector<std::string>> Interfaces::open(const Site& site) {
  const auto kept = inhibitedIn(parts_.folder).load();
  if (!kept) return kept.error();
  for (const auto& name : *kept)
    if (name.is_string()) inhibited_.insert(name.get<std::string>());
  std::vector<std::string> urls;
  for (const auto& url : site.settings.endpointUrls) {
    endpoints_.push_back({url, {}});
    if (isInhibited(url)) {
      logs::site().warn("{} is inhibited: nobody comes in there until zunth interfaces --admit", url);
      continue;
    }
    auto listening = parts_.listener.listen(url);
    if (!listening) return listening.error();
    endpoints_.back().url = *listening;
    urls.push_back(*listening);
  }
  tellEndpoints();
  clientUrls_ = site.settings.clientUrls;
  for (const auto& url : clientUrls_)
    if (auto fine = parts_.listener.reach(url); !fine) return fine.error();
  console_ = site.console;
  for (const auto& failed : settleRegisters(site)) logs::site().error("{}; {}", failed.text(), failed.next);
  return urls;
}

void Interfaces::close() { registers_.clear(); }

std::vector<Error> Interfaces::settle(const Site& wanted) {
  console_ = wanted.console;
  auto failed = settleEndpoints(wanted);
  for (auto& each : settleRegisters(wanted)) failed.push_back(std::move(each));
  return failed;
}

/// Listens where that is new, and no longer where it isn't said any more. Where it can't, it goes on as before.
std::vector<Error> Interfaces::settleEndpoints(const Site& wanted) {
  std::vector<Error> failed;
  const auto isIn = [](const auto& list, const std::string& url) { return std::ranges::find(list, url) != list.end(); };
  const auto& urls = wanted.settings.endpointUrls;
  std::vector<Endpoint> now;
  for (const auto& url : urls) {
    const auto known = std::ranges::find(endpoints_, url, &Endpoint::asked);
    if (known != endpoints_.end()) {
      now.push_back(*known);
    } else if (isInhibited(url)) {
      now.push_back({url, {}});
    } else if (auto open = parts_.listener.listen(url)) {
      now.push_back({url, *open});
      logs::site().info("it listens at {}, too", *open);
    } else {
      failed.push_back(open.error());
    }
  }
  // Without any new one that works, nobody is locked out.
  if (!now.empty())
    for (const auto& old : std::exchange(endpoints_, now))
      if (!isIn(urls, old.asked) && !old.url.empty()) parts_.listener.leave(old.url);
  tellEndpoints();
  for (const auto& url : clientUrls_)
    if (!isIn(wanted.settings.clientUrls, url)) parts_.listener.forget(url);
  for (const auto& url : wanted.settings.clientUrls)
    if (!isIn(clientUrls_, url))
      if (auto fine = parts_.listener.reach(url); !fine) failed.push_back(fine.error());
  clientUrls_ = wanted.settings.clientUrls;
  return failed;
}

void Interfaces::tellEndpoints() {
  std::vector<std::string> open;
  for (const auto& each : endpoints_)
    if (!each.url.empty()) open.push_back(each.url);
  parts_.server.setEndpointUrls(open);
}

std::vector<Error> Interfaces::settleRegisters(const Site& wanted) {
  std::map<std::string, registers::RegisterFile> before = std::exchange(files_, {});
  for (const auto& file : wanted.registers) files_[nameOf(file)] = file;
  std::erase_if(registers_, [&](const auto& each) { return !files_.contains(each.first); });
  std::vector<Error> failed;
  for (const auto& [name, file] : files_) {
    const auto was = before.find(name);
    auto& own = registers_[name];
    const bool isThere = own.door && was != before.end() && was->second.address() == file.address();
    if (isThere) {
      own.server->adopt(file);
      continue;
    }
    own = {};
    if (isInhibited(name)) continue;
    if (auto why = openRegisters(name)) failed.push_back(std::move(*why));
  }
  return failed;
}

std::optional<Error> Interfaces::openRegisters(const std::string& name) {
  auto& own = registers_[name];
  registers::RegisterServer::Parts parts{parts_.loops, parts_.server, [this] { parts_.listener.served(); },
                                         [this] { return parts_.listener.nextChannelId(); }};
  own.server = std::make_shared<registers::RegisterServer>(std::move(parts), files_.at(name));
  own.door = std::make_unique<registers::RegisterDoor>(parts_.loops, own.server);
  auto open = own.door->open();
  if (open) {
    own.address = *open;
    own.why.clear();
    logs::site().info("{} is served by Modbus at {}", name, *open);
    return std::nullopt;
  }
  own = {};
  own.why = open.error().text();
  return open.error();
}

void Interfaces::answer(Control& control) {
  control.on("interfaces", [this](const Actor&, const Json&, const Control::Answer& told) {
    told({{"interfaces", list()}});
  });
  for (const bool isInhibiting : {true, false})
    control.on(isInhibiting ? "inhibit" : "admit",
               [this, isInhibiting](const Actor& actor, const Json& asked, const Control::Answer& told) {
                 auto changed = change(actor, asked, isInhibiting);
                 told(changed ? std::move(*changed) : Json{{"error", jsonOf(changed.error())}});
               });
}

Json Interfaces::list() const {
  std::map<std::string, std::size_t> sessions;  // by the URL that they came in at
  for (const auto* session : parts_.server.sessionList()) ++sessions[session->proof.entrance.url.str()];
  Json out = Json::array();
  const auto add = [&](const std::string& name, const std::string& kind, const std::string& at, std::size_t clients,
                       const std::string& why) {
    const char* const state = isInhibited(name) ? "inhibited" : why.empty() ? "open" : "closed";
    out.push_back({{"name", name}, {"kind", kind}, {"at", at}, {"state", state}, {"clients", clients}, {"why", why}});
  };
  for (const auto& each : endpoints_) {
    const std::string& at = each.url.empty() ? each.asked : each.url;
    add(each.asked, schemeOf(each.asked), at, sessions[each.url], {});
  }
  for (const auto& [name, own] : registers_) {
    const auto& file = files_.at(name);
    add(name, "modbus-tcp", own.address.empty() ? file.address() : own.address, own.door ? own.door->clients() : 0,
        own.why);
    if (!own.server) continue;
    out.back()["requests"] = own.server->requests();
    out.back()["refused"] = own.server->refused();
  }
  if (!console_.empty()) add(kConsole, schemeOf(console_), console_, sessions[console_], {});
  return out;
}

std::vector<std::string> Interfaces::names() const {
  std::vector<std::string> out;
  for (const auto& each : endpoints_) out.push_back(each.asked);
  for (const auto& [name, file] : files_) out.push_back(name);
  if (!console_.empty()) out.emplace_back(kConsole);
  return out;
}

Result<Json> Interfaces::change(const Actor& actor, const Json& asked, bool isInhibiting) {
  std::string name = asked.value("name", "");
  // Its true address will do, too.
  for (const auto& each : endpoints_)
    if (each.url == name && !name.empty()) name = each.asked;
  const auto known = names();
  if (std::ranges::find(known, name) == known.end()) {
    const auto near = nearest(name, known);
    return Error{status::BadNotFound, "there is no interface " + shown(name),
                 near.empty() ? "zunth interfaces shows them all" : "did you mean " + near + "?"};
  }
  if (isInhibited(name) == isInhibiting)
    return Error{status::BadInvalidState, shown(name) + (isInhibiting ? " is inhibited already" : " is not inhibited"),
                 "zunth interfaces"};
  auto after = inhibited_;
  if (isInhibiting)
    after.insert(name);
  else
    after.erase(name);
  Json kept = Json::array();
  for (const auto& each : after) kept.push_back(each);
  auto outcome = inhibitedIn(parts_.folder).save(std::move(kept));
  if (outcome) {
    inhibited_ = std::move(after);
    outcome = carryOut(name, isInhibiting);
  }
  parts_.record({DateTime::from(std::chrono::system_clock::now()),
                 isInhibiting ? "interface inhibited" : "interface admitted",
                 actor.name,
                 {},
                 {},
                 outcome ? status::Good : outcome.code(),
                 shown(name)});
  if (!outcome) return outcome.error();
  logs::site().warn("{} was {} by {}", name, isInhibiting ? "inhibited" : "admitted", actor.name);
  return Json{{"name", name}, {"state", isInhibiting ? "inhibited" : "open"}};
}

Result<void> Interfaces::carryOut(const std::string& name, bool isInhibiting) {
  if (name == kConsole) {
    parts_.consoleChanged();
    return {};
  }
  if (files_.contains(name)) {
    registers_[name] = {};
    if (isInhibiting) return {};
    auto why = openRegisters(name);
    return why ? Result<void>(std::move(*why)) : Result<void>();
  }
  const auto endpoint = std::ranges::find(endpoints_, name, &Endpoint::asked);
  if (!isInhibiting) {
    auto open = parts_.listener.listen(name);
    if (!open) return open.error();
    endpoint->url = *open;
    tellEndpoints();
    return {};
  }
  const std::string url = std::exchange(endpoint->url, {});
  tellEndpoints();
  parts_.listener.leave(url);
  parts_.listener.turnOut(url, kTurnedOut);
  std::vector<NodeId> sessions;
  for (const auto* session : parts_.server.sessionList())
    if (session->proof.entrance.url.view() == url) sessions.push_back(session->sessionId);
  for (const auto& session : sessions) parts_.server.endSession(session, kTurnedOut);
  return {};
}

}  // namespace zunth::admin
