#pragma once

#include "apps/zunth/nodes.hpp"
#include "service/client/conditions.hpp"

#include <deque>
#include <unordered_map>

namespace zunth::cli {

using client::Condition;
using client::conditionStates;
using client::isIn;

/// Hears of a server's conditions: first of those that stand, then of what happens.
class ConditionFeed {
 public:
  static Awaitable<ua::Result<std::unique_ptr<ConditionFeed>>> open(SessionPtr session, Interrupt& interrupt,
                                                                    int& code);
  /// Those that are of interest (Retain), once the server has told them all; within the patience that was given.
  Awaitable<ua::Result<std::vector<Condition>>> standing(ua::Duration patience);
  /// What has come since; empty when nothing has.
  Awaitable<std::vector<Condition>> news();
  Awaitable<void> close();

 private:
  explicit ConditionFeed(SessionPtr session, Interrupt& interrupt)
      : session_(std::move(session)), interrupt_(interrupt) {}
  Awaitable<std::optional<Condition>> next();
  Awaitable<std::string> pathOf(ua::NodeId node);

  SessionPtr session_;
  Interrupt& interrupt_;
  std::shared_ptr<client::Subscription> subscription_;
  std::shared_ptr<std::deque<ua::List<ua::Variant>>> waiting_ = std::make_shared<std::deque<ua::List<ua::Variant>>>();
  std::unordered_map<ua::NodeId, std::string> paths_;
  bool isListed_ = false;
};

}  // namespace zunth::cli
