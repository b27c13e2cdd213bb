#include "service/console/routes.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "service/console/console.hpp"

#include <algorithm>

namespace zunth::console {

using namespace ua;

void note(Console& console, const Visit& visit, const char* what, StatusCode outcome, std::string about) {
  console.site().record({DateTime::from(std::chrono::system_clock::now()),
                         what,
                         visit.login->desk->who(),
                         visit.request.address,
                         {},
                         outcome,
                         std::move(about)});
}

Result<Span> spanOf(const Visit& visit) {
  const auto from = momentOf(visit.request.value("from")), to = momentOf(visit.request.value("to"));
  if (from && to && *from < *to) return Span{*from, *to};
  return Error{status::BadInvalidTimestampArgument, "'from' and 'to' are moments, the earlier first",
               "in milliseconds since 1970, or as 2026-05-04T07:30:00Z"};
}

const std::vector<Route>& routes() {
  static const std::vector<Route> all = [] {
    std::vector<Route> out;
    for (auto part : {siteRoutes, nodeRoutes, pastRoutes, markRoutes, alarmRoutes, eventRoutes, adminRoutes,
                      certificateRoutes, draftRoutes, searchRoutes, sheetRoutes, tokenRoutes})
      for (auto& route : part()) out.push_back(std::move(route));
    return out;
  }();
  return all;
}

Awaitable<Answer> passOn(Console& console, Visit visit, Json asked) {
  auto told = co_await console.perform(*visit.login, std::move(asked));
  co_return told ? Answer::of(*told) : Answer::of(told.error());
}

Result<void> mayUse(const Route& route, const Login* login) {
  if (route.needs == Needs::Nobody) return {};
  if (!login)
    return Error{status::BadSessionIdInvalid, "nobody is logged in here, or no longer", "log in, and do it again"};
  const auto has = [&](std::initializer_list<StandardId> roles) {
    return std::ranges::any_of(roles, [&](StandardId role) { return login->desk->hasRole(role); });
  };
  if (route.needs == Needs::SecurityAdmin && !has({id::WellKnownRole_SecurityAdmin}))
    return Error{status::BadUserAccessDenied,
                 "this takes the role SecurityAdmin, which " + login->desk->who() + " lacks",
                 "log in as somebody who has it"};
  if (route.needs == Needs::Engineer &&
      !has({id::WellKnownRole_Engineer, id::WellKnownRole_ConfigureAdmin, id::WellKnownRole_SecurityAdmin}))
    return Error{status::BadUserAccessDenied, "this takes the role Engineer, which " + login->desk->who() + " lacks",
                 "log in as somebody who has it"};
  return {};
}

namespace {

const char* const kNeeds[] = {"anybody", "who is logged in", "an engineer or administrator",
                              "a security administrator"};

Json operationOf(const Route& route) {
  const bool isGet = std::string_view(route.method) == "GET";
  Json operation{{"summary", route.about},
                 {"description", std::string("For ") + kNeeds[static_cast<int>(route.needs)] + "." +
                                     (*route.command ? std::string(" At the command line: ") + route.command : "")}};
  if (route.needs == Needs::Nobody) operation["security"] = Json::array();
  Json properties = Json::object(), required = Json::array(), parameters = Json::array();
  for (const auto& parameter : route.parameters) {
    if (isGet) {
      parameters.push_back({{"name", parameter.name},
                            {"in", "query"},
                            {"required", parameter.isRequired},
                            {"description", parameter.about},
                            {"schema", {{"type", "string"}}}});
    } else {
      properties[parameter.name] = {{"description", parameter.about}};
      if (parameter.isRequired) required.push_back(parameter.name);
    }
  }
  if (!parameters.empty()) operation["parameters"] = std::move(parameters);
  if (!properties.empty()) {
    Json schema{{"type", "object"}, {"properties", std::move(properties)}};
    if (!required.empty()) schema["required"] = std::move(required);
    operation["requestBody"] = {{"content", {{"application/json", {{"schema", std::move(schema)}}}}}};
  }
  operation["responses"] = {
      {"200", {{"description", "what was asked for"}}},
      {"default",
       {{"description", "who refused, why, and what to do next"},
        {"content", {{"application/json", {{"schema", {{"$ref", "#/components/schemas/Refusal"}}}}}}}}}};
  return operation;
}

}  // namespace

Json openApi() {
  Json paths = Json::object();
  for (const auto& route : routes()) {
    std::string method = route.method;
    std::ranges::transform(method, method.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    paths[route.path][method] = operationOf(route);
  }
  const Json text{{"type", "string"}};
  return {
      {"openapi", "3.0.3"},
      {"info",
       {{"title", "Zunth"},
        {"version", "1"},
        {"description",
         "What the console does, for scripts. Log in with POST /api/login, keep the cookie, and send the `proof` of "
         "its answer as the header X-Zunth-Proof with whatever is not a GET."}}},
      {"paths", std::move(paths)},
      {"components",
       {{"securitySchemes", {{"login", {{"type", "apiKey"}, {"in", "cookie"}, {"name", "zunth"}}}}},
        {"schemas",
         {{"Refusal",
           {{"type", "object"},
            {"required", {"error"}},
            {"properties",
             {{"error",
               {{"type", "object"},
                {"required", {"code", "cause", "next"}},
                {"properties", {{"code", text}, {"cause", text}, {"next", text}}}}}}}}}}}}},
      {"security", Json::array({{{"login", Json::array()}}})}};
}

}  // namespace zunth::console
