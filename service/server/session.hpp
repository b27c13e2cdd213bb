#pragma once

#include "core/monitor/subscription.hpp"
#include "service/server/peer.hpp"

#include <deque>
#include <map>
#include <memory>

namespace zunth::server {

/// A session (Part 4, 5.6): who speaks, over which channel, and what waits for an answer.
struct Session {
  ua::NodeId sessionId;
  ua::NodeId token;  // the client's secret name for it
  ua::String name;
  ua::ApplicationDescription client;
  double timeout = 0;  // ms without a word from the client before it is closed
  ua::Instant lastContact{};
  std::weak_ptr<Peer> peer;
  std::uint32_t channelId = 0;
  bool isActivated = false;
  ua::List<ua::String> locales;

  /// The rest of a Browse that didn't fit into one response.
  struct BrowseRest {
    ua::BrowseDescription what;
    std::uint32_t most = 0, from = 0;
  };
  std::map<std::uint32_t, BrowseRest> browseRests;  // by number of the continuation point
  std::uint32_t lastContinuation = 0;

  /// A Publish request that waits for something to tell.
  struct WaitingPublish {
    Reply reply;
    ua::List<ua::StatusCode> acknowledged;
    ua::Instant giveUpAt;
  };
  std::deque<WaitingPublish> publishes;
  std::map<std::uint32_t, std::unique_ptr<monitor::Subscription>> subscriptions;
};

}  // namespace zunth::server
