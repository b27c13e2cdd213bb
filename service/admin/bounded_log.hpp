#pragma once

#include <chrono>
#include <memory>
#include <mutex>

#include <spdlog/sinks/base_sink.h>

namespace zunth::admin {

/// A log that nobody fills and in which nobody forges a line: at most so many lines a second, and then one that says
/// how many were left out; control characters and the like escaped, whoever wrote them. Warnings and errors have as
/// many of their own: a part that tells much leaves them their room.
class BoundedLog final : public spdlog::sinks::base_sink<std::mutex> {
 public:
  explicit BoundedLog(std::shared_ptr<spdlog::sinks::sink> inner, unsigned linesASecond = 100)
      : inner_(std::move(inner)), most_(linesASecond) {}

 protected:
  void sink_it_(const spdlog::details::log_msg& message) override;
  void flush_() override { inner_->flush(); }
  void set_pattern_(const std::string& pattern) override { inner_->set_pattern(pattern); }
  void set_formatter_(std::unique_ptr<spdlog::formatter> formatter) override {
    inner_->set_formatter(std::move(formatter));
  }

 private:
  std::shared_ptr<spdlog::sinks::sink> inner_;
  unsigned most_;
  std::chrono::system_clock::time_point since_{};
  unsigned written_[2] = {}, leftOut_ = 0;  // usual lines; warnings and worse
};

}  // namespace zunth::admin
