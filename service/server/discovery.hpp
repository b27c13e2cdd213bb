#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// The Discovery Service Set (Part 4, 5.4), and the endpoints that sessions are told of, too.
class Discovery : Service {
 public:
  explicit Discovery(Core& core) : Service(core) {}

  ua::Result<ua::FindServersResponse> findServers(const ua::FindServersRequest&, Context&);
  ua::Result<ua::FindServersOnNetworkResponse> findServersOnNetwork(const ua::FindServersOnNetworkRequest&, Context&);
  ua::Result<ua::GetEndpointsResponse> getEndpoints(const ua::GetEndpointsRequest&, Context&);
  ua::Result<ua::RegisterServerResponse> registerServer(const ua::RegisterServerRequest&, Context&);
  ua::Result<ua::RegisterServer2Response> registerServer2(const ua::RegisterServer2Request&, Context&);

  ua::ApplicationDescription application() const;
  /// All endpoints, as a client sees them that found the server by `askedUrl`.
  ua::List<ua::EndpointDescription> endpoints(const ua::String& askedUrl) const;
  /// Whether nobody can listen or meddle: by the channel, by TLS below it, or because the site wants it open.
  ua::Result<void> isPrivate(const Peer& peer) const;

 private:
  ua::List<ua::UserTokenPolicy> userTokens(const secure::Policy* policy, ua::MessageSecurityMode mode) const;
  ua::Result<void> mayRegister(const Context& context, const ua::RegisteredServer& server) const;
};

}  // namespace zunth::server
