#include "core/ua/foreign.hpp"
#include "service/console/console.hpp"
#include "service/console/csv.hpp"
#include "service/console/node_pages.hpp"
#include "service/console/tokens.hpp"

#include <fmt/format.h>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kMostRows = 10'000;
constexpr std::size_t kMostElements = 1'000'000;  // of all of them

Tokens tokensOf(Console& console) { return Tokens(tokenFile(console.site().folder())); }

/// What a spreadsheet or a script reads with a token: the nodes that it is for, now.
Awaitable<Answer> tellTable(Console& console, Visit visit) {
  const auto token = co_await console.tokenOf(visit.request);
  if (!token) co_return Answer::of(token.error());
  const auto rights = console.site().rightsOf(token->user);
  if (!rights)
    co_return Answer::of(
        Error{rights.code(), "who made the token may log in no longer", "make another at the console"});
  // Some at a time: others have their turns in between, and nodes may come and go.
  Turns turns;
  const auto& space = console.space();
  Json rows = Json::array();
  for (std::size_t p = 0; p < token->nodes.size() && rows.size() < kMostRows; ++p) {
    co_await net::comeBack(console.loops().services());
    std::vector<NodeId> ids;
    for (const auto variable : variablesNamed(space, *rights, token->nodes[p], kMostRows - rows.size()))
      ids.push_back(space.nodeId(variable));
    for (const auto& id : ids) {
      if (turns.isOver()) co_await net::comeBack(console.loops().services());
      const auto variable = space.find(id);
      if (variable == space::kNoNode || space.nodeClass(variable) != NodeClass::Variable ||
          !space.sees(*rights, variable))
        continue;
      turns.count(space.value(variable).value);
      if (turns.counted() > kMostElements)
        co_return Answer::of(Error{status::BadResponseTooLarge,
                                   fmt::format("the values have more than {} elements in all", kMostElements),
                                   "make a token for fewer of the arrays"});
      rows.push_back(valueOf(space, *rights, variable));
    }
  }
  co_return visit.request.value("format") == "json" ? Answer::of(Json{{"values", std::move(rows)}}) : csvOf(rows);
}

Awaitable<Answer> tellTokens(Console& console, Visit) {
  Tokens tokens = tokensOf(console);
  Result<std::vector<Token>> all = Error();
  std::function<void()> look = [&] { all = tokens.all(); };
  co_await console.away(look);
  if (!all) co_return Answer::of(all.error());
  Json list = Json::array();
  for (const auto& token : *all)
    list.push_back({{"name", token.name}, {"user", token.user}, {"nodes", token.nodes}, {"made", token.made.text()}});
  co_return Answer::of(Json{{"tokens", std::move(list)}});
}

Awaitable<Answer> makeToken(Console& console, Visit visit) {
  Token token;
  token.name = visit.body.at("name").get<std::string>();
  token.nodes = visit.body.at("nodes").get<std::vector<std::string>>();
  token.user = visit.login->desk->user();
  token.made = DateTime::from(std::chrono::system_clock::now());
  if (token.user.empty())
    co_return Answer::of(Error{status::BadUserAccessDenied, "a token is of somebody with a name", "log in"});
  Tokens tokens = tokensOf(console);
  Result<std::string> word = Error();
  std::function<void()> make = [&] { word = tokens.make(token); };
  co_await console.away(make);
  note(console, visit, "token made", word.code(), shown(token.name));
  if (!word) co_return Answer::of(word.error());
  co_return Answer::of(Json{{"token", *word}, {"path", "/api/table?token=" + *word}});
}

Awaitable<Answer> removeToken(Console& console, Visit visit) {
  const std::string name = visit.body.at("name").get<std::string>();
  Tokens tokens = tokensOf(console);
  Result<void> gone;
  std::function<void()> remove = [&] { gone = tokens.remove(name); };
  co_await console.away(remove);
  note(console, visit, "token removed", gone.code(), shown(name));
  if (gone) console.tokenRemoved(name);
  co_return gone ? Answer::of(Json::object()) : Answer::of(gone.error());
}

}  // namespace

std::vector<Route> tokenRoutes() {
  const Parameter name{"name", "what it is for", true};
  return {
      {"GET",
       "/api/table",
       "The values that a token is for, as a table for a spreadsheet",
       Needs::Nobody,
       tellTable,
       {{"token", "the word, here or as Authorization: Bearer"}, {"format", "json in place of CSV"}},
       "zunth read"},
      {"GET", "/api/tokens", "Tokens that were made", Needs::Engineer, tellTokens},
      {"POST",
       "/api/tokens",
       "Make a token that lets some nodes be read",
       Needs::Engineer,
       makeToken,
       {name, {"nodes", "a list of paths, with * and **", true}}},
      {"POST", "/api/tokens/remove", "Remove a token: it opens nothing any more", Needs::Engineer, removeToken, {name}},
  };
}

}  // namespace zunth::console
