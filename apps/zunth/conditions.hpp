#pragma once

#include "apps/zunth/nodes.hpp"
#include "service/client/node_places.hpp"
#include "service/client/standing_conditions.hpp"

namespace zunth::cli {

using client::Condition;
using client::conditionStates;
using client::isIn;

/// Hears of a server's conditions, each with its path: first of those that stand, then of what happens.
class ConditionFeed {
 public:
  static Awaitable<ua::Result<std::unique_ptr<ConditionFeed>>> open(SessionPtr session, Interrupt& interrupt,
                                                                    int& code);
  /// Those that are of interest (Retain), once the server has told them all; within the patience that was given.
  Awaitable<ua::Result<std::vector<Condition>>> standing(ua::Duration patience);
  /// What has come since, in order; empty when nothing has.
  Awaitable<std::vector<Condition>> news();
  Awaitable<void> close();

 private:
  ConditionFeed(const SessionPtr& session, Interrupt& interrupt) : interrupt_(interrupt), places_(session) {}
  Awaitable<void> place(std::vector<Condition>& conditions);

  Interrupt& interrupt_;
  client::NodePlaces places_;
  std::shared_ptr<client::StandingConditions> conditions_;
  std::shared_ptr<std::vector<Condition>> news_ = std::make_shared<std::vector<Condition>>();
};

}  // namespace zunth::cli
