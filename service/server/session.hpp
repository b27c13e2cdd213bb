#pragma once

#include "core/monitor/subscription.hpp"
#include "core/secure/roles.hpp"
#include "core/space/query.hpp"
#include "service/server/peer.hpp"

#include <deque>
#include <map>
#include <memory>

namespace zunth::server {

/// Who a session's user turned out to be.
struct User {
  ua::String name;                     // empty for an anonymous one
  secure::Caller caller;               // as role rules see it
  std::vector<ua::NodeId> ownRoles;    // given to this very user
  ua::String mechanism = "Anonymous";  // how they proved it
  ua::ByteString certificate;          // with its chain, of a user with one
  ua::DateTime validTo;                // of what they proved it with; null when that doesn't run out
  bool isVouchedFor = false;           // by a door of the site's own: it has its own roles and no others
};

/// What the channel that created a session had proved. It stays with the session, whatever becomes of the channel; the
/// session moves only to channels that prove the same (Part 4, 5.6.3).
struct Proof {
  ua::String policyUri;
  ua::MessageSecurityMode mode = ua::MessageSecurityMode::Invalid;
  ua::ByteString certificate;                         // with its chain; empty without a policy
  std::shared_ptr<const secure::Certificate> client;  // the same, read; null without a policy
  bool isEncryptedBelow = false;
  Entrance entrance;
  std::string host;  // "127.0.0.1"

  static Proof of(const Peer& peer);
  std::string applicationUri() const { return client ? client->applicationUri() : std::string(); }
};

struct HistoryRest;

/// A session (Part 4, 5.6): who speaks, over which channel, and what waits for an answer.
struct Session : ua::Due {
  ua::NodeId sessionId;
  ua::NodeId token;  // the client's secret name for it
  ua::String name;
  ua::ApplicationDescription client;
  ua::String endpointUrl;  // as the client wrote it
  Proof proof;
  User user;
  space::Rights rights;  // what this user may do here
  double timeout = 0;    // ms without a word from the client before it is closed
  ua::Instant createdAt{}, lastContact{};
  std::weak_ptr<Peer> peer;
  std::uint32_t channelId = 0;
  std::uint32_t creatingChannel = 0;  // on whose account it stands
  bool isActivated = false;
  bool isActivating = false;  // a password is being looked at: it doesn't give way meanwhile
  /// Octets that wait in its subscriptions' queues.
  std::unique_ptr<ua::Allowance> queued;
  std::size_t itemCount = 0;   // monitored items of all its subscriptions
  std::uint64_t lastTurn = 0;  // of its subscriptions, in publishing
  /// Answers that wait for others; some may have been given since.
  std::vector<std::weak_ptr<Outstanding>> outstanding;
  ua::ByteString serverNonce;  // the last one given; the client signs it when it activates the session
  std::shared_ptr<const secure::Identity> identity;  // what the server showed this client
  std::uint32_t maxResponseSize = 0;                 // octets; 0 for any
  ua::List<ua::String> locales;

  /// Counters and times as the diagnostics show them (Part 5, 12.11); the rest is filled in when they are read.
  ua::SessionDiagnosticsDataType diagnostics;
  ua::SessionSecurityDiagnosticsDataType security;

  /// The rest of a Browse that didn't fit into one response.
  struct BrowseRest {
    ua::BrowseDescription what;
    space::NodeIndex view = space::kNoNode;
    std::uint32_t most = 0, from = 0;
  };
  std::map<std::uint32_t, BrowseRest> browseRests;  // by number of the continuation point
  /// The rest of a query.
  struct QueryRest {
    space::Query query;
    std::uint32_t most = 0;
    space::NodeIndex from = 0;
  };
  std::map<std::uint32_t, QueryRest> queryRests;
  /// The rest of what was asked for of a node's history.
  std::map<std::uint32_t, std::shared_ptr<HistoryRest>> historyRests;
  std::uint32_t lastContinuation = 0;

  /// A Publish request that waits for something to tell.
  struct WaitingPublish {
    Reply reply;
    ua::List<ua::StatusCode> acknowledged;
    ua::Instant giveUpAt;
  };
  std::deque<WaitingPublish> publishes;
  std::map<std::uint32_t, std::unique_ptr<monitor::Subscription>> subscriptions;
  /// The last words of subscriptions that are no longer this session's.
  std::deque<std::pair<std::uint32_t, ua::NotificationMessage>> notices;

  /// How audit and shares name its user.
  std::string userName() const { return user.name.empty() ? "Anonymous" : user.name.str(); }
};

}  // namespace zunth::server
