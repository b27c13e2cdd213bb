#pragma once

#include "apps/zunth/output.hpp"
#include "apps/zunth/places.hpp"
#include "apps/arguments/verb.hpp"
#include "service/client/subscription.hpp"

#include <filesystem>
#include <functional>

#include <boost/asio/signal_set.hpp>

namespace zunth::cli {

namespace asio = net::asio;
template <class T>
using Awaitable = client::Awaitable<T>;
using SessionPtr = std::shared_ptr<client::Session>;

/// What every verb takes.
struct Options {
  std::string at;
  Format format = Format::Table;
  double timeout = 10;  // s
  bool quiet = false;
  client::Security::Wish security = client::Security::Wish::Auto;
  std::string policy;                      // a security policy's name
  std::string user;                        // empty for an anonymous one
  std::string userCertificate, userToken;  // files of other ways to say who the user is
  std::string trust;                       // the fingerprint, or how it begins, of a server to be trusted
};

/// Lets a verb wait until the user has had enough.
class Interrupt {
 public:
  explicit Interrupt(asio::io_context& loop) : timer_(loop, asio::steady_timer::time_point::max()) {}
  bool isWanted() const { return wanted_; }
  void raise() {
    wanted_ = true;
    timer_.cancel();
  }
  /// Ends a wait() without wanting an end: there is something to do.
  void poke() { timer_.cancel(); }
  /// Returns when raise() or poke() is called or `limit` has passed.
  Awaitable<void> wait(ua::Duration limit);

 private:
  asio::steady_timer timer_;
  bool wanted_ = false;
};

/// Tells of gaps, and ends the waiting with an exit code when a subscription fails, unless it was to end anyway. What
/// is to be done with changes and events is the caller's to add.
client::Subscription::Handlers subscriptionHandlers(Interrupt& interrupt, int& code);

using Work = std::function<Awaitable<int>(SessionPtr session, Interrupt& interrupt)>;

/// Connects, does the work in a session, closes it; the exit code. Ctrl-C raises the interrupt when `waits`, else ends
/// the work; the session is closed either way.
int withSession(const Options& options, bool waits, Work work);

/// The folder of the site that a verb is about: the one it was given, or this one. BadSyntaxError when there is none.
ua::Result<std::filesystem::path> siteFolder(const std::string& site, const std::string& next);

/// Adds one verb to the program; its callback sets the exit code.
struct Program {
  Verb top;  // the program itself
  Options& options;
  int& exitCode;
};
void addEndpoints(Program program);
void addTree(Program program);
void addShow(Program program);
void addRead(Program program);
void addWrite(Program program);
void addCall(Program program);
void addWatch(Program program);
void addEvents(Program program);
void addHistory(Program program);
void addHistoryMove(Program program);
void addAnnotate(Program program);
void addPlot(Program program);
void addAlarms(Program program);
void addAlarm(Program program);
void addAcknowledge(Program program);
void addStatus(Program program);
void addLocate(Program program);
void addQuery(Program program);
void addAdd(Program program);
void addRemove(Program program);
void addLink(Program program);
void addTrust(Program program);
void addUser(Program program);
void addCertificate(Program program);
void addAudit(Program program);
void addLog(Program program);
void addClients(Program program);
void addInterfaces(Program program);
void addTry(Program program);
void addAt(Program program);
void addCheck(Program program);
void addConvert(Program program);
void addDraw(Program program);
void addDocument(Program program);
void addOutline(Program program);
void addSnapshot(Program program);
void addRestore(Program program);
void addSchema(Program program);
void addDevice(Program program);
void addDiff(Program program);
void addExplain(Program program);
void addApply(Program program);
void addNew(Program program);
void addDemo(Program program);
void addCompletion(Program program);

/// Puts who the user is into the options of a session, asking for a password where one is needed.
ua::Result<void> identifyUser(const Options& options, client::Session::Options& session);

/// From ZUNTH_PASSWORD, or typed unseen on a terminal. An error where there is neither.
ua::Result<std::string> askPassword(const std::string& question);

/// --output and --quiet, for a verb that takes nothing else of the common options.
void addOutput(const Verb& verb, Options& options);
/// A verb that works on a site's folder, without a server: --site, --output and --quiet. Below another verb, too.
Verb addLocalVerb(Program program, const Verb& parent, const std::string& name, const std::string& about,
                  const std::string& example, std::string& site);

/// A verb that takes the common options.
Verb addVerb(Program program, const std::string& name, const std::string& about, const std::string& example);

}  // namespace zunth::cli
