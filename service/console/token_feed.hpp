#pragma once

#include "core/space/permissions.hpp"
#include "core/space/space.hpp"
#include "core/ua/instant.hpp"
#include "service/console/live_socket.hpp"
#include "service/console/tokens.hpp"
#include "service/console/web.hpp"
#include "service/net/executor.hpp"

#include <boost/asio/steady_timer.hpp>

namespace zunth::console {

/// What a token is for, as it changes: looked at once in a while, in the name of who made it and as long as they may.
/// It tells {"values": [row, …]} with the rows of /api/table, first all and then those that are otherwise. Who takes
/// them slowly gets the newest. On the services' executor.
class TokenFeed : public std::enable_shared_from_this<TokenFeed> {
 public:
  struct Parts {
    net::Executor services;
    space::Space& space;
    std::function<ua::Result<space::Rights>(const std::string& user)> rightsOf;
  };
  static constexpr std::size_t kMostRows = 1'000;
  static constexpr ua::Duration kFastest = std::chrono::milliseconds(250), kSlowest = std::chrono::minutes(1);

  TokenFeed(Parts parts, Token token, ua::Duration every, std::shared_ptr<LiveSocket> socket);
  void start(std::function<void()> ended);
  void end(const ua::Error& why);
  const Token& token() const { return token_; }

 private:
  struct Row {
    ua::NodeId node;
    ua::DataValue last;
    bool isTold = false;
  };
  Awaitable<void> run(std::shared_ptr<TokenFeed> self);
  Awaitable<void> look();

  Parts parts_;
  Token token_;
  ua::Duration every_;
  std::shared_ptr<LiveSocket> socket_;
  std::function<void()> ended_;
  std::vector<Row> rows_;
  std::size_t next_ = 0;  // where the message goes on that had no room for all
  boost::asio::steady_timer timer_;
  bool isOver_ = false;
};

}  // namespace zunth::console
