#pragma once

#include "core/alarm/alarms.hpp"
#include "core/history/archive.hpp"
#include "core/monitor/event_delivery.hpp"
#include "core/monitor/sampling.hpp"
#include "core/ua/structure_schema.hpp"
#include "service/server/context.hpp"
#include "service/server/handlers.hpp"
#include "service/server/holdings.hpp"
#include "service/server/login_guard.hpp"
#include "service/server/server_directory.hpp"
#include "service/server/settings.hpp"
#include "service/server/shares.hpp"

#include <unordered_map>

namespace zunth::server {

/// What the services work on together: the address space, the sessions, what is due, and what everyone may take.
/// Each service set is a class of its own over it.
class Core {
 public:
  Core(space::Space& space, Settings settings, Clock clock);
  ~Core();

  space::Space& space;
  Settings settings;
  const Clock clock;
  const ua::DateTime startTime;
  monitor::Sampling sampling;
  monitor::EventDelivery events;
  Announcer announcer;
  alarm::Alarms alarms;
  ServerDirectory directory;
  space::Owners owners;
  std::unordered_map<space::NodeIndex, SessionMethod> sessionMethods;
  Turns turns;
  LoginGuard loginGuard;

  /// Octets that wait in queues of all sessions.
  ua::Allowance queued;
  std::unordered_map<ua::NodeId, std::unique_ptr<Session>> sessions;  // by token
  /// Subscriptions whose session has ended.
  struct Orphan {
    Orphan(std::size_t most, ua::Allowance* within) : queued(most, within) {}
    ua::String applicationUri, userName, mechanism;  // whose it was
    std::string shareOf;                             // on whose account it stands
    ua::Allowance queued;                            // its own, as it belongs to no session
    space::Rights rights;                            // as its session had them
    std::unique_ptr<monitor::Subscription> subscription;
  };
  std::map<std::uint32_t, std::unique_ptr<Orphan>> orphans;
  /// Whose a subscription is; null for an orphan.
  std::unordered_map<std::uint32_t, Session*> subscriptionOwners;
  Shares subscriptionsOfUsers, itemsOfUsers;

  // What falls due
  ua::DueHeap<Session> sessionsDue;
  ua::DueHeap<monitor::Subscription> cyclesDue;
  ua::DueHeap<Outstanding> answersDue;

  // What the Server object shows
  ua::ServerDiagnosticsSummaryDataType summary;  // its counters
  bool diagnosticsOn = true;
  ua::ServerState state = ua::ServerState::Running;
  ua::Instant shutdownAt = ua::Instant::max();
  ua::LocalizedText shutdownReason;
  std::uint32_t lastSubscriptionId = 0, lastItemId = 0;
  std::size_t itemCount = 0;   // monitored items of all subscriptions
  std::size_t addedNodes = 0;  // by clients
  Holdings holdings;           // what they wrote

  /// Where history is kept; without one, nothing has a history.
  history::Archive* archive = nullptr;
  /// Told when a client turns the recording of a variable on or off.
  std::function<void()> historizingChanged;
  /// Carries out RequestServerStateChange; without one the method is refused.
  std::function<void(ua::ServerState, std::uint32_t secondsTillShutdown)> stateHandler;

  ua::Duration sliceLength() const { return ua::milliseconds(settings.limits.slice); }
  /// A property that says what a variable's value means has another value: those who watch the variable hear of it.
  void meaningChanged(space::NodeIndex property);
  /// BadNothingToDo, BadTooManyOperations.
  ua::Result<void> checkCount(std::size_t operations) const;
  /// What a response to this request may hold.
  Room roomFor(const Context& context) const;
  /// Keeps an answer that waits, so that it ends with the client's patience, at its wish or with its session.
  void keepOutstanding(const Context& context, const std::shared_ptr<Outstanding>& answer);
  /// The structures of the standard and of the models, by their ids; a new catalog after types have changed.
  std::shared_ptr<const ua::TypeCatalog> structures();
  void typesChanged() { structures_.reset(); }
  /// Counts a request that was served, in the diagnostics.
  void count(Session* session, std::uint32_t requestType, ua::StatusCode outcome);
  /// Counts and answers.
  template <class Response>
  void answer(const Context& context, ua::Result<Response> response) {
    count(context.session, context.requestType, response.code());
    if (response)
      context.reply.send(std::move(*response), context.wallClock);
    else
      context.reply.fault(response.error(), context.wallClock);
  }

  /// Who watches a node's value, for people.
  struct Watcher {
    std::string session;  // its name; empty where the session has ended
    std::uint32_t subscription;
    double interval;     // ms, between samples
    ua::DataValue last;  // that was queued for it
  };
  std::vector<Watcher> watchersOf(space::NodeIndex variable) const;
  /// How fast somebody wants a variable's values: ms between samples, 0 for each, as history and alarms do; nothing
  /// while nobody does.
  std::optional<double> interestIn(space::NodeIndex variable) const;

 private:
  space::TapId sampled_;
  std::shared_ptr<const ua::TypeCatalog> structures_;
  void nodeRemoved(space::NodeIndex node);
};

/// What each service set starts from.
class Service {
 protected:
  explicit Service(Core& core)
      : core_(core), space_(core.space), settings_(core.settings), clock_(core.clock), announcer_(core.announcer) {}
  Core& core_;
  space::Space& space_;
  Settings& settings_;
  const Clock& clock_;
  Announcer& announcer_;
};

}  // namespace zunth::server
