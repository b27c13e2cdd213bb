#pragma once

#include "apps/sim/equipment.hpp"
#include "apps/sim/publisher.hpp"
#include "apps/sim/text_server.hpp"
#include "service/admin/site.hpp"
#include "service/device/line_station.hpp"
#include "service/device/modbus_points.hpp"

#include <atomic>
#include <filesystem>
#include <functional>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

namespace zunth::sim {

/// What a point of a device would show: a number goes slowly up and down in the range of the variable that it is bound
/// to, what is true becomes false for a while, a text stays; what is written stays as it was written.
class Guess {
 public:
  /// `low` and `high` in the variable's unit; `phase` sets points that are alike apart.
  Guess(const device::DevicePoint& point, ua::BuiltInType shown, double low, double high, double phase)
      : point_(point), shown_(shown), low_(low), high_(high), phase_(phase) {}
  /// As the device would have it, so many seconds after the start.
  ua::Variant raw(double seconds) const;
  const device::DevicePoint& point() const { return point_; }
  /// It is the device's heartbeat, and changes each second.
  void beat() { isHeart_ = true; }

 private:
  ua::Variant element(double seconds) const;

  device::DevicePoint point_;
  ua::BuiltInType shown_;
  double low_, high_, phase_;
  bool isHeart_ = false;
};

/// The guesses for all points of one device of a site.
std::vector<Guess> guessesFor(const admin::Site& site, std::size_t device);

/// A unit with the registers of a device's file.
class SiteMachine final : public Equipment {
 public:
  SiteMachine(std::string name, std::vector<Guess> guesses);
  std::string name() const override { return name_; }
  std::size_t registers() const override { return registers_; }
  std::size_t bits() const override { return bits_; }
  void prepare(const Tables& tables) override;
  void step(double seconds) override { age_ += seconds; }
  void show(const Tables& tables) const override;
  bool accepts(int, std::span<const std::uint16_t>) const override { return true; }
  void obey(const Tables&) override {}

 private:
  void put(const Tables& tables, std::size_t i) const;
  std::string name_;
  std::vector<Guess> guesses_;
  std::vector<device::modbus::Place> places_;
  std::size_t registers_ = 0, bits_ = 0;
  double age_ = 0;
};

/// A meter that answers as a device's file says, with guesses in the fields.
class SiteMeter final : public Meter {
 public:
  SiteMeter(std::string name, const device::line::LineSettings& spoken, std::vector<Guess> guesses);
  std::string name() const override { return name_; }
  void step(double seconds) override { age_ += seconds; }
  std::string answer(const std::string& line) override;
  std::string say() override { return questions_[0].ask.empty() ? text(questions_[0]) : std::string(); }

 private:
  std::string text(const device::line::Question& question) const;
  std::string name_;
  std::vector<device::line::Question> questions_;
  device::line::Checksum checksum_;
  std::vector<Guess> guesses_;
  double age_ = 0;
};

/// All devices of a site that can be simulated, each at its own place, until stop().
class SitePlant {
 public:
  /// Throws std::runtime_error when the folder is no sound site.
  explicit SitePlant(const std::filesystem::path& folder, double speedup);
  ~SitePlant() { stop(); }
  /// A line for each device: where it is, or why it can't be simulated.
  std::vector<std::string> open();
  void run();
  void stop();

 private:
  admin::Site site_;
  double speedup_;
  std::vector<std::function<void()>> stops_;
  std::vector<std::jthread> threads_;
  std::vector<std::function<void()>> runs_;
  std::atomic<bool> stopping_{false};
};

}  // namespace zunth::sim
