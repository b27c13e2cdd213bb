#include "apps/zunth/command.hpp"
#include "apps/zunth/own_trust.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/net/connecting.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

constexpr double kApart = 60;  // s that two clocks may differ before it is worth a word

/// The steps of a connection as they are taken, each with its mark.
class Steps {
 public:
  explicit Steps(const Options& options) : options_(options) {}
  void good(const std::string& step, const std::string& found) { add(step, true, found, {}); }
  /// The last one: what is wrong, and what to do on which machine.
  int bad(const std::string& step, const Error& why, const std::string& next) {
    // Where the server names the command itself, it stands below.
    const std::string text = why.text();
    add(step, false, text.substr(0, text.find("; there: ")), next.empty() ? why.next : next);
    return exitCodeOf(why.code);
  }
  void print() const {
    if (isStructured(options_.format)) std::fputs(document(json_, options_.format).c_str(), stdout);
  }

 private:
  void add(const std::string& step, bool isGood, const std::string& found, const std::string& next) {
    if (isStructured(options_.format)) {
      json_.push_back({{"step", step}, {"good", isGood}, {"found", found}});
      if (!next.empty()) json_.back()["next"] = next;
      return;
    }
    std::printf("%s  %-12s  %s\n", isGood ? "ok" : coloured(status::Bad, "NO").c_str(), step.c_str(), found.c_str());
    if (!next.empty()) std::printf("                  try: %s\n", next.c_str());
    std::fflush(stdout);
  }
  const Options& options_;
  Json json_ = Json::array();
};

std::string shortName(const EndpointDescription& endpoint) {
  const std::string uri = endpoint.securityPolicyUri.str();
  const bool isNone = endpoint.securityMode == MessageSecurityMode::None;
  const bool signs = endpoint.securityMode == MessageSecurityMode::Sign;
  return isNone ? "unsecured" : fmt::format("{}, {}", signs ? "signed" : "encrypted", uri.substr(uri.rfind('#') + 1));
}

/// What to do about a failure of the secure channel or the session, and where.
std::string adviceFor(const Error& why, const client::Security& security, secure::KeyKind key) {
  switch (why.code.value) {
    case status::BadSecurityChecksFailed.value:
    case status::BadCertificateUntrusted.value:
      if (auto identity = security.identity(key))
        return fmt::format("on the server's machine, let this client in: zunth trust allow {} --site SITE",
                           (*identity)->certificate.fingerprint().substr(0, 11));
      return why.next;
    case status::BadCertificateTimeInvalid.value: return "set the clock of the machine that is wrong";
    case status::BadIdentityTokenRejected.value: return "log in: --user NAME; on the server: zunth user add NAME";
    case status::BadUserAccessDenied.value: return "another password; on the server: zunth user password NAME";
    case status::BadTooManySessions.value: return "on the server, raise 'sessions' under 'limits' in site.yaml";
    default: return why.next;
  }
}

Awaitable<int> tryConnection(std::string place, Options options, client::Session::Options settings, Steps& steps) {
  const Duration patience = milliseconds(options.timeout * 1000);
  auto url = channel::Url::parse(place);
  if (!url) co_return steps.bad("address", url.error(), {});
  const auto executor = co_await asio::this_coro::executor;

  if (!url->isAwaited) {
    auto [unresolved, endpoints] =
        co_await net::resolve(url->host, url->port, std::chrono::steady_clock::now() + patience);
    if (unresolved)
      co_return steps.bad("name", {status::BadTcpEndpointUrlInvalid, url->host + " does not resolve", {}},
                          "write the server's address instead of its name, or mend this machine's name service");
    const std::string address = endpoints.begin()->endpoint().address().to_string();
    steps.good("name", address == url->host ? address + " is an address" : url->host + " is " + address);
    net::Tcp::socket socket(executor);
    const auto begun = std::chrono::steady_clock::now();
    const auto error = co_await net::connect(socket, endpoints, begun + patience);
    const bool isLate = error == asio::error::timed_out;
    if (error)
      co_return steps.bad(
          "port",
          {status::BadConnectionRejected,
           fmt::format("{}:{} does not answer ({})", url->host, url->port, isLate ? "time-out" : error.message()),
           {}},
          isLate ? "on the server's machine, let the port through the firewall"
                 : "on the server's machine, start the server; or another port");
    const std::chrono::duration<double, std::milli> took = std::chrono::steady_clock::now() - begun;
    steps.good("port", fmt::format("{} answers in {:.1f} ms", url->port, took.count()));
  }

  auto security = securityFrom(options);
  auto plain = co_await client::Connection::open(place, patience, client::unsecured(security, place));
  if (!plain) co_return steps.bad("hello", plain.error(), plain.error().next);
  steps.good("hello", "it speaks OPC UA");

  GetEndpointsRequest request;
  request.endpointUrl = String((*plain)->endpointUrl());
  const auto before = std::chrono::system_clock::now();
  auto offered = co_await (*plain)->request(std::move(request), patience);
  const auto after = std::chrono::system_clock::now();
  const std::string endpointUrl = (*plain)->endpointUrl();
  const bool isOnThisMachine = (*plain)->isOnThisMachine();
  (*plain)->close();
  if (!offered) co_return steps.bad("endpoints", offered.error(), {});
  auto parsed = channel::Url::parse(endpointUrl);
  if (!parsed) co_return steps.bad("endpoints", parsed.error(), {});
  auto chosen = client::chooseEndpoint(offered->endpoints, security, *parsed, isOnThisMachine);
  if (!chosen) co_return steps.bad("endpoints", chosen.error(), chosen.error().next);
  const auto* policy = secure::policyOf(chosen->securityPolicyUri.view());
  const auto key = policy ? policy->key : secure::KeyKind::Rsa;
  steps.good("endpoints", fmt::format("{} offered; taking {}", offered->endpoints.size(), shortName(*chosen)));

  const auto middle = before + (after - before) / 2;
  const double apart = std::chrono::duration<double>(offered->responseHeader.timestamp.time() - middle).count();
  if (std::abs(apart) < kApart)
    steps.good("clocks", fmt::format("{:.1f} s apart", std::abs(apart)));
  else
    steps.good("clocks", fmt::format("the server's is {:.0f} s {}: certificates may seem invalid, values old",
                                     std::abs(apart), apart > 0 ? "ahead" : "behind"));

  const bool isSecured = chosen->securityMode != MessageSecurityMode::None;
  if (isSecured) {
    auto trusted = security.trust(chosen->serverCertificate, parsed->host, chosen->server.applicationUri.str());
    if (!trusted) co_return steps.bad("our trust", trusted.error(), trusted.error().next);
    auto certificate = secure::Certificate::fromDer(chosen->serverCertificate);
    steps.good("our trust", certificate ? certificate->subject() : std::string());
  }

  settings.timeout = patience;
  settings.security = security;
  using Step = client::Session::Step;
  auto reached = Step::Nothing;
  settings.progress = [&reached](Step step) { reached = step; };
  auto session = co_await client::Session::open(place, settings);
  if (reached == Step::Nothing)
    co_return steps.bad(isSecured ? "their trust" : "channel", session.error(),
                        adviceFor(session.error(), security, key));
  steps.good(isSecured ? "their trust" : "channel", isSecured ? "the server takes this client" : "open");
  if (reached == Step::Channel)
    co_return steps.bad("session", session.error(), adviceFor(session.error(), security, key));
  steps.good("session", "created");
  if (!session) co_return steps.bad("user", session.error(), adviceFor(session.error(), security, key));
  const bool isAnonymous = options.user.empty() && options.userCertificate.empty() && options.userToken.empty();
  steps.good("user", isAnonymous ? "anonymous" : options.user.empty() ? "taken" : options.user);

  auto values = co_await (*session)->readAttributes(NodeId(id::Server_ServerStatus_State),
                                                    std::vector<AttributeId>(1, AttributeId::Value));
  co_await (*session)->close();
  if (!values) co_return steps.bad("read", values.error(), {});
  if (values->front().status.isBad())
    co_return steps.bad("read", {values->front().status, "its state can't be read", {}}, {});
  static const char* states[] = {"running",       "failed",  "not configured",          "suspended",
                                 "shutting down", "in test", "cut off from its devices"};
  const auto* state = values->front().value.get<std::int32_t>();
  steps.good("read", fmt::format("the server is {}",
                                 state && *state >= 0 && *state < 7 ? states[*state] : "in an unknown state"));
  co_return kDone;
}

}  // namespace

void addTry(Program program) {
  const auto verb = addVerb(program, "try", "Find out why a connection fails, step by step.",
                            "zunth try opc.tcp://filter-house:4840 --security encrypt");
  verb.option("PLACE", program.options.at, "The server, as --at takes it");
  verb.runs([program] {
    const Options& options = program.options;
    auto url = Places::load().resolve(options.at);
    client::Session::Options user;
    const auto known = identifyUser(options, user);
    if (!url || !known) {
      program.exitCode = fail(url ? known.error() : url.error());
      return;
    }
    asio::io_context loop(1);
    Steps steps(options);
    asio::co_spawn(loop, tryConnection(*url, options, user, steps), [&](std::exception_ptr failure, int code) {
      if (failure) std::rethrow_exception(failure);
      program.exitCode = code;
      loop.stop();
    });
    loop.run();
    steps.print();
    loop.restart();
    loop.run_for(std::chrono::milliseconds(200));
  });
}

}  // namespace zunth::cli
