#include "service/admin/control.hpp"

#include "core/ua/json_parser.hpp"
#include "core/ua/status.hpp"
#include "service/net/deadline.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/read_until.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/write.hpp>
#include <fcntl.h>
#include <fmt/format.h>
#include <pwd.h>
#include <spdlog/spdlog.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

namespace zunth::admin {

using namespace ua;
namespace asio = net::asio;
using Local = asio::local::stream_protocol;

namespace {

constexpr std::size_t kMostRequest = 64u << 10;
constexpr std::size_t kMostAnswer = 64u << 20;
constexpr std::size_t kMostOpen = 16;
constexpr auto kForRequest = std::chrono::seconds(5);

/// The socket's path by a descriptor of its folder: a path of a socket holds 107 octets, a site's may be longer.
class Place {
 public:
  explicit Place(const std::filesystem::path& site)
      : folder_(::open((site / "state").c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC)) {}
  ~Place() {
    if (folder_ >= 0) ::close(folder_);
  }
  Place(const Place&) = delete;
  Place& operator=(const Place&) = delete;
  bool isThere() const { return folder_ >= 0; }
  std::string path() const { return fmt::format("/proc/self/fd/{}/control.sock", folder_); }

 private:
  int folder_;
};

/// Who is at the other end, as the kernel says; nothing for a user who has no business here.
std::optional<Actor> actorOf(Local::socket& socket) {
  ucred peer{};
  socklen_t size = sizeof peer;
  if (::getsockopt(socket.native_handle(), SOL_SOCKET, SO_PEERCRED, &peer, &size) != 0) return std::nullopt;
  if (peer.uid != 0 && peer.uid != ::geteuid()) return std::nullopt;
  const passwd* known = ::getpwuid(peer.uid);
  return Actor{fmt::format("{} at the command line", known ? known->pw_name : fmt::format("user {}", peer.uid))};
}

std::string verbOf(const Json& request) {
  const auto verb = request.find("verb");
  return verb != request.end() && verb->is_string() ? verb->get<std::string>() : std::string();
}

std::string lineOf(const Json& json) { return json.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n"; }

}  // namespace

Json jsonOf(const Error& error) {
  return {{"code", std::string(error.code.name())}, {"cause", error.cause}, {"next", error.next}};
}

Error errorOf(const Json& json) {
  const auto code = statusNamed(json.value("code", ""));
  return {code ? *code : status::BadUnexpectedError, json.value("cause", ""), json.value("next", "")};
}

Result<void> Control::open() {
  const Place place(site_);
  boost::system::error_code error;
  ::unlink(place.path().c_str());  // the lock says that nobody else is there
  acceptor_ = std::make_unique<Local::acceptor>(services_);
  acceptor_->open(Local(), error);
  if (!error) {
    const auto before = ::umask(0177);
    acceptor_->bind(Local::endpoint(place.path()), error);
    ::umask(before);
  }
  if (!error) acceptor_->listen(kMostOpen, error);
  if (error)
    return Error{status::BadResourceUnavailable,
                 fmt::format("{} can't be opened: {}", (site_ / "state/control.sock").string(), error.message()),
                 "the folder state/ must belong to whom the service runs as"};
  asio::co_spawn(services_, accept(), asio::detached);
  return {};
}

void Control::close() {
  if (!std::exchange(*alive_, false)) return;
  if (!acceptor_) return;
  boost::system::error_code ignored;
  acceptor_->close(ignored);
  if (const Place place(site_); place.isThere()) ::unlink(place.path().c_str());
}

asio::awaitable<void> Control::accept() {
  const auto alive = alive_;
  while (*alive) {
    auto [error, socket] = co_await acceptor_->async_accept(net::kQuietly);
    if (!*alive) co_return;
    if (error) {
      asio::steady_timer pause(services_, std::chrono::milliseconds(100));
      co_await pause.async_wait(net::kQuietly);
      continue;
    }
    if (open_ < kMostOpen) asio::co_spawn(services_, converse(std::move(socket)), asio::detached);
  }
}

void Control::perform(const Actor& actor, const Json& request, const Answer& answer) const {
  const auto refuse = [&](const Error& why) { answer(Json{{"error", jsonOf(why)}}); };
  if (!request.is_object()) return refuse({status::BadSyntaxError, "a request is an object", {}});
  const auto verb = verbs_.find(verbOf(request));
  if (verb == verbs_.end())
    return refuse({status::BadNotImplemented, fmt::format("the service knows no '{}'", verbOf(request)), {}});
  try {
    verb->second(actor, request, answer);
  } catch (const Json::exception& wrong) {
    refuse({status::BadSyntaxError, wrong.what(), {}});
  }
}

asio::awaitable<void> Control::converse(Socket socket) {
  const auto alive = alive_;
  ++open_;
  Json answer;
  std::string line;
  const auto actor = actorOf(socket);
  bool isWhole = false;
  {
    const net::Deadline patience(services_, std::chrono::steady_clock::now() + kForRequest, [&] {
      boost::system::error_code ignored;
      socket.shutdown(Socket::shutdown_receive, ignored);
    });
    auto [error, size] =
        co_await asio::async_read_until(socket, asio::dynamic_buffer(line, kMostRequest), '\n', net::kQuietly);
    isWhole = !error;
  }
  if (!*alive) co_return;
  const Error noLine{status::BadRequestTimeout, "no whole line came", {}};
  const auto parsed = isWhole ? parseJson(line) : Result<Json>(noLine);
  const auto refuse = [&](const Error& why) { answer = Json{{"error", jsonOf(why)}}; };
  if (!actor) {
    refuse({status::BadUserAccessDenied, "the service belongs to another user of this machine", "the same with sudo"});
  } else if (!parsed) {
    refuse(parsed.error());
  } else {
    // Some verbs take their time; the answer wakes this up.
    const auto told = std::make_shared<std::optional<Json>>();
    const auto wake = std::make_shared<asio::steady_timer>(services_, asio::steady_timer::time_point::max());
    perform(*actor, *parsed, [told, wake](Json json) {
      *told = std::move(json);
      wake->cancel();
    });
    while (!*told) co_await wake->async_wait(net::kQuietly);
    answer = std::move(**told);
  }
  co_await asio::async_write(socket, asio::buffer(line = lineOf(answer)), net::kQuietly);
  if (*alive) --open_;
}

Result<Json> Control::ask(const std::filesystem::path& site, const Json& request, Duration patience) {
  const Error nobody{status::BadConnectionRejected, fmt::format("nobody serves {}", site.string()),
                     fmt::format("zunthd {}", site.string())};
  const Place place(site);
  if (!place.isThere()) return nobody;
  asio::io_context loop;
  Local::socket socket(loop);
  boost::system::error_code error;
  socket.connect(Local::endpoint(place.path()), error);
  if (error == asio::error::access_denied)
    return Error{status::BadUserAccessDenied, "the service belongs to another user of this machine",
                 "the same with sudo"};
  if (error) return nobody;
  std::string answer;
  std::optional<boost::system::error_code> ended;
  const std::string line = lineOf(request);
  asio::async_write(socket, asio::buffer(line), [&](const auto& failed, std::size_t) {
    if (failed) return void(ended = failed);
    asio::async_read_until(socket, asio::dynamic_buffer(answer, kMostAnswer), '\n',
                           [&](const auto& broken, std::size_t) { ended = broken; });
  });
  loop.run_for(patience);
  if (!ended)
    return Error{
        status::BadTimeout,
        fmt::format("the service did not answer within {:.3g} s", std::chrono::duration<double>(patience).count()),
        "wait longer with --timeout"};
  if (*ended) return Error{status::BadConnectionClosed, "the service ended before it answered", {}};
  Json told = Json::parse(answer, nullptr, false);
  if (told.is_discarded()) return Error{status::BadDecodingError, "the service answered nonsense", {}};
  if (told.contains("error")) return errorOf(told["error"]);
  return told;
}

}  // namespace zunth::admin
