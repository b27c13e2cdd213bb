#pragma once

#include "service/server/attributes.hpp"
#include "service/server/histories.hpp"
#include "service/server/history_updates.hpp"
#include "service/server/methods.hpp"
#include "service/server/monitored_items.hpp"
#include "service/server/node_management.hpp"
#include "service/server/queries.hpp"
#include "service/server/services.hpp"
#include "service/server/sessions.hpp"
#include "service/server/views.hpp"

namespace zunth::server {

/// The services of the standard (Part 4) over one address space, without sockets or threads: requests come in decoded
/// from a channel, answers go out through Peer. All calls on one thread. What each service does is in its own class;
/// this brings requests to them, and does what is due.
class Server final : public Services {
 public:
  Server(space::Space& space, Settings settings, Clock clock = Clock::real());

  /// Serves one request, or begins to. `body` starts with its encoding id.
  void handle(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, ua::BytesView body) override;
  /// Does what is due: samples, publishing, time-outs, a slice of work that goes on. Call at nextDue() and after any
  /// handle().
  void tick() override;
  ua::Instant nextDue() const override;
  /// Ends all sessions.
  void shutdown();

  /// Who stands behind which nodes.
  space::Owners& owners() { return core_.owners; }
  void setSessionMethod(space::NodeIndex method, SessionMethod carryOut) {
    core_.sessionMethods[method] = std::move(carryOut);
  }
  /// Carries out RequestServerStateChange; without one the method is refused.
  void setStateHandler(std::function<void(ua::ServerState, std::uint32_t secondsTillShutdown)> handler) {
    core_.stateHandler = std::move(handler);
  }

  /// Where the history of variables is kept, which outlives the server; without one, nothing has a history.
  void serveHistory(history::Archive& archive);
  void dropHistory() {
    core_.events.setKeeper({});
    core_.archive = nullptr;
  }
  /// Called when a client turns the recording of a variable on or off.
  void setHistorizingHandler(std::function<void()> changed) { core_.historizingChanged = std::move(changed); }

  /// Where it is to be found, once the ports are known.
  void setEndpointUrls(std::vector<std::string> urls) { core_.settings.endpointUrls = std::move(urls); }
  /// Shows another certificate from the next channel on.
  void setIdentities(secure::Identities identities) { core_.settings.identities = std::move(identities); }
  /// The accounts or the rules have changed: sessions of users whom `accountOf` doesn't know any more end, the others
  /// get what they now may.
  void accountsChanged(const std::function<ua::Result<Account>(const User& user)>& accountOf) {
    sessions_.accountsChanged(accountOf);
  }
  /// Which roles the site's users have by their names, for administrators to see.
  void showUsers(std::vector<secure::RoleRule> rules) { object_.showUsers(std::move(rules)); }
  /// Other rules count from now on, for the sessions that are open, too.
  void setRoles(std::vector<secure::RoleRule> rules);
  /// Takes over what may change while it runs: who is let in and how, roles, limits, what clients may do to nodes.
  /// Call accountsChanged() afterwards.
  void adopt(const Settings& wanted);
  /// Ends a session and what it watches. Its client may come again.
  void endSession(const ua::NodeId& sessionId, const ua::Error& why);
  /// Ends the sessions of users whose proof has run out, as tokens do.
  void endRunOut() { sessions_.endRunOut(); }
  void channelOpened(const Peer& peer, const ua::OpenSecureChannelRequest& request) override;
  void channelClosed(const Peer& peer, const ua::Error& why) override { core_.announcer.channelClosed(peer, why); }
  bool hasSession(std::uint32_t channelId) const override;

  /// Whether a session of this id goes on.
  bool isSession(const ua::NodeId& sessionId) const { return sessionOf(sessionId) != nullptr; }
  /// nullptr when there is none, or no longer.
  const Session* sessionOf(const ua::NodeId& sessionId) const;
  /// All that there are, in no order.
  std::vector<const Session*> sessionList() const;

  space::Space& space() { return core_.space; }
  const Settings& settings() const override { return core_.settings; }
  Announcer& announcer() { return core_.announcer; }
  /// Properties have other values than before: who watches what they are about hears of it.
  void meaningChanged(std::span<const space::NodeIndex> properties) {
    for (const auto property : properties) core_.meaningChanged(property);
  }
  /// Who watches a variable's value, and what they got last.
  std::vector<Core::Watcher> watchersOf(space::NodeIndex variable) const { return core_.watchersOf(variable); }
  std::optional<double> interestIn(space::NodeIndex variable) const { return core_.interestIn(variable); }
  /// Finds the alarms of the space; again when models changed.
  void bindAlarms() { core_.alarms.bind(); }
  alarm::Alarms& alarms() { return core_.alarms; }
  /// Shows clients what the space's models say of their namespaces and languages; again when models changed.
  void showModels() { object_.showModels(); }
  /// Shows how the variables that have a history are kept, and how aggregates take their values; again when models
  /// changed.
  void showHistories(std::function<aggregate::Configuration(space::NodeIndex)> usual = {}) {
    object_.showHistories(std::move(usual));
  }
  ua::DateTime startedAt() const { return core_.startTime; }
  std::size_t sessionCount() const { return core_.sessions.size(); }
  std::size_t monitoredItemCount() const { return core_.itemCount; }
  std::size_t subscriptionCount() const { return core_.subscriptionOwners.size(); }
  /// Octets that wait to be published or acknowledged, about.
  std::size_t queuedOctets() const { return core_.queued.held(); }

 private:
  using Needs = Sessions::Needs;
  template <class Request, class Of, class Handler>
  void serve(Needs needs, Of& service, Handler handler, const std::shared_ptr<Peer>& peer, std::uint32_t requestId,
             ua::BinaryReader& reader);
  void refuse(const std::shared_ptr<Peer>& peer, std::uint32_t requestId, const ua::NodeId& type,
              ua::BinaryReader& reader);

  Core core_;
  std::uint64_t unkeptEvents_ = 0;  // that found no room in the history, since the last that did
  ServerObject object_;
  Discovery discovery_;
  Subscriptions subscriptions_;
  Sessions sessions_;
  Views views_;
  Queries queries_;
  Attributes attributes_;
  Histories histories_;
  HistoryUpdates historyUpdates_;
  Refreshes refreshes_;
  ObjectMethods objectMethods_;
  Methods methods_;
  MonitoredItems items_;
  NodeManagement nodes_;
};

}  // namespace zunth::server
