#pragma once

#include "core/space/namespace0.hpp"
#include "service/client/session.hpp"
#include "service/endpoint/listener.hpp"
#include "service/server/server.hpp"

#include <functional>

#include "tests/service/run_loop.hpp"
#include <spdlog/spdlog.h>

namespace zunth::test {

namespace asio = net::asio;

/// A server without security on a free port, and sessions to it, on one loop.
struct Loopback {
  /// `fill` adds to the space that holds namespace 0; `adjust` changes the settings.
  explicit Loopback(const std::function<void(space::Space&)>& fill = {},
                    const std::function<void(server::Settings&)>& adjust = {})
      : space("urn:fernhollow.example:test") {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    if (fill) fill(space);
    server::Settings settings;
    settings.allowUnsecured = settings.allowAnonymous = true;
    settings.endpointUrls = {"opc.tcp://127.0.0.1:0"};
    if (adjust) adjust(settings);
    server = std::make_unique<server::Server>(space, settings);
    listener = std::make_unique<endpoint::Listener>(loop, *server);
    url = *listener->listen("opc.tcp://127.0.0.1:0");
  }
  client::Awaitable<std::shared_ptr<client::Session>> session(bool reconnects = false) {
    client::Session::Options options;
    options.timeout = std::chrono::seconds(10);
    options.reconnects = reconnects;
    auto opened = co_await client::Session::open(url, options);
    if (!opened) throw std::runtime_error(opened.error().text());
    co_return *opened;
  }
  asio::io_context loop{1};
  space::Space space;
  std::unique_ptr<server::Server> server;
  std::unique_ptr<endpoint::Listener> listener;
  std::string url;
};

}  // namespace zunth::test
