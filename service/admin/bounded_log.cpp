#include "service/admin/bounded_log.hpp"

#include "core/ua/foreign.hpp"

#include <fmt/format.h>

namespace zunth::admin {

void BoundedLog::sink_it_(const spdlog::details::log_msg& message) {
  constexpr std::size_t kLongest = 2'000;  // octets of a line
  const auto pass = [&](std::string_view text) {
    spdlog::details::log_msg line = message;
    line.payload = spdlog::string_view_t(text.data(), text.size());
    inner_->log(line);
  };
  if (message.time - since_ >= std::chrono::seconds(1)) {
    if (leftOut_ > 0) pass(fmt::format("{} lines were left out: there were too many at once", leftOut_));
    since_ = message.time;
    written_[0] = written_[1] = leftOut_ = 0;
  }
  if (++written_[message.level >= spdlog::level::warn] > most_) {
    ++leftOut_;
    return;
  }
  pass(ua::shown({message.payload.data(), message.payload.size()}, kLongest));
}

}  // namespace zunth::admin
