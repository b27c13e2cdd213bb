#include "service/console/console.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/json_parser.hpp"
#include "service/console/page_files.hpp"
#include "service/logs/logs.hpp"
#include "service/server/random.hpp"

#include <algorithm>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
namespace asio = boost::asio;

namespace {

/// Six letters and digits that are told apart easily.
std::string easySecret() {
  constexpr std::string_view kLetters = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
  const auto octets = server::randomOctets(10);
  std::string out;
  for (const auto octet : octets.bytes()) out += kLetters[static_cast<std::size_t>(octet) % kLetters.size()];
  return out;
}

/// The page itself: whatever has an address within it begins with the same file.
Answer fileFor(const Request& request) {
  const PageFile* file = pageFile(request.path);
  if (!file && request.path.find('.') == std::string::npos) file = pageFile("/index.html");
  if (!file) return Answer::of(Error{status::BadNotFound, "there is no such page", "/"});
  Answer answer;
  answer.type = file->type;
  const std::string tag = fmt::format("\"{}\"", file->tag);
  answer.headers.emplace_back("ETag", tag);
  answer.headers.emplace_back("Cache-Control", file->isImmutable ? "public, max-age=31536000, immutable" : "no-cache");
  if (request.ifNoneMatch == tag) {
    answer.status = 304;
    return answer;
  }
  // They are kept compressed, and every browser takes them so.
  answer.headers.emplace_back("Content-Encoding", "gzip");
  answer.body.assign(file->octets);
  return answer;
}

bool isSame(const std::string& a, const std::string& b) {
  if (a.size() != b.size()) return false;
  unsigned char differs = 0;
  for (std::size_t i = 0; i < a.size(); ++i) differs |= static_cast<unsigned char>(a[i] ^ b[i]);
  return differs == 0;
}

}  // namespace

Console::Console(const net::Loops& loops, admin::RunningSite& site)
    : loops_(loops), site_(site), logins_(loops, site), firstCode_(easySecret()), timer_(loops.services()) {
  site_.onSettled([this] {
    if (site_.consoleUrl() == url_) return;
    if (auto opened = open(); !opened) logs::console().error("the console: {}", opened.error().text());
  });
  tick();
}

Console::~Console() {
  site_.onSettled({});
  close();
  *alive_ = false;
}

void Console::tick() {
  timer_.expires_after(std::chrono::seconds(5));
  timer_.async_wait([this, alive = alive_](const boost::system::error_code& cancelled) {
    if (cancelled || !*alive) return;
    logins_.tick();
    std::vector<std::shared_ptr<Feed>> over;
    for (const auto& feed : feeds_)
      if (!feed->login()->desk->isOpen()) over.push_back(feed);
    for (const auto& feed : over) feed->end({status::BadSessionClosed, "the login has ended", "log in again"});
    tick();
  });
}

Result<std::string> Console::open() {
  close();
  const std::string wanted = site_.consoleUrl();
  if (wanted.empty()) return std::string();
  auto door = std::make_unique<Door>(*this);
  auto listening = door->listen(wanted);
  if (!listening) return listening.error();
  door_ = std::move(door);
  url_ = wanted;
  return *listening;
}

void Console::close() {
  door_.reset();
  url_.clear();
  for (const auto& feed : std::exchange(tokenFeeds_, {})) feed->end({status::BadShutdown, "the service stops", {}});
  for (const auto& feed : std::exchange(feeds_, {})) {
    feed->onEnded({});
    feed->end({status::BadShutdown, "the service stops", {}});
  }
}

bool Console::awaitsFirstUser() const { return !std::filesystem::exists(site_.folder() / "state/users.yaml"); }

Awaitable<Answer> Console::serve(Request request) {
  if (!request.path.starts_with("/api/")) {
    if (request.method == "GET" || request.method == "HEAD") co_return fileFor(request);
    co_return Answer::of(Error{status::BadRequestNotAllowed, "pages are only looked at", {}});
  }
  const Route* route = nullptr;
  bool isPathKnown = false;
  // Who asks for the head alone, as spreadsheets do first, gets that of the answer; the door leaves its body out.
  if (request.method == "HEAD") request.method = "GET";
  for (const auto& one : routes()) {
    if (one.path != request.path) continue;
    isPathKnown = true;
    if (one.method == request.method) route = &one;
  }
  if (!route)
    co_return Answer::of(isPathKnown ? Error{status::BadRequestNotAllowed, "this is asked for in another way", {}}
                                     : Error{status::BadNotFound, "the API has nothing there", "/api/openapi.json"});
  Visit visit;
  visit.request = std::move(request);
  visit.login = logins_.find(visit.request.cookie, visit.request.address);
  if (auto may = mayUse(*route, visit.login.get()); !may) co_return Answer::of(may.error());
  const bool changes = visit.request.method != "GET";
  if (changes && visit.login && route->needs != Needs::Nobody && !isSame(visit.request.proof, visit.login->proof))
    co_return Answer::of(Error{status::BadUserAccessDenied, "the request does not come from the console's own page",
                               "send the proof that /api/me tells as X-Zunth-Proof"});
  if (changes) {
    auto body = visit.request.body.empty() ? Result<Json>(Json::object()) : parseJson(visit.request.body);
    if (!body) co_return Answer::of(body.error());
    if (!body->is_object()) co_return Answer::of(Error{status::BadSyntaxError, "the body is no JSON object", {}});
    visit.body = std::move(*body);
  }
  for (const auto& parameter : route->parameters) {
    const bool isThere = changes ? visit.body.contains(parameter.name) : visit.request.query.contains(parameter.name);
    if (parameter.isRequired && !isThere)
      co_return Answer::of(Error{status::BadInvalidArgument, fmt::format("'{}' is missing", parameter.name),
                                 fmt::format("{}: {}", parameter.name, parameter.about)});
  }
  Answer answer;
  std::string wrong;
  bool isOurs = false;
  try {
    answer = co_await route->handler(*this, visit);
  } catch (const Json::exception& exception) {
    wrong = exception.what();
  } catch (const std::exception& exception) {
    wrong = exception.what();
    isOurs = true;
  }
  if (isOurs) {
    logs::console().error("{} {} failed: {}", visit.request.method, visit.request.path, wrong);
    co_return Answer::of(Error{status::BadInternalError, "the service failed at this: " + wrong,
                               "zunth log says what it was doing; tell its makers"});
  }
  if (!wrong.empty())
    answer = Answer::of(Error{status::BadInvalidArgument, "the body has something else there: " + wrong, {}});
  logs::console().debug("{} of {}: {} {} is answered {}", visit.login ? visit.login->desk->who() : "nobody",
                        visit.request.address, visit.request.method, shown(visit.request.path, 200), answer.status);
  if (answer.type == "application/json") answer.headers.emplace_back("Cache-Control", "no-store");
  co_return answer;
}

Result<std::shared_ptr<Login>> Console::mayJoin(const Request& request) {
  constexpr std::size_t kMostFeeds = 500;
  auto login = logins_.find(request.cookie, request.address);
  if (!login) return Error{status::BadSessionIdInvalid, "nobody is logged in here, or no longer", "log in"};
  if (feeds_.size() >= kMostFeeds)
    return Error{status::BadTooManySessions, "as many pages are open as may be", "close some"};
  return login;
}

Result<void> Console::join(const Request& request, std::shared_ptr<LiveSocket> socket) {
  auto login = mayJoin(request);
  if (!login) return login.error();
  const auto feed = std::make_shared<Feed>(loops_.services(), server(), *login, std::move(socket));
  feed->onEnded([this, alive = alive_, weak = std::weak_ptr(feed)] {
    if (!*alive) return;
    std::erase_if(feeds_, [&](const auto& one) { return one == weak.lock(); });
  });
  feeds_.push_back(feed);
  feed->start();
  return {};
}

Awaitable<Result<Token>> Console::tokenOf(const Request& request) {
  const std::string word = request.value("token", request.bearer);
  Result<Token> token = Error();
  std::function<void()> look = [&token, &word, folder = site_.folder()] {
    token = Tokens(tokenFile(folder)).find(word);
  };
  co_await away(look);
  co_return token;
}

Result<void> Console::join(Token token, const Request& request, std::shared_ptr<LiveSocket> socket) {
  constexpr std::size_t kMostFeeds = 100;
  constexpr std::ptrdiff_t kMostOfOne = 10;  // whoever has a token shuts out nobody who has another
  const auto ofThis =
      std::ranges::count_if(tokenFeeds_, [&](const auto& feed) { return feed->token().name == token.name; });
  if (tokenFeeds_.size() >= kMostFeeds || ofThis >= kMostOfOne)
    return Error{status::BadTooManySessions, "as many scripts listen as may", "close some"};
  const auto feed = std::make_shared<TokenFeed>(
      TokenFeed::Parts{loops_.services(), space(), [this](const std::string& user) { return site_.rightsOf(user); }},
      std::move(token), std::chrono::milliseconds(request.number("every", 1'000, 60'000)), std::move(socket));
  tokenFeeds_.push_back(feed);
  feed->start([this, alive = alive_, weak = std::weak_ptr(feed)] {
    if (!*alive) return;
    std::erase_if(tokenFeeds_, [&](const auto& one) { return one == weak.lock(); });
  });
  return {};
}

void Console::tokenRemoved(const std::string& name) {
  const auto all = tokenFeeds_;
  for (const auto& feed : all)
    if (feed->token().name == name) feed->end({status::BadUserAccessDenied, "the token was removed", {}});
}

Awaitable<void> Console::away(std::function<void()> work) {
  co_await asio::co_spawn(
      files_, [&work]() -> Awaitable<void> { co_return work(); }, asio::use_awaitable);
}

Awaitable<Result<void>> Console::lookAway(std::function<void()> work) {
  constexpr int kMost = 4;
  if (looks_ >= kMost)
    co_return Error{status::BadTooManyOperations, fmt::format("{} devices are being looked at already", kMost),
                    "try again when one of them is done"};
  ++looks_;
  const std::shared_ptr<void> ended(nullptr, [this](void*) { --looks_; });
  co_await asio::co_spawn(
      devices_, [&work]() -> Awaitable<void> { co_return work(); }, asio::use_awaitable);
  co_return Result<void>();
}

bool Console::takesCode(const std::string& code) {
  constexpr int kMostWrong = 10;
  if (wrongCodes_ >= kMostWrong) return false;
  if (isSame(code, firstCode_)) return true;
  if (++wrongCodes_ == kMostWrong)
    logs::console().warn("the console takes no more codes: too many were wrong; start anew");
  return false;
}

Awaitable<Result<Json>> Console::perform(const Login& login, Json asked) {
  admin::Actor actor{fmt::format("{} at the console, {}", login.desk->who(), login.desk->host())};
  return perform(std::move(actor), std::move(asked));
}

Awaitable<Result<Json>> Console::perform(admin::Actor actor, Json asked) {
  const auto told = std::make_shared<std::optional<Json>>();
  const auto wake = std::make_shared<asio::steady_timer>(loops_.services(), asio::steady_timer::time_point::max());
  site_.control().perform(actor, asked, [told, wake](Json json) {
    *told = std::move(json);
    wake->cancel();
  });
  while (!*told) co_await wake->async_wait(net::kQuietly);
  Json answer = std::move(**told);
  if (answer.is_object() && answer.contains("error")) co_return admin::errorOf(answer["error"]);
  co_return answer;
}

}  // namespace zunth::console
