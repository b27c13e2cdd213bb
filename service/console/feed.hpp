#pragma once

#include "service/client/nodes.hpp"
#include "service/client/subscription.hpp"
#include "service/console/live_socket.hpp"
#include "service/console/logins.hpp"

#include <deque>
#include <map>

namespace zunth::console {

/// What one page of a browser is told as it happens. The browser says what it wants to see, a JSON object a message:
///   {"watch": [{"key": 1, "node": "Hatchery/Intake/DF1/pressure", "every": 100}, …]}   every: ms; 0 for each change
///   {"drop": [1, 2]}
///   {"alarms": true}
/// and hears
///   {"watching": [{"key", "id", "facts"} or {"key", "error"}, …]}
///   {"values": [[key, value, text or null, status or null, source time in ms], …]}
///   {"alarms": [condition, …]} as they stand, then {"alarm": condition, "isGone": bool}
///   {"error": …}
/// A browser that takes its time gets the newest value of each, and misses what came between. On the services'
/// executor.
class Feed : public std::enable_shared_from_this<Feed> {
 public:
  Feed(net::Executor services, server::Server& server, std::shared_ptr<Login> login,
       std::shared_ptr<LiveSocket> socket);
  void start();
  /// The login has ended.
  void end(const ua::Error& why);
  const std::shared_ptr<Login>& login() const { return login_; }
  void onEnded(std::function<void()> ended) { ended_ = std::move(ended); }

 private:
  struct Row {
    std::int64_t key;
    std::uint32_t item = 0;  // the server's
    client::VariableFacts facts;
  };
  void said(std::string text);
  Awaitable<void> work();
  Awaitable<ua::Result<void>> watch(Json wanted);
  Awaitable<void> drop(Json keys);
  Awaitable<void> showAlarms();
  Awaitable<ua::Result<void>> subscribe();
  void changed(std::uint32_t handle, const ua::DataValue& value);
  void flush();
  void send(const Json& json);

  net::Executor executor_;
  server::Server& server_;
  std::shared_ptr<Login> login_;
  std::shared_ptr<LiveSocket> socket_;
  std::shared_ptr<client::Subscription> subscription_;
  std::map<std::uint32_t, Row> rows_;              // by client handle
  std::map<std::int64_t, std::uint32_t> handles_;  // by key
  std::map<std::int64_t, Json> waiting_;           // newest values that have not been sent
  std::deque<Json> asked_;
  std::shared_ptr<void> alarms_;
  std::function<void()> ended_;
  std::uint32_t lastHandle_ = 0;
  bool isWorking_ = false, isOver_ = false, isFlushPosted_ = false;
};

/// A value as pages and scripts read it: JSON, and its words where these say more.
Json valueRow(std::int64_t key, const ua::DataValue& value, const client::VariableFacts& facts);

}  // namespace zunth::console
