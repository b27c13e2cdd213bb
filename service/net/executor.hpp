#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/bind_executor.hpp>
#include <boost/asio/dispatch.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/strand.hpp>
#include <boost/asio/use_awaitable.hpp>

namespace zunth::net {

namespace asio = boost::asio;

/// Where something runs: its handlers one at a time, whichever thread takes them.
using Executor = asio::any_io_executor;

/// The threads that run one io_context, as those see them who work there. What the services own is touched on one
/// executor alone; each connection has one of its own, so that their ciphers work side by side. What is dispatched to
/// the services runs at once where it is called from, unless they are at work on another thread: a lone request changes
/// threads nowhere.
class Loops {
 public:
  /// Of one at a time, too; its type is known, which makes passing work to it cheap.
  using Strand = asio::strand<asio::io_context::executor_type>;
  Loops(asio::io_context& threads) : threads_(threads), services_(asio::make_strand(threads)) {}

  const Strand& services() const { return services_; }
  Executor ofOne() const { return asio::make_strand(threads_); }
  /// Lets the threads return.
  void stop() const { threads_.stop(); }

 private:
  asio::io_context& threads_;
  Strand services_;
};

/// `co_await goOn(executor)`: the coroutine goes on there, until it awaits something else. Whoever has left its own
/// executor comes back with comeBack(), which never runs inside what it comes from.
inline auto goOn(const Executor& executor) {
  return asio::dispatch(asio::bind_executor(executor, asio::use_awaitable));
}
inline auto comeBack(const Executor& executor) {
  return asio::post(asio::bind_executor(executor, asio::use_awaitable));
}

}  // namespace zunth::net
