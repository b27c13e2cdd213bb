#pragma once

#include "core/ua/instant.hpp"
#include "core/ua/json_type.hpp"
#include "core/ua/result.hpp"
#include "service/net/tcp_link.hpp"

#include <filesystem>
#include <functional>
#include <map>

#include <boost/asio/local/stream_protocol.hpp>

namespace zunth::admin {

using ua::Json;

/// Who asks for something to be done: shown in the audit log.
struct Actor {
  std::string name;  // "root at the command line"
};

/// The door for administration from this machine: a Unix socket in state/control.sock that only the service's own user
/// and root may open. A request is a line of JSON, {"verb": …, arguments}, and so is its answer: what the verb tells,
/// or
/// {"error": {"code", "cause", "next"}}. One request a connection, at most 64 KiB, 16 at a time.
class Control {
 public:
  using Answer = std::function<void(Json)>;
  using Verb = std::function<void(const Actor& actor, const Json& asked, Answer answer)>;

  Control(net::Executor services, std::filesystem::path site)
      : services_(std::move(services)), site_(std::move(site)) {}
  ~Control() { close(); }
  void on(std::string name, Verb verb) { verbs_[std::move(name)] = std::move(verb); }
  /// Has a request answered, whichever door it came by; whether the actor may is decided there.
  void perform(const Actor& actor, const Json& request, const Answer& answer) const;
  ua::Result<void> open();
  void close();

  /// From another process: BadConnectionRejected when nobody serves the site, BadTimeout, or what the verb is refused
  /// with.
  static ua::Result<Json> ask(const std::filesystem::path& site, const Json& request, ua::Duration patience);

 private:
  using Socket = net::asio::local::stream_protocol::socket;
  net::asio::awaitable<void> accept();
  net::asio::awaitable<void> converse(Socket socket);

  net::Executor services_;
  std::filesystem::path site_;
  std::map<std::string, Verb> verbs_;
  std::unique_ptr<net::asio::local::stream_protocol::acceptor> acceptor_;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  std::size_t open_ = 0;
};

/// An error as the answers of Control show it, and back.
Json jsonOf(const ua::Error& error);
ua::Error errorOf(const Json& json);

}  // namespace zunth::admin
