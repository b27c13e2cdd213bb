#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct ClientsWish {
  std::string site, like, end;
};

Result<Json> clientsAt(const std::filesystem::path& site, Duration patience) {
  auto told = admin::Control::ask(site, {{"verb", "clients"}}, patience);
  if (!told) return told.error();
  return told->value("clients", Json::array());
}

/// The one of this id or name.
Result<Json> clientNamed(const Json& clients, const std::string& who) {
  std::vector<Json> found;
  for (const auto& client : clients)
    if (client.value("id", "") == who || client.value("name", "") == who) found.push_back(client);
  if (found.empty()) return Error{status::BadSessionIdInvalid, "no client has the id or name " + who, "zunth clients"};
  if (found.size() > 1)
    return Error{status::BadTooManyMatches, fmt::format("{} clients are called {}", found.size(), who),
                 fmt::format("name one by its id: zunth clients --end '{}'", found.front().value("id", ""))};
  return found.front();
}

int endClient(const Options& options, const std::filesystem::path& site, const std::string& who) {
  const Duration patience = milliseconds(options.timeout * 1000);
  const auto clients = clientsAt(site, patience);
  if (!clients) return fail(clients.error());
  const auto client = clientNamed(*clients, who);
  if (!client) return fail(client.error());
  const auto told = admin::Control::ask(site, {{"verb", "end client"}, {"id", client->value("id", "")}}, patience);
  if (!told) return fail(told.error());
  if (!options.quiet)
    std::printf("the session of %s has ended; it may come again, unless its user or certificate is taken away\n",
                client->value("name", "").c_str());
  return kDone;
}

int listClients(const Options& options, const std::filesystem::path& site, const std::string& like) {
  const auto clients = clientsAt(site, milliseconds(options.timeout * 1000));
  if (!clients) return fail(clients.error());
  Records records({"id", "client", "user", "from", "security", "since", "subscriptions", "items", "reads", "writes",
                   "application"});
  for (const auto& client : *clients) {
    const auto text = [&](const char* key) { return client.value(key, std::string()); };
    if (client.dump().find(like) == std::string::npos) continue;
    const auto since = DateTime::parse(text("since"));
    const auto number = [&](const char* key) {
      return Cell(std::to_string(client.value(key, std::uint64_t{0})), client.value(key, std::uint64_t{0}));
    };
    records.add({text("id"), text("name"), text("user"), text("from"), text("security"),
                 Cell(since ? localTime(since->time()) : std::string(), text("since")), number("subscriptions"),
                 number("items"), number("reads"), number("writes"), text("application")});
  }
  if (records.empty() && options.format == Format::Table)
    std::fprintf(stderr, like.empty() ? "nobody is connected\n" : "nobody of the kind is connected\n");
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

int clients(const Options& options, const ClientsWish& wanted) {
  const auto folder = siteFolder(wanted.site, "zunth clients --site FOLDER");
  if (!folder) return fail(folder.error());
  return wanted.end.empty() ? listClients(options, *folder, wanted.like) : endClient(options, *folder, wanted.end);
}

}  // namespace

void addClients(Program program) {
  auto wanted = std::make_shared<ClientsWish>();
  const auto verb =
      addLocalVerb(program, program.top, "clients",
                   "Who is connected to the service of a site, how secured, and what they do; or end one.",
                   "zunth clients --site my-plant", wanted->site);
  verb.option("--like", wanted->like, "Only those with these words in their line");
  verb.option("--end", wanted->end, "End the session of this id or name").called("CLIENT");
  verb.runs([program, wanted] { program.exitCode = clients(program.options, *wanted); });
}

}  // namespace zunth::cli
