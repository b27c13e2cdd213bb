#pragma once

#include "service/console/door.hpp"
#include "service/console/feed.hpp"
#include "service/console/load.hpp"
#include "service/console/routes.hpp"
#include "service/console/token_feed.hpp"

#include <boost/asio/thread_pool.hpp>

namespace zunth::console {

/// The console of a running site: its page, and the HTTP/JSON API that the page and scripts use. What it does with
/// nodes goes through the services as any client's requests do; what it administers goes by the verbs of the control
/// door. On the services' executor.
class Console {
 public:
  Console(const net::Loops& loops, admin::RunningSite& site);
  ~Console();

  /// Listens where the site's settings say; the URL, empty for nowhere. Listens elsewhere when they come to say so.
  ua::Result<std::string> open();
  void close();

  /// Answers a request. What the caller may do is looked at here.
  Awaitable<Answer> serve(Request request);
  /// Takes a WebSocket that asked for /api/live; why not, otherwise.
  ua::Result<void> join(const Request& request, std::shared_ptr<LiveSocket> socket);
  /// Whether join() would take it, and who it is.
  ua::Result<std::shared_ptr<Login>> mayJoin(const Request& request);
  /// The token that a request came with; BadUserAccessDenied.
  Awaitable<ua::Result<Token>> tokenOf(const Request& request);
  /// Tells a script what a token is for, as it changes.
  ua::Result<void> join(Token token, const Request& request, std::shared_ptr<LiveSocket> socket);
  /// The token is one no longer: who listens by it is told, and hears nothing more.
  void tokenRemoved(const std::string& name);

  admin::RunningSite& site() { return site_; }
  server::Server& server() { return site_.server(); }
  space::Space& space() { return site_.server().space(); }
  Logins& logins() { return logins_; }
  const net::Loops& loops() const { return loops_; }
  const std::string& url() const { return url_; }
  /// Whether nobody can log in yet; with the code that says that somebody is at this machine.
  bool awaitsFirstUser() const;
  const std::string& firstCode() const { return firstCode_; }
  /// Whether that is the code; after a few that are not, none is taken any more.
  bool takesCode(const std::string& code);
  /// Has a verb of the control door carried out, or its refusal.
  Awaitable<ua::Result<Json>> perform(admin::Actor actor, Json asked);
  Awaitable<ua::Result<Json>> perform(const Login& login, Json asked);
  /// Does on a thread of its own what waits for a disk; comes back to where it was.
  Awaitable<void> away(std::function<void()> work);
  /// The same for what waits for a device. BadTooManyOperations when several do already.
  Awaitable<ua::Result<void>> lookAway(std::function<void()> work);
  std::size_t feedCount() const { return feeds_.size(); }
  Load& load() { return load_; }

 private:
  void tick();

  const net::Loops loops_;
  admin::RunningSite& site_;
  Logins logins_;
  std::unique_ptr<Door> door_;
  std::string url_;
  std::string firstCode_;
  int wrongCodes_ = 0;
  Load load_;
  std::vector<std::shared_ptr<Feed>> feeds_;
  std::vector<std::shared_ptr<TokenFeed>> tokenFeeds_;
  boost::asio::steady_timer timer_;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  int looks_ = 0;  // at devices, under way
  boost::asio::thread_pool devices_{2};
  boost::asio::thread_pool files_{1};  // the last members: they end before what their work uses
};

}  // namespace zunth::console
