#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/client/deeds.hpp"
#include "service/client/past.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
using client::Condition;

namespace {

Awaitable<Result<std::vector<Condition>>> standing(std::shared_ptr<Desk> desk) {
  if (auto open = co_await desk->alarms->open(desk->session()); !open) co_return open.error();
  co_return desk->alarms->standing();
}

Awaitable<Answer> tellAlarms(Console&, Visit visit) {
  auto conditions = co_await standing(visit.login->desk);
  if (!conditions) co_return Answer::of(conditions.error());
  const std::string state = visit.request.value("state"), area = visit.request.value("area");
  Json alarms = Json::array();
  std::ranges::stable_sort(*conditions, std::greater(), &Condition::severity);
  for (const auto& condition : *conditions) {
    if (!area.empty() && !condition.path.starts_with(area)) continue;
    if (!state.empty()) {
      const auto is = client::isIn(condition, state);
      if (!is)
        co_return Answer::of(Error{status::BadInvalidArgument, "alarms have no state " + state,
                                   fmt::format("one of {}", fmt::join(client::conditionStates(), ", "))});
      if (!*is) continue;
    }
    alarms.push_back(jsonOf(condition));
  }
  co_return Answer::of(Json{{"alarms", std::move(alarms)}});
}

/// Does something to alarms: each has its outcome.
Awaitable<Answer> act(Console& console, Visit visit) {
  constexpr std::size_t kMost = 1'000;
  client::DeedWish wish;
  const std::string word = visit.body.at("what").get<std::string>();
  wish.deed = client::deedNamed(word);
  if (!wish.deed) {
    std::string known;
    for (const auto& deed : client::deeds()) known += (known.empty() ? "" : ", ") + std::string(deed.word);
    co_return Answer::of(Error{status::BadInvalidArgument, "nothing like that is done to alarms", "one of " + known});
  }
  wish.comment = visit.body.value("comment", "");
  wish.isOnce = visit.body.value("once", false);
  wish.time = visit.body.value("minutes", 0.0) * 60'000;
  wish.answer = visit.body.value("answer", "");
  if (word == "shelve" && !wish.isOnce && !(wish.time > 0))
    co_return Answer::of(Error{status::BadInvalidArgument, "an alarm is shelved for a time, or once",
                               "\"minutes\": 30, or \"once\": true"});
  const Json& names = visit.body.at("alarms");
  if (!names.is_array() || names.size() > kMost)
    co_return Answer::of(Error{status::BadInvalidArgument, "'alarms' is a list of at most 1,000", {}});
  std::vector<NodeId> ids;
  std::vector<std::string> paths;
  for (const auto& name : names) {
    const auto text = name.get<std::string>();
    const auto node = nodeNamed(console.space(), visit.rights(), text);
    if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), text));
    ids.push_back(console.space().nodeId(node));
    paths.push_back(console.space().path(node));
  }
  auto conditions = co_await standing(visit.login->desk);
  if (!conditions) co_return Answer::of(conditions.error());
  auto outcomes = co_await client::doDeed(visit.session(), wish, std::move(ids), std::move(*conditions));
  if (!outcomes) co_return Answer::of(outcomes.error());
  Json list = Json::array();
  for (std::size_t i = 0; i < paths.size(); ++i) {
    const Error& error = (*outcomes)[i];
    Json one{{"alarm", paths[i]}, {"status", std::string(error.code.name())}};
    if (error.code.isBad())
      one["error"] = admin::jsonOf(error);
    else
      one["now"] = wish.deed->done;
    list.push_back(std::move(one));
  }
  co_return Answer::of(Json{{"outcomes", std::move(list)}});
}

Awaitable<Answer> tellDeeds(Console&, Visit) {
  Json deeds = Json::array();
  for (const auto& deed : client::deeds()) deeds.push_back({{"what", deed.word}, {"about", deed.about}});
  co_return Answer::of(Json{{"deeds", std::move(deeds)}});
}

}  // namespace

std::vector<Route> alarmRoutes() {
  return {
      {"GET",
       "/api/alarms",
       "Alarms that want attention, the severest first",
       Needs::Login,
       tellAlarms,
       {{"area", "only those whose path begins so"}, {"state", "only those in this state: active, shelved, …"}},
       "zunth alarms"},
      {"GET", "/api/alarms/deeds", "What can be done to alarms", Needs::Login, tellDeeds, {}, "zunth alarm --help"},
      {"POST",
       "/api/alarms",
       "Acknowledge, shelve, silence … alarms",
       Needs::Login,
       act,
       {{"what", "acknowledge, shelve, …", true},
        {"alarms", "a list of paths or NodeIds", true},
        {"comment", "what others should know"},
        {"minutes", "how long to shelve"},
        {"once", "shelve until it goes"},
        {"answer", "to a dialog: one of its options"}},
       "zunth alarm WHAT ALARM…"},
  };
}

}  // namespace zunth::console
