#pragma once

#include "core/ua/json_type.hpp"
#include "service/console/request.hpp"

#include <utility>
#include <vector>

#include <boost/asio/awaitable.hpp>

/// What is asked and answered over HTTP, without sockets.
namespace zunth::console {

using ua::Json;
template <class T>
using Awaitable = boost::asio::awaitable<T>;

struct Answer {
  unsigned status = 200;
  std::string type = "application/json";
  std::string body;
  std::vector<std::pair<std::string, std::string>> headers;

  static Answer of(const Json& json, unsigned status = 200);
  /// {"error": {"code", "cause", "next"}} with the HTTP status that fits.
  static Answer of(const ua::Error& error);
};

/// Milliseconds since 1970, as browsers count time; null for no time.
Json timeJson(ua::DateTime time);

}  // namespace zunth::console
