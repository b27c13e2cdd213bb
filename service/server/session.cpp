#include "service/server/session.hpp"

#include "service/server/shares.hpp"

namespace zunth::server {

Proof Proof::of(const Peer& peer) {
  const auto& security = peer.security();
  return {security.policyUri,      security.mode,   security.peerCertificate, security.peer,
          peer.isEncryptedBelow(), peer.entrance(), hostOf(peer.address())};
}

}  // namespace zunth::server
