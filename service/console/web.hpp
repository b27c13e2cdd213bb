#pragma once

#include "core/ua/basic_types.hpp"
#include "core/ua/result.hpp"

#include <map>
#include <string>
#include <utility>
#include <vector>

#include <boost/asio/awaitable.hpp>
#include <nlohmann/json.hpp>

/// What is asked and answered over HTTP, without sockets.
namespace zunth::console {

using Json = nlohmann::ordered_json;
template <class T>
using Awaitable = boost::asio::awaitable<T>;

struct Request {
  std::string method;                             // "GET"
  std::string path;                               // "/api/node", decoded
  std::multimap<std::string, std::string> query;  // decoded
  std::string body;
  std::string cookie;   // the login, where one came along
  std::string bearer;   // a token of a script
  std::string proof;    // that the page itself sent it: the header that other sites' pages can't set
  std::string address;  // "127.0.0.1:51234"
  std::string ifNoneMatch;
  bool acceptsGzip = false;
  bool isSecure = false;  // over TLS

  /// The first of this name, or `otherwise`.
  std::string value(const std::string& name, std::string otherwise = {}) const;
  std::vector<std::string> values(const std::string& name) const;
  /// As a number within these bounds.
  std::size_t number(const std::string& name, std::size_t otherwise, std::size_t most) const;
};

struct Answer {
  unsigned status = 200;
  std::string type = "application/json";
  std::string body;
  std::vector<std::pair<std::string, std::string>> headers;

  static Answer of(const Json& json, unsigned status = 200);
  /// {"error": {"code", "cause", "next"}} with the HTTP status that fits.
  static Answer of(const ua::Error& error);
};

/// Reads "/path?name=value&…"; BadSyntaxError when it is no such thing.
ua::Result<void> readTarget(std::string_view target, Request& request);
/// Milliseconds since 1970, as browsers count time; null for no time.
Json timeJson(ua::DateTime time);
/// A moment as it stands in a query: in milliseconds since 1970, or as "2026-05-04T07:30:00Z".
std::optional<ua::DateTime> momentOf(const std::string& text);
/// "name=value; name=value": the value of one, or empty.
std::string cookieNamed(std::string_view header, std::string_view name);

}  // namespace zunth::console
