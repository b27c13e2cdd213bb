#pragma once

#include <coroutine>

namespace zunth::server {

/// A request's work that may take more than one turn of the loop: a coroutine that begins at once and, where its slice
/// is over, waits in Turns for the next. It answers the request itself.
struct Job {
  struct promise_type {
    Job get_return_object() { return {}; }
    std::suspend_never initial_suspend() noexcept { return {}; }
    std::suspend_never final_suspend() noexcept { return {}; }
    void return_void() {}
    void unhandled_exception() { throw; }
  };
};

}  // namespace zunth::server
