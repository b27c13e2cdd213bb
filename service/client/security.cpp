#include "service/client/security.hpp"

#include <algorithm>
#include <stdexcept>

#include <fmt/format.h>
#include <openssl/rand.h>

namespace zunth::client {

using namespace ua;

namespace {

/// How strong an endpoint is: what is encrypted before what is signed, then the better policy. secure::policies() names
/// the best first.
std::pair<int, std::ptrdiff_t> strengthOf(const EndpointDescription& endpoint) {
  const auto& known = secure::policies();
  const auto at =
      std::ranges::find_if(known, [&](const auto& policy) { return policy.uri == endpoint.securityPolicyUri.view(); });
  return {static_cast<int>(endpoint.securityMode), std::end(known) - at};
}

std::string describe(const EndpointDescription& endpoint) {
  const std::string uri = endpoint.securityPolicyUri.str();
  const std::string policy = uri.substr(uri.rfind('#') + 1);
  switch (endpoint.securityMode) {
    case MessageSecurityMode::Sign: return policy + " (sign)";
    case MessageSecurityMode::SignAndEncrypt: return policy + " (encrypt)";
    default: return "none";
  }
}

}  // namespace

Result<EndpointDescription> chooseEndpoint(const List<EndpointDescription>& offered, const Security& security,
                                           const channel::Url& url, bool isOnThisMachine) {
  // Over WebSockets a channel is one choice, JSON messages without one are another.
  const std::string_view transport =
      url.scheme == channel::Url::Scheme::WebSocket ? "wss-uasc-uabinary" : "uatcp-uasc-uabinary";
  const EndpointDescription* best = nullptr;
  auto wish = security.wish;
  const bool offersNone = std::ranges::any_of(offered, [](const auto& e) {
    return e.securityMode == MessageSecurityMode::None && !e.userIdentityTokens.empty();
  });
  if (wish == Security::Wish::Auto && security.policy.empty() && isOnThisMachine && offersNone)
    wish = Security::Wish::None;
  for (const auto& endpoint : offered) {
    const auto* policy = secure::policyOf(endpoint.securityPolicyUri.view());
    const bool isNone = endpoint.securityMode == MessageSecurityMode::None;
    if ((wish == Security::Wish::None) != isNone || (!isNone && !policy)) continue;
    if (wish == Security::Wish::Sign && endpoint.securityMode != MessageSecurityMode::Sign) continue;
    if (wish == Security::Wish::Encrypt && endpoint.securityMode != MessageSecurityMode::SignAndEncrypt) continue;
    if (!security.policy.empty() && (!policy || policy->name != security.policy)) continue;
    const auto profile = endpoint.transportProfileUri.view();
    if (profile.empty() ? url.isOverTls() : !profile.ends_with(transport)) continue;
    if (!best || strengthOf(endpoint) > strengthOf(*best)) best = &endpoint;
  }
  if (best) return *best;
  std::string all;
  for (const auto& endpoint : offered) all += (all.empty() ? "" : ", ") + describe(endpoint);
  return Error{status::BadSecurityModeRejected,
               all.empty() ? "the server offers no endpoint: it lets nobody in"
                           : "the server offers no such security; it offers " + all,
               "zunth endpoints"};
}

Result<void> checkOffered(const List<EndpointDescription>& told, const ChannelSecurityChoice& choice,
                          const Security& security, const channel::Url& url) {
  if (!choice.policy) return {};
  const Error forged{status::BadSecurityChecksFailed,
                     "what the server offers was changed on the way: somebody wants a weaker connection",
                     "ask who sits between this client and the server"};
  const auto best = chooseEndpoint(told, security, url, false);
  // Some servers tell a session of fewer endpoints; what they do tell must have been there before.
  if (!best) return {};
  EndpointDescription taken;
  taken.securityMode = choice.mode;
  taken.securityPolicyUri = String(choice.policy->uri);
  if (strengthOf(*best) > strengthOf(taken)) return forged;
  for (const auto& endpoint : told) {
    if (endpoint.securityMode != choice.mode || endpoint.securityPolicyUri.view() != choice.policy->uri) continue;
    const auto shown = secure::Certificate::fromDer(endpoint.serverCertificate);
    if (!endpoint.serverCertificate.empty() && (!shown || !(*shown == *choice.server))) return forged;
  }
  return {};
}

ChannelSecurityChoice unsecured(const Security& security, const std::string& url) {
  ChannelSecurityChoice choice;
  if (const auto parsed = channel::Url::parse(url); parsed && security.trust)
    choice.trustTls = [trust = security.trust, host = parsed->host](const ByteString& chain) {
      return trust(chain, host, {});
    };
  return choice;
}

ByteString randomOctets(std::size_t count) {
  std::vector<std::byte> octets(count);
  if (RAND_bytes(reinterpret_cast<unsigned char*>(octets.data()), static_cast<int>(count)) != 1)
    throw std::runtime_error("the system gives no random numbers");
  return ByteString(octets.data(), octets.size());
}

}  // namespace zunth::client
