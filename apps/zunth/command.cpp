#include "apps/zunth/command.hpp"

#include "apps/zunth/own_trust.hpp"

#include <csignal>
#include <fstream>
#include <iostream>

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <termios.h>
#include <unistd.h>

namespace zunth::cli {

Awaitable<void> Interrupt::wait(ua::Duration limit) {
  if (wanted_) co_return;
  timer_.expires_after(limit);
  co_await timer_.async_wait(asio::as_tuple(asio::use_awaitable));
}

client::Subscription::Handlers subscriptionHandlers(Interrupt& interrupt, int& code) {
  client::Subscription::Handlers handlers;
  handlers.gap = [](const std::string& why) { std::fprintf(stderr, "zunth: gap: %s\n", why.c_str()); };
  handlers.failed = [&](const ua::Error& error) {
    if (interrupt.isWanted()) return;
    code = fail(error);
    interrupt.raise();
  };
  return handlers;
}

namespace {

/// What became of the connection, for whoever watches for long.
void tellConnection(const Options& options, const ua::Error& what) {
  if (options.quiet) return;
  const std::string text = what.code.isBad() ? "connection lost: " + what.cause + "; trying again" : what.cause;
  std::fprintf(stderr, "zunth: %s\n", text.c_str());
}

/// What is typed is not shown, until this ends or Ctrl-C does.
class Unseen {
 public:
  explicit Unseen(const termios& before) {
    before_ = before;
    termios unseen = before;
    unseen.c_lflag &= ~static_cast<tcflag_t>(ECHO);
    ::tcsetattr(STDIN_FILENO, TCSANOW, &unseen);
    std::signal(SIGINT, [](int) {
      ::tcsetattr(STDIN_FILENO, TCSANOW, &before_);
      ::_exit(kInterrupted);
    });
  }
  ~Unseen() {
    ::tcsetattr(STDIN_FILENO, TCSANOW, &before_);
    std::signal(SIGINT, SIG_DFL);
  }

 private:
  static inline termios before_{};
};

}  // namespace

ua::Result<std::string> askPassword(const std::string& question) {
  if (const char* given = std::getenv("ZUNTH_PASSWORD"); given && *given) return std::string(given);
  termios before{};
  if (!::isatty(STDIN_FILENO) || ::tcgetattr(STDIN_FILENO, &before) != 0)
    return ua::Error{ua::status::BadSyntaxError, "a password is needed, and nobody can be asked for it",
                     "put it into ZUNTH_PASSWORD"};
  std::fputs(question.c_str(), stderr);
  std::string password;
  {
    const Unseen unseen(before);
    std::getline(std::cin, password);
  }
  std::fputs("\n", stderr);
  return password;
}

ua::Result<void> identifyUser(const Options& options, client::Session::Options& session) {
  auto contentOf = [](const std::string& name) -> ua::Result<std::string> {
    std::ifstream file(name, std::ios::binary);
    std::string text{std::istreambuf_iterator<char>(file), {}};
    if (!file) return ua::Error{ua::status::BadSyntaxError, name + " can't be read", {}};
    return text;
  };
  if (!options.userCertificate.empty()) {
    auto pem = contentOf(options.userCertificate);
    if (!pem) return pem.error();
    auto certificate = secure::Certificate::fromFile(*pem);
    auto key = secure::PrivateKey::fromPem(*pem);
    if (!certificate || !key || !certificate->fits(*key))
      return ua::Error{ua::status::BadSyntaxError,
                       options.userCertificate + " does not hold a certificate and the key to it",
                       "one PEM file with both"};
    session.userIdentity = std::make_shared<const secure::Identity>(secure::Identity{*certificate, *key});
  }
  if (!options.userToken.empty()) {
    auto token = contentOf(options.userToken);
    if (!token) return token.error();
    while (!token->empty() && std::isspace(static_cast<unsigned char>(token->back()))) token->pop_back();
    session.token = *token;
  }
  session.user = options.user;
  if (options.user.empty()) return {};
  auto password = askPassword("Password of " + options.user + ": ");
  if (!password) return password.error();
  session.password = *password;
  return {};
}

int withSession(const Options& options, bool waits, Work work) {
  auto url = Places::load().resolve(options.at);
  if (!url) return fail(url.error());
  client::Session::Options settings;
  if (auto known = identifyUser(options, settings); !known) return fail(known.error());
  asio::io_context loop(1);
  Interrupt interrupt(loop);
  asio::signal_set signals(loop, SIGINT, SIGTERM);
  int code = kServerError;
  SessionPtr session;

  auto run = [&]() -> Awaitable<void> {
    settings.timeout = ua::milliseconds(options.timeout * 1000);
    settings.security = securityFrom(options);
    settings.reconnects = waits;  // what is over in a moment says at once that it failed
    auto opened = co_await client::Session::open(*url, settings);
    if (!opened) {
      code = fail(opened.error());
    } else {
      session = *opened;
      if (waits) session->onConnection([&options](const ua::Error& what) { tellConnection(options, what); });
      code = co_await work(session, interrupt);
      co_await session->close();
    }
    signals.cancel();
  };
  auto leave = [&]() -> Awaitable<void> {
    if (session) co_await session->close();
    loop.stop();
  };
  signals.async_wait([&](const boost::system::error_code& error, int) {
    if (error) return;
    signals.clear();  // whoever asks again wants it at once
    if (waits && session) return interrupt.raise();
    code = kInterrupted;
    asio::co_spawn(loop, leave(), asio::detached);
  });
  asio::co_spawn(loop, run(), [](std::exception_ptr failure) {
    if (failure) std::rethrow_exception(failure);
  });
  loop.run();
  return code;
}

void addOutput(const Verb& verb, Options& options) {
  verb.oneOf<Format>("--output", options.format,
                     {{"table", Format::Table}, {"json", Format::Json}, {"yaml", Format::Yaml}, {"csv", Format::Csv}},
                     "table, json, yaml or csv")
      .called("FORMAT");
  verb.flag("--quiet", options.quiet, "Print results and errors only");
}

ua::Result<std::filesystem::path> siteFolder(const std::string& site, const std::string& next) {
  const std::filesystem::path folder = site.empty() ? "." : site;
  if (!std::filesystem::exists(folder / "site.yaml"))
    return ua::Error{ua::status::BadSyntaxError, folder.string() + " is no site: it has no site.yaml", next};
  return folder;
}

Verb addLocalVerb(Program program, const Verb& parent, const std::string& name, const std::string& about,
                  const std::string& example, std::string& site) {
  const auto verb = parent.verb(name, about);
  if (!example.empty()) verb.example(example);
  verb.option("--site", site, "A site's folder; without one, the site in this folder").called("FOLDER");
  verb.option("--timeout", program.options.timeout, "Seconds to wait for the service")
      .range(0.01, 86400.0)
      .showsDefault();
  addOutput(verb, program.options);
  return verb;
}

Verb addVerb(Program program, const std::string& name, const std::string& about, const std::string& example) {
  const auto verb = program.top.verb(name, about);
  verb.example(example);
  Options& options = program.options;
  verb.option("--at,--server", options.at, "Server: a URL, or a name saved with 'zunth at add'").called("PLACE");
  addOutput(verb, options);
  verb.option("--timeout", options.timeout, "Seconds to wait for the server").range(0.01, 86400.0).showsDefault();
  using Wish = client::Security::Wish;
  verb.oneOf<Wish>("--security", options.security,
                   {{"auto", Wish::Auto}, {"none", Wish::None}, {"sign", Wish::Sign}, {"encrypt", Wish::Encrypt}},
                   "auto, none, sign or encrypt")
      .called("HOW");
  verb.option("--policy", options.policy, "Security policy; without one the strongest that is offered");
  verb.option("--user", options.user, "Log in by name; the password is asked for, or in ZUNTH_PASSWORD").called("NAME");
  verb.option("--user-certificate", options.userCertificate,
              "Log in with a certificate: a PEM file with it and its key")
      .called("FILE");
  verb.option("--user-token", options.userToken, "Log in with an issued token: a file with a JSON Web Token")
      .called("FILE");
  verb.option("--trust", options.trust, "Trust a server whose certificate has this SHA-256 fingerprint")
      .called("FINGERPRINT");
  return verb;
}

}  // namespace zunth::cli
