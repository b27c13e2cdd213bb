#pragma once

#include <cstddef>
#include <cstdint>

namespace zunth::server {

/// What a server grants at most. Each is published where the standard has a place for it (Part 5, 6.3.2; Part 4), and
/// listed in docs/limits.md. What one client may take is a share of what there is for all: nobody can take the rest's.
struct Limits {
  // Connections, by whichever door
  std::uint32_t maxConnections = 200;
  std::uint32_t maxTlsHandshakes = 16;  // under way at once

  // Sessions
  std::uint32_t maxSessions = 100;
  std::uint32_t maxSessionsPerUser = 50;     // by user, once logged in
  std::uint32_t maxSessionsPerAddress = 75;  // by the host that they come from
  std::uint32_t maxSessionsPerConnection = 25;
  double leastSessionTimeout = 1'000;     // ms
  double mostSessionTimeout = 3'600'000;  // ms
  double timeToActivate = 30'000;         // ms from CreateSession on

  // One request
  std::uint32_t maxOperationsPerRequest = 1'000;
  std::size_t maxRequestBeforeActivation = 64 * 1024;   // octets
  std::uint32_t maxPartsPerRequest = 50'000;            // texts, arrays and other pieces of memory
  std::size_t maxResponse = 16u << 20;                  // octets, about; less where the client takes less
  double slice = 2;                                     // ms of one request's work before others have their turn
  std::uint32_t maxContinuationPointsPerSession = 100;  // of Browse, and as many of queries
  std::uint32_t maxReferencesPerNode = 1'000;           // in one BrowseResult
  std::uint32_t maxDataSetsPerQuery = 1'000;            // in one response
  std::uint32_t maxFilterElements = 250;
  std::uint32_t maxFilterOperands = 1'000;  // of all elements
  std::uint32_t maxSelectClauses = 250;

  // Subscriptions
  std::uint32_t maxSubscriptions = 10'000;  // of all sessions
  std::uint32_t maxSubscriptionsPerSession = 100;
  std::uint32_t maxSubscriptionsPerUser = 2'500;  // with those that outlived their sessions
  std::uint32_t maxMonitoredItems = 1'000'000;    // of all sessions
  std::uint32_t maxMonitoredItemsPerSession = 250'000;
  std::uint32_t maxMonitoredItemsPerUser = 750'000;
  std::uint32_t maxMonitoredItemsPerSubscription = 250'000;
  std::uint32_t maxPublishRequestsPerSession = 100;
  std::uint32_t maxQueueSize = 10'000;  // of a monitored item; durable subscriptions have ten times that
  std::uint32_t defaultEventQueueSize = 1'000;
  std::size_t maxQueuedPerSession = 64u << 20;  // octets that wait to be published or acknowledged, about
  std::size_t maxQueued = 512u << 20;           // of all sessions
  double leastSamplingInterval = 10;            // ms, where one is asked for; 0 takes every change
  double mostSamplingInterval = 3'600'000;      // ms
  double leastPublishingInterval = 10;          // ms
  double mostPublishingInterval = 3'600'000;    // ms
  std::uint32_t mostKeepAliveCount = 100'000;
  double mostLifetime = 3'600'000;  // ms that a subscription waits for a Publish request; durable ones have hours
  std::uint32_t mostDurableHours = 24 * 14;

  // Nodes that clients add
  std::uint32_t maxAddedNodes = 100'000;
  std::uint32_t maxNodesPerInstance = 1'000;  // that one AddNodes makes below its node
  std::size_t maxWritten = 512u << 20;        // octets of large values and texts that clients write into nodes

  // Texts that clients choose: octets
  std::size_t maxName = 512;
  std::size_t maxUrl = 4'096;
};

}  // namespace zunth::server
