#pragma once

#include "service/server/peer.hpp"
#include "service/server/settings.hpp"

namespace zunth::server {

/// What stands behind the doors: it serves what comes over their channels. `Server` does so itself; what passes
/// requests on to another server would be one, too. All calls on one thread.
class Services {
 public:
  virtual ~Services() = default;
  /// Serves one request, or begins to. `body` starts with its encoding id.
  virtual void handle(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, ua::BytesView body) = 0;
  /// The channel of a peer was opened or its token renewed, or it ended.
  virtual void channelOpened(const Peer& peer, const ua::OpenSecureChannelRequest& request) = 0;
  virtual void channelClosed(const Peer& peer, const ua::Error& why) = 0;
  /// Whether a session is activated on the channel: such channels don't give way to newcomers (Part 4, 5.5.2).
  virtual bool hasSession(std::uint32_t channelId) const = 0;
  /// Does what is due. To be called at nextDue() and after any handle().
  virtual void tick() = 0;
  virtual ua::Instant nextDue() const = 0;
  /// Who is let in, what is shown to clients, and the limits that doors keep.
  virtual const Settings& settings() const = 0;
};

}  // namespace zunth::server
