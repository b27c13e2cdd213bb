#pragma once

#include "service/client/session.hpp"

#include <unordered_map>

/// Nodes as people name them: at the command line, and in the console.
namespace zunth::client {

using SessionPtr = std::shared_ptr<Session>;

struct Found {
  ua::NodeId nodeId;
  std::string path;  // from Objects, or the NodeId's text
  ua::NodeClass nodeClass = ua::NodeClass::Unspecified;
  ua::NodeId typeDefinition;
  ua::NodeId parent;  // null when the node was named by its id
};

/// Alarms have half a hundred fields each, and all the same ones: nobody wants them who doesn't ask for them.
bool isAlarm(const Found& node);

/// Finds nodes by patterns, and asks for what is below a node once, however many patterns lead by it.
class NodeFinder {
 public:
  explicit NodeFinder(SessionPtr session) : session_(std::move(session)) {}
  /// As findNodes() does.
  Awaitable<ua::Result<std::vector<Found>>> find(std::string pattern);
  /// As findNode() does.
  Awaitable<ua::Result<Found>> findOne(std::string path);

 private:
  struct Below {
    std::vector<Found> all;  // by their names alone
    std::unordered_multimap<std::string, std::size_t> byName;
  };
  Awaitable<ua::Result<void>> look(const std::vector<Found>& parents);

  SessionPtr session_;
  std::unordered_map<ua::NodeId, Below> known_;
};

/// The nodes that a pattern names: a path from Objects with * and ** (which leaves out the fields of alarms), or a
/// NodeId. An error when there is none, with the nearest name at the place where the path led nowhere.
Awaitable<ua::Result<std::vector<Found>>> findNodes(SessionPtr session, std::string pattern);
/// All nodes of several patterns, without doubles.
Awaitable<ua::Result<std::vector<Found>>> findNodes(SessionPtr session, std::vector<std::string> patterns);
/// The one node of a path without wildcards.
Awaitable<ua::Result<Found>> findNode(SessionPtr session, std::string path);
/// The hierarchical children of each node, in order.
Awaitable<ua::Result<std::vector<std::vector<Found>>>> childrenOf(SessionPtr session, std::vector<Found> parents);

/// The type that a name or NodeId stands for, at or below one of `roots` (types, or the folders they are in). The error
/// has the nearest name.
Awaitable<ua::Result<Found>> findType(SessionPtr session, std::string name, std::vector<ua::NodeId> roots);

}  // namespace zunth::client
