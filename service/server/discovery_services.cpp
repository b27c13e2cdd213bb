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
  for (const auto& url : settings_.endpointUrls) {
    if (!settings_.allowUnsecured) continue;
    EndpointDescription endpoint;
    // Part 4, 5.4.4: the client gets the host name by which it found the server, as another one may not resolve.
    endpoint.endpointUrl =
        !authority(askedUrl.view()).empty() && portOf(askedUrl.view()) == portOf(url) ? askedUrl : String(url);
    endpoint.server = application();
    endpoint.securityMode = MessageSecurityMode::None;
    endpoint.securityPolicyUri = channel::kPolicyNone;
    endpoint.transportProfileUri = kTransportBinary;
    if (settings_.allowAnonymous)
      endpoint.userIdentityTokens.push_back({"anonymous", UserTokenType::Anonymous, {}, {}, {}});
    out.push_back(std::move(endpoint));
  }
  return out;
}

Result<FindServersResponse> Server::findServers(const FindServersRequest& request, Context&) {
  FindServersResponse response;
  const bool wanted =
      request.serverUris.empty() ||
      std::ranges::find(request.serverUris, String(settings_.applicationUri)) != request.serverUris.end();
  if (wanted) response.servers.push_back(application());
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
