#pragma once

#include "service/admin/audit_log.hpp"
#include "service/admin/control.hpp"
#include "service/logs/logs.hpp"
#include "service/net/executor.hpp"

#include <map>

#include <boost/asio/steady_timer.hpp>
#include <spdlog/sinks/ringbuffer_sink.h>

namespace zunth::admin {

/// What is asked of the service's log by the control door: its newest lines, and that it, or one part of it, tells more
/// for a while; then it tells as much as before: nobody forgets it. On the services' executor.
class LogDesk {
 public:
  /// Where the newest lines are kept.
  using Kept = spdlog::sinks::ringbuffer_sink_mt;
  LogDesk(net::Executor executor, AuditLog& audit)
      : executor_(std::move(executor)), audit_(audit), usual_(spdlog::get_level()) {}

  /// As much as site.yaml says from now on; empty for what the command line gave.
  void tellUsually(const std::string& level);
  void open(Control& control, std::shared_ptr<Kept> kept);

 private:
  /// Of one part, or of all that tell as much as usual.
  void tell(std::optional<logs::Part> part, spdlog::level::level_enum level) const;
  void raise(const Actor& actor, const Json& asked, const Control::Answer& answer);

  net::Executor executor_;
  AuditLog& audit_;
  const spdlog::level::level_enum usual_;
  spdlog::level::level_enum now_ = usual_;
  std::map<std::optional<logs::Part>, boost::asio::steady_timer> raised_;  // until when
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::admin
