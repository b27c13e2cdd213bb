#pragma once

#include "core/space/space.hpp"
#include "service/client/standing_conditions.hpp"
#include "service/console/web.hpp"

namespace zunth::console {

/// The conditions that a session may hear of, as they stand: told once by the server, then kept up to date. On the
/// services' executor; space outlives it.
class AlarmBook : public std::enable_shared_from_this<AlarmBook> {
 public:
  explicit AlarmBook(const space::Space& space) : space_(space) {}

  /// Begins to listen; returns when all that stands has been told. Does nothing twice.
  Awaitable<ua::Result<void>> open(std::shared_ptr<client::Session> session);
  std::vector<client::Condition> standing() const;
  /// Told of each condition that changed; `isGone` when it is of interest no longer. Until the returned token is gone.
  using Told = std::function<void(const client::Condition& condition, bool isGone)>;
  std::shared_ptr<void> listen(Told told);

 private:
  client::Condition placed(client::Condition condition) const;

  const space::Space& space_;
  std::shared_ptr<client::StandingConditions> conditions_;
  std::vector<std::weak_ptr<Told>> listeners_;
  std::shared_ptr<boost::asio::steady_timer> told_;  // cancelled when all has been told
  bool isOpening_ = false;
};

/// A condition as the console's pages and scripts read it.
Json jsonOf(const client::Condition& condition);

}  // namespace zunth::console
