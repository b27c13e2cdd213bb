#pragma once

#include "core/ua/instant.hpp"

#include <string>
#include <unordered_map>

namespace zunth::server {

/// Slows password guessing down without shutting others out. After a few failures in a row under a name from an origin,
/// further ones wait, longer with each, up to a minute; under a name from everywhere, up to five seconds, but only from
/// origins from which nobody has logged in under it; and no origin has more than a few tries a second checked once
/// many of its tries have failed. A login under way counts as a failure until it has succeeded: twenty at once are no
/// way round. An origin is a host, with the certificate that its channel proved.
class LoginGuard {
 public:
  /// How long this login has to wait, in ms; 0 when it may be tried.
  double wait(const std::string& name, const std::string& origin, ua::Instant now) const;
  /// It is being tried.
  void begun(const std::string& name, const std::string& origin, ua::Instant now);
  /// It was not even looked at: it counts as if it had not begun.
  void abandoned(const std::string& name, const std::string& origin);
  void succeeded(const std::string& name, const std::string& origin, ua::Instant now);

 private:
  struct Record {
    unsigned failures = 0;
    ua::Instant until{}, last{};
  };
  struct Kind {
    unsigned free;       // failures that cost nothing
    double mostSeconds;  // of waiting
  };
  using Records = std::unordered_map<std::string, Record>;
  static constexpr Kind kPair{5, 60}, kName{20, 5};
  static constexpr double kTriesInARow = 20, kTriesASecond = 5;  // of an origin
  /// What an origin may still try; filled up as time passes.
  struct Bucket {
    double tries = kTriesInARow;
    ua::Instant filled{};
    double at(ua::Instant now) const;
  };
  static constexpr std::size_t kMost = 10'000;  // records of each kind
  static constexpr auto kMemory = std::chrono::hours(1);
  static void fail(Records& records, const Kind& kind, const std::string& key, ua::Instant now);
  static void forgive(Records& records, const std::string& key);
  static double waitOf(const Records& records, const std::string& key, ua::Instant now);
  static std::string pairOf(const std::string& name, const std::string& origin) { return name + "\n" + origin; }
  bool isKnown(const std::string& pair, ua::Instant now) const;

  Records pairs_, names_;
  std::unordered_map<std::string, Bucket> origins_;
  std::unordered_map<std::string, ua::Instant> known_;  // pairs that logged in, and when
};

}  // namespace zunth::server
