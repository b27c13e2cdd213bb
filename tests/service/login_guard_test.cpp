#include "service/server/login_guard.hpp"

#include <catch2/catch.hpp>

namespace zunth::login_guard_test {

using zunth::server::LoginGuard;
using namespace zunth::ua;

namespace {

struct Door {
  LoginGuard guard;
  Instant now{std::chrono::hours(1)};
  /// Whether the login was tried at all.
  bool tries(const std::string& name, const std::string& origin, bool isRight) {
    if (guard.wait(name, origin, now) > 0) return false;
    guard.begun(name, origin, now);
    if (isRight) guard.succeeded(name, origin, now);
    return true;
  }
};

}  // namespace

TEST_CASE("whoever guesses waits longer each time, up to a minute", "[attack]") {
  Door d;
  for (int i = 0; i < 5; ++i) CHECK(d.tries("berta", "192.0.2.7", false));
  double last = 0;
  for (int i = 0; i < 8; ++i) {
    CHECK(d.tries("berta", "192.0.2.7", false));
    const double wait = d.guard.wait("berta", "192.0.2.7", d.now);
    CHECK(wait >= last);
    last = wait;
    d.now += milliseconds(wait);
  }
  CHECK(last == 60'000);
}

TEST_CASE("an account of one's own is no way to guess on at another's", "[attack]") {
  Door d;
  int tried = 0;
  for (int i = 0; i < 60; ++i) {
    tried += d.tries("berta", "192.0.2.7", false);
    CHECK(d.tries("mallory", "192.0.2.7", true));
    d.now += std::chrono::milliseconds(500);
  }
  CHECK(tried <= 11);  // five, and one after 1, 2, 4, 8 and 16 s
}

TEST_CASE("twenty guesses at once are no way round", "[attack]") {
  Door d;
  int tried = 0;
  for (int i = 0; i < 20; ++i) tried += d.tries("berta", "192.0.2.7", false);
  CHECK(tried == 6);
}

TEST_CASE("who guesses keeps nobody else out", "[attack]") {
  Door d;
  REQUIRE(d.tries("berta", "192.0.2.50", true));
  for (int second = 0; second < 190; ++second) {
    INFO(second);
    for (int i = 0; i < 2; ++i) d.tries("berta", "192.0.2.7", false);
    d.tries("nobody" + std::to_string(second), "192.0.2.7", false);
    // From where she is known, from where the guesses come, and elsewhere by another name.
    CHECK(d.tries("berta", "192.0.2.50", true));
    CHECK(d.tries("carla", "192.0.2.7", true));
    CHECK(d.tries("carla", "192.0.2.8", true));
    d.now += std::chrono::seconds(1);
  }
}

TEST_CASE("no origin has more than a few tries a second checked", "[attack]") {
  Door d;
  int tried = 0;
  for (int i = 0; i < 1000; ++i) {
    tried += d.tries("name" + std::to_string(i), "192.0.2.7", false);
    d.now += std::chrono::milliseconds(10);
  }
  CHECK(tried <= 20 + 10 * 5 + 1);
  // What was turned away unseen, as the queue was full, counts for nothing.
  Door fresh;
  for (int i = 0; i < 100; ++i) {
    CHECK(fresh.tries("berta", "192.0.2.7", false));
    fresh.guard.abandoned("berta", "192.0.2.7");
  }
}

TEST_CASE("the guard remembers only so many", "[attack]") {
  Door d;
  for (int i = 0; i < 30'000; ++i) {
    d.tries("name" + std::to_string(i), "192.0.2." + std::to_string(i), false);
    d.now += std::chrono::milliseconds(1);
  }
  // The newest are still known.
  for (int i = 0; i < 20; ++i) d.tries("name29999", "192.0.2.29999", false);
  CHECK(d.guard.wait("name29999", "192.0.2.29999", d.now) > 0);
}

}  // namespace zunth::login_guard_test
