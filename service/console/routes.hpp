#pragma once

#include "service/console/logins.hpp"

#include <span>

namespace zunth::console {

class Console;

/// A request to the API, and who makes it.
struct Visit {
  Request request;
  std::shared_ptr<Login> login;  // null where none is needed
  Json body;                     // of requests that have one

  const space::Rights& rights() const { return login->desk->rights(); }
  const std::shared_ptr<client::Session>& session() const { return login->desk->session(); }
};

/// Who may ask for it; more than that, its rights decide.
enum class Needs { Nobody, Login, Engineer, SecurityAdmin };

struct Parameter {
  const char* name;
  const char* about;
  bool isRequired = false;
};

/// One thing that can be asked of the API. The document that describes the API is made from these.
struct Route {
  const char* method;
  const char* path;
  const char* about;
  Needs needs;
  Awaitable<Answer> (*handler)(Console& console, Visit visit);
  std::vector<Parameter> parameters{};  // in the query of a GET, in the body's object otherwise
  const char* command = "";             // the command line's way to do the same
};

/// Puts on record what somebody did here, and what came of it.
void note(Console& console, const Visit& visit, const char* what, ua::StatusCode outcome, std::string about);

/// The time that 'from' and 'to' of a request say, the earlier first. BadInvalidTimestampArgument.
struct Span {
  ua::DateTime from, to;
};
ua::Result<Span> spanOf(const Visit& visit);

/// All, from the files that have them.
const std::vector<Route>& routes();
std::vector<Route> siteRoutes();
std::vector<Route> nodeRoutes();
std::vector<Route> markRoutes();
std::vector<Route> pastRoutes();
std::vector<Route> alarmRoutes();
std::vector<Route> eventRoutes();
std::vector<Route> adminRoutes();
std::vector<Route> certificateRoutes();
std::vector<Route> draftRoutes();
std::vector<Route> searchRoutes();
std::vector<Route> sheetRoutes();
std::vector<Route> tokenRoutes();

/// Passes on to the control door what the visit says, under the door's own names.
Awaitable<Answer> passOn(Console& console, Visit visit, Json asked);

/// Good, or why this login may not.
ua::Result<void> mayUse(const Route& route, const Login* login);
/// The API as an OpenAPI 3 document.
Json openApi();

}  // namespace zunth::console
