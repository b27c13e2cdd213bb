#include "apps/zunth/command.hpp"
#include "apps/zunth/own_trust.hpp"
#include "core/channel/url.hpp"

#include <boost/asio/co_spawn.hpp>
#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

const char* modeName(MessageSecurityMode mode) {
  switch (mode) {
    case MessageSecurityMode::None: return "None";
    case MessageSecurityMode::Sign: return "Sign";
    case MessageSecurityMode::SignAndEncrypt: return "SignAndEncrypt";
    default: return "Invalid";
  }
}

std::string usersOf(const EndpointDescription& endpoint) {
  std::string out;
  for (const auto& policy : endpoint.userIdentityTokens) {
    static const char* names[] = {"anonymous", "password", "certificate", "token"};
    const auto kind = static_cast<std::size_t>(policy.tokenType);
    out += (out.empty() ? "" : ", ") + std::string(kind < 4 ? names[kind] : "unknown");
  }
  return out.empty() ? "nobody" : out;
}

Awaitable<int> listEndpoints(std::string url, Options options) {
  const Duration timeout = milliseconds(options.timeout * 1000);
  auto connection = co_await client::Connection::open(url, timeout, client::unsecured(securityFrom(options), url));
  if (!connection) co_return fail(connection.error());
  GetEndpointsRequest request;
  request.endpointUrl = String((*connection)->endpointUrl());
  auto response = co_await (*connection)->request(std::move(request), timeout);
  (*connection)->close();
  if (!response) co_return fail(response.error());
  Records records({"url", "encoding", "mode", "policy", "users", "server"});
  for (const auto& endpoint : response->endpoints) {
    const std::string policy = endpoint.securityPolicyUri.str();
    const bool isJson = endpoint.transportProfileUri.view().ends_with("uajson");
    records.add({endpoint.endpointUrl.str(), std::string(isJson ? "JSON" : "binary"), modeName(endpoint.securityMode),
                 policy.substr(policy.rfind('#') + 1), usersOf(endpoint), endpoint.server.applicationName.text.str()});
  }
  if (records.empty() && options.format == Format::Table) {
    std::fprintf(stderr, "zunth: the server offers no endpoint: it lets nobody in\n");
    co_return kNo;
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return kDone;
}

}  // namespace

void addEndpoints(Program program) {
  const auto verb = addVerb(program, "endpoints", "List how a server can be reached: URL, security, users.",
                            "zunth endpoints opc.tcp://127.0.0.1:4840");
  verb.option("PLACE", program.options.at, "The server, as --at takes it");
  verb.runs([program] {
    auto url = Places::load().resolve(program.options.at);
    if (!url) {
      program.exitCode = fail(url.error());
      return;
    }
    asio::io_context loop(1);
    asio::co_spawn(loop, listEndpoints(*url, program.options), [&](std::exception_ptr failure, int code) {
      if (failure) std::rethrow_exception(failure);
      program.exitCode = code;
      loop.stop();
    });
    loop.run();
    // The goodbye leaves in the background.
    loop.restart();
    loop.run_for(std::chrono::milliseconds(200));
  });
}

}  // namespace zunth::cli
