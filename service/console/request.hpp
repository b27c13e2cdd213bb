#pragma once

#include "core/ua/basic_types.hpp"
#include "core/ua/result.hpp"

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

/// What a browser or a script asks for over HTTP.
namespace zunth::console {

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

/// Reads "/path?name=value&…"; BadSyntaxError when it is no such thing.
ua::Result<void> readTarget(std::string_view target, Request& request);
/// A moment as it stands in a query: in milliseconds since 1970, or as "2026-05-04T07:30:00Z".
std::optional<ua::DateTime> momentOf(const std::string& text);
/// "name=value; name=value": the value of one, or empty.
std::string cookieNamed(std::string_view header, std::string_view name);

}  // namespace zunth::console
