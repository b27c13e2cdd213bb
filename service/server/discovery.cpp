#include "service/server/discovery.hpp"

#include "core/channel/url.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

/// The profiles of transport that a URL stands for (Part 7).
std::vector<std::string_view> transportsOf(const channel::Url& url) {
  switch (url.scheme) {
    case channel::Url::Scheme::WebSocket:
      return {"http://opcfoundation.org/UA-Profile/Transport/wss-uasc-uabinary",
              "http://opcfoundation.org/UA-Profile/Transport/wss-uajson"};
    case channel::Url::Scheme::Https:
      return {"http://opcfoundation.org/UA-Profile/Transport/https-uabinary",
              "http://opcfoundation.org/UA-Profile/Transport/https-uajson"};
    default: return {"http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"};
  }
}
bool hasChannel(std::string_view transport) { return transport.ends_with("-uasc-uabinary"); }

}  // namespace

ApplicationDescription Discovery::application() const {
  ApplicationDescription out;
  out.applicationUri = settings_.applicationUri;
  out.productUri = "urn:zunth";
  out.applicationName = LocalizedText(settings_.applicationName);
  out.applicationType = ApplicationType::Server;
  for (const auto& url : settings_.endpointUrls) out.discoveryUrls.push_back(url);
  return out;
}

List<EndpointDescription> Discovery::endpoints(const String& askedUrl) const {
  List<EndpointDescription> out;
  // What is said back to a stranger is no longer than an address.
  const bool isShort = askedUrl.size() <= settings_.limits.maxUrl;
  const auto asked =
      isShort ? channel::Url::parse(askedUrl.view()) : Result<channel::Url>(status::BadTcpEndpointUrlInvalid);
  for (const auto& listed : settings_.endpointUrls) {
    const auto url = channel::Url::parse(listed);
    if (!url) continue;
    // Part 4, 5.4.4: the client gets the host name by which it found the server, as another one may not resolve.
    const bool isAsked = asked && asked->scheme == url->scheme && asked->port == url->port;
    for (const auto transport : transportsOf(*url)) {
      auto add = [&](const secure::Policy* policy, MessageSecurityMode mode, std::uint8_t level) {
        const auto own = settings_.identities.of(policy ? policy->key : secure::KeyKind::Rsa);
        if (policy && !own) return;
        EndpointDescription endpoint;
        endpoint.endpointUrl = isAsked ? askedUrl : String(listed);
        endpoint.server = application();
        if (own) endpoint.serverCertificate = own->chain();
        endpoint.securityMode = mode;
        endpoint.securityPolicyUri = String(policy ? policy->uri : channel::kPolicyNone);
        endpoint.transportProfileUri = String(transport);
        endpoint.securityLevel = level;
        endpoint.userIdentityTokens = userTokens(policy, mode);
        out.push_back(std::move(endpoint));
      };
      // The strongest first.
      std::uint8_t level = 100;
      if (hasChannel(transport))
        for (auto mode : {MessageSecurityMode::SignAndEncrypt, MessageSecurityMode::Sign})
          for (const auto& policy : secure::policies())
            if (--level; settings_.offer.has(policy, mode == MessageSecurityMode::SignAndEncrypt))
              add(&policy, mode, level);
      // Over TLS nothing is left unsecured by policy None, though the client shows no certificate.
      if (settings_.allowUnsecured || url->isOverTls())
        add(nullptr, MessageSecurityMode::None, url->isOverTls() ? 50 : 0);
    }
  }
  return out;
}

List<UserTokenPolicy> Discovery::userTokens(const secure::Policy* channel, MessageSecurityMode mode) const {
  List<UserTokenPolicy> out;
  if (settings_.allowAnonymous) out.push_back({"anonymous", UserTokenType::Anonymous, {}, {}, {}});
  // A password is encrypted, a certificate proved on every channel: with the channel's policy, or one of its own.
  const String rsa(secure::policyFor(secure::KeyKind::Rsa)->uri);
  const bool hasCurves = channel && channel->usesCurves();
  const String proved = !channel || hasCurves ? rsa : String();
  // Keys on curves can't encrypt: there the channel must, or nothing secret may be said.
  const bool keepsSecrets = !hasCurves || mode == MessageSecurityMode::SignAndEncrypt;
  const String kept = hasCurves ? String(channel::kPolicyNone) : proved;
  const auto somebodyHas = [](const std::function<bool()>& any) { return !any || any(); };
  if (settings_.checkPassword && settings_.identities && keepsSecrets && somebodyHas(settings_.hasPasswords))
    out.push_back({"password", UserTokenType::UserName, {}, {}, kept});
  if (settings_.checkUserCertificate && settings_.identities && somebodyHas(settings_.hasUserCertificates)) {
    out.push_back({"certificate", UserTokenType::Certificate, {}, {}, proved});
    if (hasCurves) out.push_back({"certificate-ec", UserTokenType::Certificate, {}, {}, {}});
  }
  if (settings_.checkToken && settings_.identities && keepsSecrets && somebodyHas(settings_.hasTokenIssuers))
    out.push_back({"token", UserTokenType::IssuedToken, "http://opcfoundation.org/UA/UserToken#JWT", {}, kept});
  return out;
}

Result<void> Discovery::isPrivate(const Peer& peer) const {
  const auto mode = peer.security().mode;
  if (settings_.allowUnsecured || peer.isEncryptedBelow() || peer.account() || mode == MessageSecurityMode::Sign ||
      mode == MessageSecurityMode::SignAndEncrypt)
    return {};
  return Error{status::BadSecurityModeInsufficient, "this server takes signed or encrypted connections only",
               "set 'unsecured: on' in its site.yaml"};
}

Result<FindServersResponse> Discovery::findServers(const FindServersRequest& request, Context&) {
  FindServersResponse response;
  if (auto fine = core_.checkCount(std::max<std::size_t>(request.serverUris.size(), 1)); !fine) return fine.error();
  const bool wanted =
      request.serverUris.empty() ||
      std::ranges::find(request.serverUris, String(settings_.applicationUri)) != request.serverUris.end();
  if (wanted) response.servers.push_back(application());
  for (auto& other : core_.directory.servers(request.serverUris)) response.servers.push_back(std::move(other));
  return response;
}

Result<FindServersOnNetworkResponse> Discovery::findServersOnNetwork(const FindServersOnNetworkRequest& request,
                                                                     Context&) {
  FindServersOnNetworkResponse response;
  response.lastCounterResetTime = core_.directory.startedAt();
  response.servers =
      core_.directory.onNetwork(request.startingRecordId, request.maxRecordsToReturn, request.serverCapabilityFilter);
  return response;
}

/// Part 4, 5.4.5; Part 12: who registers has shown a certificate, and speaks for itself only.
Result<void> Discovery::mayRegister(const Context& context, const RegisteredServer& server) const {
  if (!settings_.acceptRegistrations)
    return Error{status::BadRequestNotAllowed, "this server keeps no directory of others",
                 "set 'directory: on' in its site.yaml"};
  if (auto fine = isPrivate(*context.peer); !fine) return fine;
  const auto& peer = context.peer->security().peer;
  if (!peer && settings_.allowUnsecured && !context.peer->isEncryptedBelow()) return {};
  if (!peer)
    return Error{
        status::BadSecurityModeInsufficient, "servers register over secure channels, with their certificate", {}};
  if (peer->applicationUri() != server.serverUri.str())
    return Error{status::BadServerUriInvalid,
                 "a server registers itself only: its certificate is of " + peer->applicationUri(),
                 {}};
  return {};
}

Result<RegisterServerResponse> Discovery::registerServer(const RegisterServerRequest& request, Context& context) {
  if (auto fine = mayRegister(context, request.server); !fine) return fine.error();
  if (auto entered = core_.directory.enter(request.server, {}, context.now); !entered) return entered.error();
  return RegisterServerResponse{};
}

Result<RegisterServer2Response> Discovery::registerServer2(const RegisterServer2Request& request, Context& context) {
  if (auto fine = mayRegister(context, request.server); !fine) return fine.error();
  RegisterServer2Response response;
  List<String> capabilities;
  if (auto fine = core_.checkCount(std::max<std::size_t>(request.discoveryConfiguration.size(), 1)); !fine)
    return fine.error();
  for (const auto& configuration : request.discoveryConfiguration) {
    auto multicast = configuration.as<MdnsDiscoveryConfiguration>();
    if (multicast) capabilities = multicast->serverCapabilities;
    response.configurationResults.push_back(multicast ? status::Good : status::BadNotSupported);
  }
  if (auto entered = core_.directory.enter(request.server, capabilities, context.now); !entered) return entered.error();
  return response;
}

Result<GetEndpointsResponse> Discovery::getEndpoints(const GetEndpointsRequest& request, Context&) {
  GetEndpointsResponse response;
  if (auto fine = core_.checkCount(std::max<std::size_t>(request.profileUris.size(), 1)); !fine) return fine.error();
  response.endpoints = endpoints(request.endpointUrl);
  if (!request.profileUris.empty())
    std::erase_if(response.endpoints, [&](const EndpointDescription& endpoint) {
      return std::ranges::find(request.profileUris, endpoint.transportProfileUri) == request.profileUris.end();
    });
  return response;
}

}  // namespace zunth::server
