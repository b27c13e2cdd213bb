#pragma once

#include "service/admin/running_site.hpp"
#include "service/console/desk.hpp"

#include <unordered_map>

namespace zunth::console {

/// A browser that has logged in.
struct Login {
  std::string cookie;  // what the browser sends, and its scripts can't read
  std::string proof;   // what its page sends along, and other sites' pages can't know
  std::shared_ptr<Desk> desk;
  ua::Instant seen{};
  int feeds = 0;  // that are open: as long, it doesn't run out
};

/// Who is logged in at the console. The server itself decides who may be, guards against guessing, and keeps the
/// audit; here are the cookies. On the services' executor.
class Logins {
 public:
  Logins(const net::Loops& loops, admin::RunningSite& site) : loops_(loops), site_(site) {}

  /// Without a name an anonymous user, where the site lets one in. Browsers of one user at one address share a desk.
  Awaitable<ua::Result<std::shared_ptr<Login>>> logIn(std::string user, std::string password, std::string address,
                                                      std::string consoleUrl);
  /// The login of a cookie that comes from the address that it was given to; nullptr otherwise.
  std::shared_ptr<Login> find(const std::string& cookie, const std::string& address);
  Awaitable<void> logOut(std::shared_ptr<Login> login);
  /// Those that are open, for people.
  std::vector<std::shared_ptr<Login>> all() const;
  /// Ends those that nobody has used for an hour, or whose session has ended.
  void tick();

 private:
  Awaitable<ua::Result<std::shared_ptr<Desk>>> openDesk(std::string user, std::string password, std::string address,
                                                        std::string consoleUrl);

  const net::Loops loops_;
  admin::RunningSite& site_;
  std::unordered_map<std::string, std::shared_ptr<Login>> logins_;  // by cookie
};

/// The host of "127.0.0.1:51234".
std::string hostPart(const std::string& address);

}  // namespace zunth::console
