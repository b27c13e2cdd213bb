#include "service/server/server_directory.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

constexpr auto kLapse = std::chrono::minutes(10);
constexpr std::size_t kMostServers = 1'000, kMostTexts = 100, kLongestText = 4'096;

bool isModest(const RegisteredServer& server, const List<String>& capabilities) {
  const auto isShort = [](const String& text) { return text.size() <= kLongestText; };
  return server.serverNames.size() <= kMostTexts && server.discoveryUrls.size() <= kMostTexts &&
         capabilities.size() <= kMostTexts && isShort(server.serverUri) && isShort(server.productUri) &&
         isShort(server.gatewayServerUri) && std::ranges::all_of(server.discoveryUrls, isShort) &&
         std::ranges::all_of(capabilities, isShort) &&
         std::ranges::all_of(server.serverNames, [&](const auto& name) { return isShort(name.text); });
}

}  // namespace

Result<void> ServerDirectory::enter(const RegisteredServer& server, const List<String>& capabilities, Instant now) {
  if (server.serverUri.empty()) return Error{status::BadServerUriInvalid, "the server names no URI of its own", {}};
  if (server.serverType == ApplicationType::Client)
    return Error{status::BadInvalidArgument, "a client can't be registered as a server", {}};
  const bool isNamed = std::ranges::any_of(server.serverNames, [](const auto& name) { return !name.text.empty(); });
  if (!isNamed) return Error{status::BadServerNameMissing, "the server has no name", {}};
  const std::string uri = server.serverUri.str();
  if (!server.isOnline) {
    entries_.erase(uri);
    return {};
  }
  if (server.discoveryUrls.empty())
    return Error{status::BadDiscoveryUrlMissing, "the server doesn't say where it is to be found", {}};
  if (!isModest(server, capabilities))
    return Error{
        status::BadInvalidArgument, "a registration has 100 texts of each kind at most, none of them long", {}};
  if (entries_.size() >= kMostServers && !entries_.contains(uri))
    return Error{status::BadResourceUnavailable, "the directory has as many servers as it may", {}};
  auto& entry = entries_[uri];
  if (entry.record == 0) entry.record = ++lastRecord_;
  entry.server = server;
  entry.capabilities = capabilities;
  entry.lapses = now + kLapse;
  return {};
}

void ServerDirectory::forgetOld(Instant now) {
  std::erase_if(entries_, [now](const auto& entry) { return entry.second.lapses < now; });
}

List<ApplicationDescription> ServerDirectory::servers(const List<String>& uris) const {
  List<ApplicationDescription> out;
  for (const auto& [uri, entry] : entries_) {
    if (!uris.empty() && std::ranges::find(uris, entry.server.serverUri) == uris.end()) continue;
    ApplicationDescription description;
    description.applicationUri = entry.server.serverUri;
    description.productUri = entry.server.productUri;
    if (!entry.server.serverNames.empty()) description.applicationName = entry.server.serverNames.front();
    description.applicationType = entry.server.serverType;
    description.gatewayServerUri = entry.server.gatewayServerUri;
    description.discoveryUrls = entry.server.discoveryUrls;
    out.push_back(std::move(description));
  }
  return out;
}

List<ServerOnNetwork> ServerDirectory::onNetwork(std::uint32_t startingRecord, std::uint32_t most,
                                                 const List<String>& capabilities) const {
  List<ServerOnNetwork> out;
  for (const auto& [uri, entry] : entries_) {
    const bool has = std::ranges::all_of(capabilities, [&entry = entry](const String& wanted) {
      return std::ranges::find(entry.capabilities, wanted) != entry.capabilities.end();
    });
    if (!has || entry.record < startingRecord) continue;
    for (const auto& url : entry.server.discoveryUrls)
      out.push_back({entry.record, entry.server.serverNames.front().text, url, entry.capabilities});
  }
  std::ranges::sort(out, {}, &ServerOnNetwork::recordId);
  if (most && out.size() > most) out.resize(most);
  return out;
}

}  // namespace zunth::server
