#pragma once

#include <chrono>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <catch2/catch.hpp>

namespace zunth::test {

/// Runs a test's coroutine to its end on the loop.
template <class Work>
void run(boost::asio::io_context& loop, Work work) {
  bool ended = false;
  boost::asio::co_spawn(loop, work(), [&](std::exception_ptr failure) {
    if (failure) std::rethrow_exception(failure);
    ended = true;
    loop.stop();
  });
  loop.run_for(std::chrono::minutes(3));
  REQUIRE(ended);
}

}  // namespace zunth::test
