#pragma once

#include "core/ua/generated/structures.hpp"
#include "core/ua/instant.hpp"

#include <map>

namespace zunth::server {

/// Other servers that have registered here, as with a discovery server (Part 4, 5.4; Part 12, 4.3). A registration
/// lapses when it isn't renewed for ten minutes.
class ServerDirectory {
 public:
  explicit ServerDirectory(ua::DateTime startedAt) : startedAt_(startedAt) {}

  /// BadServerUriInvalid, BadServerNameMissing, BadDiscoveryUrlMissing, BadInvalidArgument (a client, or more text than
  /// a server needs), BadResourceUnavailable (1,000 servers are there). A server that says it is going offline is taken
  /// out.
  ua::Result<void> enter(const ua::RegisteredServer& server, const ua::List<ua::String>& capabilities, ua::Instant now);
  void forgetOld(ua::Instant now);

  /// Those that are registered, by URI; all of them for an empty list.
  ua::List<ua::ApplicationDescription> servers(const ua::List<ua::String>& uris) const;
  /// The records from one on that have all of the capabilities asked for (Part 4, 5.4.3).
  ua::List<ua::ServerOnNetwork> onNetwork(std::uint32_t startingRecord, std::uint32_t most,
                                          const ua::List<ua::String>& capabilities) const;
  ua::DateTime startedAt() const { return startedAt_; }

 private:
  struct Entry {
    ua::RegisteredServer server;
    ua::List<ua::String> capabilities;
    std::uint32_t record = 0;
    ua::Instant lapses{};
  };
  std::map<std::string, Entry> entries_;  // by server URI
  ua::DateTime startedAt_;
  std::uint32_t lastRecord_ = 0;
};

}  // namespace zunth::server
