#pragma once

#include "apps/sim/pseudo_terminal.hpp"

#include <atomic>
#include <memory>
#include <string>

namespace zunth::sim {

/// A meter that speaks in lines. Time is passed in.
class Meter {
 public:
  virtual ~Meter() = default;
  virtual std::string name() const = 0;
  virtual void step(double seconds) = 0;
  /// What it says to a line; empty for nothing.
  virtual std::string answer(const std::string& line) = 0;
  /// What it says by itself, ten times a second at most.
  virtual std::string say() { return {}; }
};

/// A scale under a bag of pellets: pellets are taken, and it is filled up when it is nearly empty. "W" asks for the
/// weight, "T" tares, "Z" takes the tare away: "ST,NT,   123.45kg" when it rests, "US,..." while it moves.
class Scale final : public Meter {
 public:
  /// One that says its weight by itself needn't be asked.
  explicit Scale(bool saysByItself) : saysByItself_(saysByItself) {}
  std::string name() const override { return "scale"; }
  void step(double seconds) override;
  std::string answer(const std::string& line) override;
  std::string say() override { return saysByItself_ ? text() : std::string(); }

 private:
  std::string text() const;
  bool saysByItself_;
  double weight_ = 480, tare_ = 0;  // kg
  double restless_ = 0;             // s until it rests
};

/// A meter in the outflow: "PH?" is answered by "PH 7.31 T 11.4 *3A", the last being the sum of the octets before the
/// star.
class PhMeter final : public Meter {
 public:
  std::string name() const override { return "pH meter"; }
  void step(double seconds) override { age_ += seconds; }
  std::string answer(const std::string& line) override;

 private:
  double age_ = 0;  // s
};

/// A meter behind TCP or on a pseudo-terminal, any number of clients, one thread.
class TextServer {
 public:
  struct Settings {
    std::string host = "127.0.0.1";
    int port = 4001;
    std::string line;  // a path for a pseudo-terminal, instead of host and port
    double speedup = 1;
  };
  TextServer(std::unique_ptr<Meter> meter, Settings settings);
  ~TextServer();
  /// As ModbusServer::open().
  std::string open();
  void run();
  void stop() { stopping_ = true; }

 private:
  struct Client {
    int descriptor;
    std::string came;
  };
  bool serve(Client& client);

  std::unique_ptr<Meter> meter_;
  Settings settings_;
  std::unique_ptr<PseudoTerminal> terminal_;
  int listening_ = -1;
  std::atomic<bool> stopping_{false};
};

}  // namespace zunth::sim
