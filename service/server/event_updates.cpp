#include "service/server/event_updates.hpp"

#include "core/history/kept_event.hpp"
#include "core/history/timeline.hpp"
#include "core/space/content_filter.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/structure_codec.hpp"
#include "service/server/histories.hpp"

#include <map>
#include <set>

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;
using history::KeptEvent;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr std::size_t kMostEventsChanged = 1'000;  // in one update

/// Fields that every event has, and what they hold (Part 5, 6.4.2).
constexpr std::pair<std::string_view, BuiltInType> kBaseFields[] = {
    {"EventId", BuiltInType::ByteString},    {"EventType", BuiltInType::NodeId}, {"SourceNode", BuiltInType::NodeId},
    {"SourceName", BuiltInType::String},     {"Time", BuiltInType::DateTime},    {"ReceiveTime", BuiltInType::DateTime},
    {"Message", BuiltInType::LocalizedText}, {"Severity", BuiltInType::UInt16}};

std::string keyOf(const ByteString& id) { return std::string(reinterpret_cast<const char*>(id.data()), id.size()); }

/// A base field, where it is there.
template <class T>
const T* baseField(const std::map<std::string_view, const Variant*>& fields, std::string_view name) {
  const auto found = fields.find(name);
  return found == fields.end() ? nullptr : found->second->get<T>();
}

}  // namespace

/// A change under way. Each of its events has an outcome; those without one yet are still to be carried out.
struct EventUpdates::Change {
  Asked asked;
  NodeId notifierId;
  NodeIndex notifier = kNoNode;
  PerformUpdateType how = PerformUpdateType::Insert;
  bool isDeletion = false;
  std::uint32_t permission = PermissionType::InsertHistory;  // that it takes
  space::Rights rights;                                      // of who asked, then
  DateTime now{};
  std::vector<ByteString> ids;                 // of each; null for one that gets its id now
  std::vector<std::optional<KeptEvent>> made;  // what is to be put there
  std::vector<StatusCode> outcomes;
  std::map<std::string, std::optional<KeptEvent>> known;  // by the ids that are looked for: what is there
  std::size_t unknown = 0;                                // of these
  std::optional<KeptEvent> place;                         // the last that was looked at

  bool isOpen(std::size_t i) const { return outcomes[i] == status::BadWaitingForInitialData; }
};

NodeId EventUpdates::notifierOf(const ExtensionObject& details) const {
  if (const auto removal =
          details.is<DeleteEventDetails>() ? details.as<DeleteEventDetails>() : Result<DeleteEventDetails>(status::Bad))
    return removal->nodeId;
  const auto update = details.as<UpdateEventDetails>();
  return update ? update->nodeId : NodeId();
}

bool EventUpdates::isHeardAt(const monitor::Event& event, NodeIndex notifier) const {
  const auto heardAt = core_.events.notifiersOf(event.node());
  return std::ranges::find(heardAt, notifier) != heardAt.end();
}

/// An event out of the fields that a client gives, checked.
Result<monitor::Event> EventUpdates::eventOf(const UpdateEventDetails& details, std::size_t i,
                                             const Change& change) const {
  const auto& clauses = details.filter.selectClauses;
  const auto& values = details.eventData[i].eventFields;
  if (values.size() != clauses.size()) return status::BadInvalidArgument;
  std::map<std::string_view, const Variant*> base;
  for (std::size_t k = 0; k < clauses.size(); ++k) {
    const auto& path = clauses[k].browsePath;
    if (values[k].isNull() || path.size() != 1 || path.front().namespaceIndex != 0) continue;
    const auto field =
        std::ranges::find(kBaseFields, path.front().name.view(), [](const auto& each) { return each.first; });
    if (field == std::end(kBaseFields)) continue;
    if (values[k].type() != field->second || values[k].isArray()) return status::BadTypeMismatch;
    base[field->first] = &values[k];
  }
  const auto* time = baseField<DateTime>(base, "Time");
  const auto* typeId = baseField<NodeId>(base, "EventType");
  if (!time || !typeId) return status::BadArgumentsMissing;
  constexpr std::int64_t kDay = 864'000'000'000;
  if (time->ticks <= 0 || time->ticks > change.now.ticks + kDay) return status::BadInvalidTimestamp;
  const auto type = space_.find(*typeId);
  // What is audited is nobody's to make up.
  if (type == kNoNode || !space_.isSubtype(type, id::BaseEventType) || space_.isSubtype(type, id::AuditEventType))
    return status::BadTypeDefinitionInvalid;
  const auto* sourceId = baseField<NodeId>(base, "SourceNode");
  const auto source = sourceId ? space_.find(*sourceId) : change.notifier;
  if (source == kNoNode) return status::BadNodeIdUnknown;
  // What happened at a node is as much its own as the notifier's.
  if (const auto code = space_.check(change.rights, source, change.permission); code.isBad()) return code;
  monitor::Event event(type, source);
  if (!isHeardAt(event, change.notifier)) return status::BadNodeIdInvalid;
  for (std::size_t k = 0; k < clauses.size(); ++k)
    if (!values[k].isNull())
      event.set(std::vector(clauses[k].browsePath.begin(), clauses[k].browsePath.end()), values[k]);
  if (!sourceId) event.set("SourceNode", space_.nodeId(source));
  if (!base.contains("SourceName")) event.set("SourceName", space_.browseName(source).name);
  if (!base.contains("ReceiveTime")) event.set("ReceiveTime", change.now);
  if (!base.contains("Severity")) event.set("Severity", std::uint16_t{1});
  if (change.ids[i].empty()) event.set("EventId", announcer_.newEventId());
  return event;
}

Result<void> EventUpdates::read(const UpdateEventDetails& details, Change& change) const {
  const auto& clauses = details.filter.selectClauses;
  if (details.eventData.size() > kMostEventsChanged)
    return Error{status::BadTooManyOperations, fmt::format("{} events at once are allowed", kMostEventsChanged), {}};
  if (clauses.empty() || clauses.size() > settings_.limits.maxSelectClauses)
    return Error{status::BadEventFilterInvalid, "the fields of events are named by select clauses, not too many", {}};
  std::size_t idAt = clauses.size();
  for (std::size_t k = 0; k < clauses.size(); ++k) {
    const auto& path = clauses[k].browsePath;
    const bool isField = clauses[k].attributeId == static_cast<std::uint32_t>(AttributeId::Value) && !path.empty() &&
                         path.size() <= 10 && clauses[k].indexRange.empty();
    if (!isField) return Error{status::BadEventFilterInvalid, "a select clause names no whole field", {}};
    if (path.size() == 1 && path.front() == QualifiedName{0, String("EventId")}) idAt = k;
  }
  for (std::size_t i = 0; i < details.eventData.size(); ++i) {
    const auto& fields = details.eventData[i].eventFields;
    const auto* id = idAt < fields.size() ? fields[idAt].get<ByteString>() : nullptr;
    change.ids.push_back(id ? *id : ByteString());
    auto event = eventOf(details, i, change);
    const bool lacksId = change.how == PerformUpdateType::Replace && change.ids[i].empty();
    change.outcomes.push_back(!event    ? event.code()
                              : lacksId ? StatusCode(status::BadArgumentsMissing)
                                        : StatusCode(status::BadWaitingForInitialData));
    change.made.emplace_back();
    if (!change.isOpen(i)) continue;
    const Variant time = event->field({{0, String("Time")}});
    change.made.back() = KeptEvent{*time.get<DateTime>(), history::encodeEvent(space_, *event)};
  }
  return {};
}

void EventUpdates::change(const ExtensionObject& details, const Context& context, Asked asked) {
  auto change = std::make_shared<Change>();
  change->asked = std::move(asked);
  change->notifierId = notifierOf(details);
  change->notifier = space_.find(change->notifierId);
  change->now = context.wallClock;
  change->rights = context.rights();
  const auto outcome = [&]() -> Result<void> {
    if (details.is<DeleteEventDetails>()) {
      const auto removal = details.as<DeleteEventDetails>();
      if (!removal) return removal.error();
      change->permission = PermissionType::DeleteHistory;
      if (auto fine = checkEventHistory(core_, change->notifier, removal->nodeId, change->permission, context); !fine)
        return fine;
      if (removal->eventIds.size() > kMostEventsChanged)
        return Error{
            status::BadTooManyOperations, fmt::format("{} events at once are allowed", kMostEventsChanged), {}};
      change->isDeletion = true;
      change->ids.assign(removal->eventIds.begin(), removal->eventIds.end());
      change->made.resize(change->ids.size());
      change->outcomes.assign(change->ids.size(), status::BadWaitingForInitialData);
      return {};
    }
    const auto update = details.as<UpdateEventDetails>();
    if (!update) return update.error();
    change->how = update->performInsertReplace;
    switch (change->how) {
      case PerformUpdateType::Insert: break;
      case PerformUpdateType::Replace: change->permission = PermissionType::ModifyHistory; break;
      case PerformUpdateType::Update: change->permission |= PermissionType::ModifyHistory; break;
      default: return Error{status::BadHistoryOperationInvalid, "events are inserted, replaced or updated", {}};
    }
    if (auto fine = checkEventHistory(core_, change->notifier, update->nodeId, change->permission, context); !fine)
      return fine;
    return read(*update, *change);
  }();
  if (!outcome) return change->asked.done(outcome.error());
  for (std::size_t i = 0; i < change->ids.size(); ++i)
    if (change->isOpen(i) && !change->ids[i].empty()) change->known.emplace(keyOf(change->ids[i]), std::nullopt);
  change->unknown = change->known.size();
  if (change->unknown > 0)
    search(change);
  else
    carryOut(change);
}

/// Looks through what is kept, some events at a time, so that others have their turns.
void EventUpdates::search(const std::shared_ptr<Change>& change) {
  constexpr std::size_t kAtOnce = 1'000;
  core_.archive->perform([this, alive = alive_, change](history::Store& store) -> std::function<void()> {
    auto some = store.events(history::kBeginning, history::kEnd, kAtOnce, change->place ? &*change->place : nullptr);
    const bool isEnd = !some || some->size() < kAtOnce;
    if (some)
      for (auto& kept : *some) {
        const auto wanted = change->known.find(keyOf(history::eventIdOf(kept.octets)));
        if (wanted == change->known.end() || wanted->second) continue;
        wanted->second = kept;
        --change->unknown;
      }
    if (some && !some->empty()) change->place = std::move(some->back());
    return [this, alive, change, isEnd, error = some ? Error{status::Good, {}, {}} : some.error()] {
      if (!*alive || !change->asked.isWanted()) return;
      if (error.code.isBad()) return change->asked.done(error);
      if (!core_.archive) return change->asked.done(Error{status::BadHistoryOperationUnsupported, {}, {}});
      if (isEnd || change->unknown == 0) return carryOut(change);
      search(change);
    };
  });
}

void EventUpdates::carryOut(const std::shared_ptr<Change>& change) {
  std::vector<KeptEvent> added, removed;
  std::set<std::string> seen;
  const auto session = core_.sessions.find(change->asked.token);
  const bool mayGoOn = session != core_.sessions.end() && space_.exists(change->notifier);
  const auto may = [&](NodeIndex source) {
    const auto& rights = session->second->rights;
    return source == kNoNode || (space_.check(rights, source, PermissionType::ReceiveEvents).isGood() &&
                                 space_.check(rights, source, change->permission).isGood());
  };
  for (std::size_t i = 0; i < change->ids.size(); ++i) {
    if (!change->isOpen(i)) continue;
    const auto known = change->known.find(keyOf(change->ids[i]));
    auto* there = known == change->known.end() || !known->second ? nullptr : &*known->second;
    // What isn't heard here is another notifier's, and what they may not hear is nothing to them.
    const auto old = there && mayGoOn ? history::decodeEvent(space_, there->octets) : std::nullopt;
    const bool isOurs = old && isHeardAt(*old, change->notifier) && may(old->node()) &&
                        !space_.isSubtype(old->type(), id::AuditEventType);
    StatusCode& outcome = change->outcomes[i];
    const bool isTwice = known != change->known.end() && !seen.insert(known->first).second;
    if (!mayGoOn)
      outcome = status::BadSessionClosed;
    else if (isTwice)
      outcome = change->isDeletion ? status::BadNoData : status::BadEntryExists;
    else if (change->isDeletion)
      outcome = isOurs ? status::Good : status::BadNoData;
    else if (change->how == PerformUpdateType::Insert || (there && !isOurs))
      outcome = there ? status::BadEntryExists : status::GoodEntryInserted;
    else if (change->how == PerformUpdateType::Replace && !there)
      outcome = status::BadNoEntryExists;
    else
      outcome = there ? status::GoodEntryReplaced : status::GoodEntryInserted;
    if (outcome.isBad()) continue;
    const auto& made = change->made[i];
    if (there && !(made && made->octets == there->octets)) removed.push_back(*there);
    if (made && !(there && made->octets == there->octets)) added.push_back(*made);
  }
  core_.archive->perform([this, alive = alive_, change, added = std::move(added),
                          removed = std::move(removed)](history::Store& store) mutable -> std::function<void()> {
    Error error{status::Good, {}, {}};
    // What takes another's place is safe before the other goes.
    if (!added.empty()) {
      store.append(std::move(added));
      if (auto saved = store.flush(change->now); !saved) error = saved.error();
    }
    for (const auto& event : removed)
      if (auto gone = error.code.isBad() ? Result<bool>(error) : store.removeEvent(event); !gone) error = gone.error();
    return [alive, change, error] {
      if (!*alive) return;
      if (error.code.isBad()) return change->asked.done(error);
      HistoryUpdateResult result;
      result.operationResults = List<StatusCode>(std::move(change->outcomes));
      change->asked.done(std::move(result));
    };
  });
}

}  // namespace zunth::server
