#pragma once

#include "service/client/session.hpp"

#include <unordered_map>

namespace zunth::client {

/// Where nodes are, by the names from Objects down to them. Many are asked for at once, and each node once.
class NodePlaces {
 public:
  explicit NodePlaces(std::shared_ptr<Session> session) : session_(std::move(session)) {}

  /// Asks for what isn't known yet of these and of all above them.
  Awaitable<void> find(std::vector<ua::NodeId> nodes);
  /// "Hatchery/Intake/DF1/clogged"; the node's id where no way leads up to Objects.
  std::string pathOf(const ua::NodeId& node) const;

 private:
  static constexpr int kMostLevels = 50;
  struct Place {
    std::string name;
    ua::NodeId above;  // null where none is
  };
  std::shared_ptr<Session> session_;
  std::unordered_map<ua::NodeId, Place> places_;
};

}  // namespace zunth::client
