#include "service/server/server.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

constexpr std::string_view kTransportBinary = "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary";

/// "opc.tcp://host:4840/path" -> host with port, the rest; empty when it is no such URL.
std::string_view authority(std::string_view url) {
  constexpr std::string_view scheme = "opc.tcp://";
  if (!url.starts_with(scheme)) return {};
  url.remove_prefix(scheme.size());
  return url.substr(0, url.find('/'));
}
std::string_view portOf(std::string_view url) {
  const auto host = authority(url);
  const auto colon = host.rfind(':');
  return colon == std::string_view::npos || host.ends_with(']') ? "4840" : host.substr(colon + 1);
}

}  // namespace

ApplicationDescription Server::application() const {
  ApplicationDescription out;
  out.applicationUri = settings_.applicationUri;
  out.productUri = "urn:zunth";
  out.applicationName = LocalizedText(settings_.applicationName);
  out.applicationType = ApplicationType::Server;
  for (const auto& url : settings_.endpointUrls) out.discoveryUrls.push_back(url);
  return out;
}

List<EndpointDescription> Server::endpoints(const String& askedUrl) const {
  List<EndpointDescription> out;
  auto add = [&](const std::string& url, std::string_view policyUri, MessageSecurityMode mode, std::uint8_t level) {
    EndpointDescription endpoint;
    // Part 4, 5.4.4: the client gets the host name by which it found the server, as another one may not resolve.
    endpoint.endpointUrl =
        !authority(askedUrl.view()).empty() && portOf(askedUrl.view()) == portOf(url) ? askedUrl : String(url);
    endpoint.server = application();
    if (settings_.identity) endpoint.serverCertificate = settings_.identity->certificate.der();
    endpoint.securityMode = mode;
    endpoint.securityPolicyUri = String(policyUri);
    endpoint.transportProfileUri = kTransportBinary;
    endpoint.securityLevel = level;
    if (settings_.allowAnonymous)
      endpoint.userIdentityTokens.push_back({"anonymous", UserTokenType::Anonymous, {}, {}, {}});
    // A password is encrypted on every channel: with the channel's policy, or one of its own.
    if (settings_.checkPassword && settings_.identity)
      endpoint.userIdentityTokens.push_back(
          {"password",
           UserTokenType::UserName,
           {},
           {},
           mode == MessageSecurityMode::None ? String(secure::policyNamed("Basic256Sha256")->uri) : String()});
    out.push_back(std::move(endpoint));
  };
  for (const auto& url : settings_.endpointUrls) {
    // The strongest first.
    std::uint8_t level = 100;
    if (settings_.identity)
      for (auto mode : {MessageSecurityMode::SignAndEncrypt, MessageSecurityMode::Sign})
        for (const auto& policy : secure::policies()) add(url, policy.uri, mode, --level);
    if (settings_.allowUnsecured) add(url, channel::kPolicyNone, MessageSecurityMode::None, 0);
  }
  return out;
}

Result<FindServersResponse> Server::findServers(const FindServersRequest& request, Context&) {
  FindServersResponse response;
  const bool wanted =
      request.serverUris.empty() ||
      std::ranges::find(request.serverUris, String(settings_.applicationUri)) != request.serverUris.end();
  if (wanted) response.servers.push_back(application());
  for (auto& other : directory_.servers(request.serverUris)) response.servers.push_back(std::move(other));
  return response;
}

Result<FindServersOnNetworkResponse> Server::findServersOnNetwork(const FindServersOnNetworkRequest& request,
                                                                  Context&) {
  FindServersOnNetworkResponse response;
  response.lastCounterResetTime = directory_.startedAt();
  response.servers =
      directory_.onNetwork(request.startingRecordId, request.maxRecordsToReturn, request.serverCapabilityFilter);
  return response;
}

Result<void> Server::mayRegister(const Context& context) const {
  if (!settings_.acceptRegistrations)
    return Error{status::BadRequestNotAllowed, "this server keeps no directory of others",
                 "set 'directory: on' in its site.yaml"};
  const auto mode = context.peer->security().mode;
  if (!settings_.allowUnsecured && mode != MessageSecurityMode::Sign && mode != MessageSecurityMode::SignAndEncrypt)
    return Error{status::BadSecurityModeInsufficient, "servers register over signed or encrypted connections", {}};
  return {};
}

Result<RegisterServerResponse> Server::registerServer(const RegisterServerRequest& request, Context& context) {
  if (auto fine = mayRegister(context); !fine) return fine.error();
  if (auto entered = directory_.enter(request.server, {}, context.now); !entered) return entered.error();
  return RegisterServerResponse{};
}

Result<RegisterServer2Response> Server::registerServer2(const RegisterServer2Request& request, Context& context) {
  if (auto fine = mayRegister(context); !fine) return fine.error();
  RegisterServer2Response response;
  List<String> capabilities;
  for (const auto& configuration : request.discoveryConfiguration) {
    auto multicast = configuration.as<MdnsDiscoveryConfiguration>();
    if (multicast) capabilities = multicast->serverCapabilities;
    response.configurationResults.push_back(multicast ? status::Good : status::BadNotSupported);
  }
  if (auto entered = directory_.enter(request.server, capabilities, context.now); !entered) return entered.error();
  return response;
}

Result<GetEndpointsResponse> Server::getEndpoints(const GetEndpointsRequest& request, Context&) {
  GetEndpointsResponse response;
  const bool wanted = request.profileUris.empty() ||
                      std::ranges::find(request.profileUris, String(kTransportBinary)) != request.profileUris.end();
  if (wanted) response.endpoints = endpoints(request.endpointUrl);
  return response;
}

}  // namespace zunth::server
