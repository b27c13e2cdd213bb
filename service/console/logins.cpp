#include "service/console/logins.hpp"

#include "core/ua/base64.hpp"
#include "service/inner/inner_carrier.hpp"
#include "service/server/random.hpp"

#include <algorithm>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kMostLogins = 500;
constexpr auto kIdle = std::chrono::hours(1);

/// 32 octets that nobody can guess, as letters that need no quotes.
std::string secret() {
  std::string text = toBase64(server::randomOctets(32).bytes());
  std::erase(text, '=');
  std::ranges::replace(text, '+', '-');
  std::ranges::replace(text, '/', '_');
  return text;
}

Instant nowHere() { return std::chrono::steady_clock::now(); }

}  // namespace

std::string hostPart(const std::string& address) { return address.substr(0, address.rfind(':')); }

Awaitable<Result<std::shared_ptr<Desk>>> Logins::openDesk(std::string user, std::string password, std::string address,
                                                          std::string consoleUrl) {
  client::Session::Options options;
  options.name = user.empty() ? "console" : "console of " + user;
  options.user = user;
  options.password = std::move(password);
  options.sessionTimeout = 3'600'000;
  options.reconnects = false;
  options.reach = [this, address, consoleUrl]() -> client::Awaitable<Result<std::shared_ptr<client::Carrier>>> {
    server::Entrance entrance{String(consoleUrl), "http://opcfoundation.org/UA-Profile/Transport/https-uajson"};
    inner::InnerCarrier::Parts parts{
        loops_.services(), site_.server(),     [this] { site_.listener().served(); }, site_.listener().nextChannelId(),
        address,           std::move(entrance)};
    std::shared_ptr<client::Carrier> carrier = std::make_shared<inner::InnerCarrier>(std::move(parts));
    co_return carrier;
  };
  auto session = co_await client::Session::open(consoleUrl, std::move(options));
  if (!session) co_return session.error();
  co_return std::make_shared<Desk>(site_.server(), std::move(*session), user, hostPart(address));
}

Awaitable<Result<std::shared_ptr<Login>>> Logins::logIn(std::string user, std::string password, std::string address,
                                                        std::string consoleUrl) {
  tick();
  if (logins_.size() >= kMostLogins)
    co_return Error{status::BadTooManySessions, "as many browsers are logged in as may be", "log out somewhere else"};
  const std::string host = hostPart(address);
  const auto shared = [&]() -> std::shared_ptr<Desk> {
    for (const auto& [cookie, login] : logins_)
      if (login->desk->user() == user && login->desk->host() == host && login->desk->isOpen()) return login->desk;
    return nullptr;
  };
  std::shared_ptr<Desk> desk = user.empty() ? shared() : nullptr;
  if (!desk) {
    auto opened = co_await openDesk(user, std::move(password), address, consoleUrl);
    if (!opened) co_return opened.error();
    desk = *opened;
    // The password is right; the session that there is already will do.
    if (auto there = shared()) {
      co_await desk->session()->close();
      desk = std::move(there);
    }
  }
  const auto login = std::make_shared<Login>();
  login->cookie = secret();
  login->proof = secret();
  login->desk = std::move(desk);
  login->seen = nowHere();
  logins_[login->cookie] = login;
  co_return login;
}

std::shared_ptr<Login> Logins::find(const std::string& cookie, const std::string& address) {
  const auto found = logins_.find(cookie);
  if (found == logins_.end()) return nullptr;
  const auto login = found->second;
  // A cookie that was carried off is of no use elsewhere.
  if (login->desk->host() != hostPart(address)) return nullptr;
  if (!login->desk->isOpen()) {
    logins_.erase(found);
    return nullptr;
  }
  login->seen = nowHere();
  return login;
}

Awaitable<void> Logins::logOut(std::shared_ptr<Login> login) {
  logins_.erase(login->cookie);
  const bool isShared =
      std::ranges::any_of(logins_, [&](const auto& entry) { return entry.second->desk == login->desk; });
  if (!isShared) co_await login->desk->session()->close();
}

std::vector<std::shared_ptr<Login>> Logins::all() const {
  std::vector<std::shared_ptr<Login>> out;
  for (const auto& [cookie, login] : logins_) out.push_back(login);
  return out;
}

void Logins::tick() {
  std::vector<std::shared_ptr<Login>> over;
  for (const auto& [cookie, login] : logins_)
    if (!login->desk->isOpen() || (login->feeds == 0 && nowHere() - login->seen > kIdle)) over.push_back(login);
  for (const auto& login : over)
    boost::asio::co_spawn(
        loops_.services(), [this, login]() -> Awaitable<void> { co_await logOut(login); }, boost::asio::detached);
}

}  // namespace zunth::console
