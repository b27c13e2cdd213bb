#include "service/server/history_updates.hpp"

#include "core/history/variables.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/structure_codec.hpp"
#include "service/server/histories.hpp"

#include <set>

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;
using history::Edit;

namespace {

constexpr std::size_t kMostChanges = 10'000;   // values or moments in one update
constexpr std::size_t kLongestRemark = 4'096;  // octets
constexpr std::size_t kMostMonths = 120;       // in which they are: each has a file

}  // namespace

/// A HistoryUpdate under way.
struct HistoryUpdates::Updating {
  using Results = Gathering<HistoryUpdateResponse, HistoryUpdateResult>;
  HistoryUpdateRequest request;
  Context context;  // its session may have ended meanwhile
  NodeId token;
  std::shared_ptr<Results> results;
  std::shared_ptr<const Announcer::Actor> actor;
  std::size_t next = 0;
};

/// Remarks about moments of a variable (Part 11, 5.4.2 and 6.8.4), in the words of who makes them: one a moment.
Result<Edit> HistoryUpdates::remarksOf(const UpdateStructureDataDetails& update, Edit edit) const {
  const auto node = space_.find(update.nodeId);
  if (node == space::kNoNode || !space_.nodeId(space_.traits(node).dataType).is(id::Annotation))
    return Error{status::BadHistoryOperationUnsupported, "of structures, annotations are kept",
                 "name the property Annotations of a variable"};
  for (const auto& given : update.updateValues) {
    DataValue sample = given;
    if (update.performInsertReplace == PerformUpdateType::Remove) {
      edit.times.push_back(sample.sourceTimestamp);
      continue;
    }
    if (const auto* object = given.value.get<ExtensionObject>()) {
      if (auto remark = object->as<Annotation>()) {
        // Who says it is who is logged in.
        remark->userName = edit.user;
        if (remark->annotationTime.isNull()) remark->annotationTime = edit.now;
        remark->message = String(cut(remark->message.view(), kLongestRemark));
        sample.value = Variant(ExtensionObject::of(*remark));
      }
    }
    edit.samples.push_back(std::move(sample));
  }
  return edit;
}

/// What a client wants to have changed, after all that can be checked here.
Result<Edit> HistoryUpdates::editOf(const ExtensionObject& details, NodeId& nodeId, const Context& context) const {
  Edit edit{};
  edit.user = String(context.session->userName());
  edit.now = context.wallClock;
  std::uint32_t permission = PermissionType::DeleteHistory;
  const auto take = [&](PerformUpdateType how) {
    switch (how) {
      case PerformUpdateType::Insert:
        edit.kind = Edit::Kind::Insert;
        permission = PermissionType::InsertHistory;
        return true;
      case PerformUpdateType::Replace:
        edit.kind = Edit::Kind::Replace;
        permission = PermissionType::ModifyHistory;
        return true;
      case PerformUpdateType::Update:
        edit.kind = Edit::Kind::Update;
        permission = PermissionType::InsertHistory | PermissionType::ModifyHistory;
        return true;
      default: return false;
    }
  };
  if (details.is<UpdateDataDetails>()) {
    auto update = details.as<UpdateDataDetails>();
    if (!update) return update.error();
    nodeId = update->nodeId;
    if (!take(update->performInsertReplace))
      return Error{status::BadHistoryOperationInvalid, "values are inserted, replaced or updated", {}};
    edit.samples = std::move(update->updateValues);
  } else if (details.is<UpdateStructureDataDetails>()) {
    const auto update = details.as<UpdateStructureDataDetails>();
    if (!update) return update.error();
    nodeId = update->nodeId;
    const bool isRemoval = update->performInsertReplace == PerformUpdateType::Remove;
    if (!isRemoval && !take(update->performInsertReplace))
      return Error{status::BadHistoryOperationInvalid, "annotations are inserted, replaced, updated or removed", {}};
    if (isRemoval) edit.kind = Edit::Kind::DeleteTimes;
    if (update->updateValues.size() > kMostChanges)
      return Error{status::BadTooManyOperations, fmt::format("{} values at once are allowed", kMostChanges), {}};
    auto remarks = remarksOf(*update, std::move(edit));
    if (!remarks) return remarks.error();
    edit = std::move(*remarks);
  } else if (details.is<DeleteRawModifiedDetails>()) {
    const auto removal = details.as<DeleteRawModifiedDetails>();
    if (!removal) return removal.error();
    nodeId = removal->nodeId;
    edit.kind = removal->isDeleteModified ? Edit::Kind::DeleteModified : Edit::Kind::DeleteRange;
    edit.from = removal->startTime;
    edit.to = removal->endTime;
    if (edit.from.isNull() || edit.to.isNull() || edit.to <= edit.from)
      return Error{status::BadInvalidTimestampArgument, "what is deleted has a start, and an end after it", {}};
  } else if (details.is<DeleteAtTimeDetails>()) {
    auto removal = details.as<DeleteAtTimeDetails>();
    if (!removal) return removal.error();
    nodeId = removal->nodeId;
    edit.kind = Edit::Kind::DeleteTimes;
    edit.times = std::move(removal->reqTimes);
  } else {
    return Error{status::BadHistoryOperationUnsupported, "this way of changing history is not served", {}};
  }
  const auto node = space_.find(nodeId);
  if (auto fine = checkHistory(core_, node, nodeId, permission, AccessLevelType::HistoryWrite, context); !fine)
    return fine.error();
  if (edit.samples.size() > kMostChanges || edit.times.size() > kMostChanges)
    return Error{status::BadTooManyOperations, fmt::format("{} values at once are allowed", kMostChanges), {}};
  std::set<std::int64_t> months;
  constexpr std::int64_t kMonth = 30 * 864'000'000'000;
  for (const auto& sample : edit.samples) months.insert(sample.sourceTimestamp.ticks / kMonth);
  for (const auto time : edit.times) months.insert(time.ticks / kMonth);
  if (months.size() > kMostMonths)
    return Error{status::BadTooManyOperations, fmt::format("values of {} months at once are allowed", kMostMonths), {}};
  return edit;
}

Job HistoryUpdates::historyUpdate(HistoryUpdateRequest request, Context context) {
  const std::size_t count = request.historyUpdateDetails.size();
  if (auto fine = core_.checkCount(count); !fine) co_return core_.answer<HistoryUpdateResponse>(context, fine.error());
  auto updating = std::make_shared<Updating>(Updating{std::move(request), context, context.session->token, {}, {}});
  const auto failed = [](StatusCode code) { return HistoryUpdateResult{code, {}, {}}; };
  updating->results = std::make_shared<Updating::Results>(context.reply, count, clock_.wallClock, failed);
  updating->actor = std::make_shared<const Announcer::Actor>(context.actor());
  core_.count(context.session, context.requestType, status::Good);
  core_.keepOutstanding(context, updating->results);
  updateNext(updating);
}

void HistoryUpdates::updateNext(const std::shared_ptr<Updating>& updating) {
  const auto& all = updating->request.historyUpdateDetails;
  while (updating->next < all.size() && !updating->results->isAnswered()) {
    const std::size_t i = updating->next++;
    if (EventUpdates::takes(all[i])) return updateEvents(updating, i);
    NodeId nodeId;
    auto edit = core_.sessions.contains(updating->token) ? editOf(all[i], nodeId, updating->context)
                                                         : Result<Edit>(status::BadSessionClosed);
    if (!edit) {
      announcer_.historyUpdated(*updating->actor, all[i], nodeId, edit.code());
      updating->results->fail(i, edit.error());
      continue;
    }
    // What doesn't fit the variable is refused by itself, the rest goes on.
    const auto node = space_.find(nodeId);
    std::vector<StatusCode> outcomes(edit->samples.size(), status::Good);
    std::vector<std::size_t> places;
    std::vector<DataValue> fitting;
    for (std::size_t at = 0; at < edit->samples.size(); ++at) {
      auto& sample = edit->samples[at];
      // What is yet to come has no history.
      constexpr std::int64_t kDay = 864'000'000'000;
      if (sample.sourceTimestamp.ticks <= 0 || sample.sourceTimestamp.ticks > edit->now.ticks + kDay)
        outcomes[at] = status::BadInvalidTimestamp;
      else if (!sample.value.isNull() && !space_.accepts(space_.traits(node), sample.value))
        outcomes[at] = status::BadTypeMismatch;
      else {
        places.push_back(at);
        fitting.push_back(std::move(sample));
      }
    }
    edit->samples = std::move(fitting);
    const auto variable = core_.archive->variable(history::storedName(space_, nodeId));
    core_.archive->perform([this, alive = alive_, updating, i, nodeId, variable, outcomes = std::move(outcomes),
                            places = std::move(places),
                            edit = std::move(*edit)](history::Store& store) mutable -> std::function<void()> {
      const bool isInOne = edit.kind == Edit::Kind::DeleteRange || edit.kind == Edit::Kind::DeleteModified;
      const bool isNothing = !isInOne && edit.samples.empty() && edit.times.empty();
      auto done = isNothing ? Result<std::vector<StatusCode>>(std::vector<StatusCode>()) : store.edit(variable, edit);
      HistoryUpdateResult result;
      result.statusCode = done.code();
      if (done && isInOne) result.statusCode = done->front();
      if (done && !isInOne) {
        if (edit.kind == Edit::Kind::DeleteTimes)
          outcomes = std::move(*done);
        else
          for (std::size_t at = 0; at < places.size(); ++at) outcomes[places[at]] = (*done)[at];
        result.operationResults = List<StatusCode>(std::move(outcomes));
      }
      const Error error = done ? Error{status::Good, {}, {}} : done.error();
      return [this, alive, updating, i, nodeId, result = std::move(result), error]() mutable {
        if (!*alive) return;
        announcer_.historyUpdated(*updating->actor, updating->request.historyUpdateDetails[i], nodeId,
                                  result.statusCode);
        updating->results->set(i, std::move(result), error);
        updateNext(updating);
      };
    });
    return;
  }
}

void HistoryUpdates::updateEvents(const std::shared_ptr<Updating>& updating, std::size_t i) {
  const auto& details = updating->request.historyUpdateDetails[i];
  const auto done = [this, updating, i](Result<HistoryUpdateResult> result) {
    const auto& asked = updating->request.historyUpdateDetails[i];
    announcer_.historyUpdated(*updating->actor, asked, events_.notifierOf(asked), result.code());
    if (result)
      updating->results->set(i, std::move(*result), {status::Good, {}, {}});
    else
      updating->results->fail(i, result.error());
    updateNext(updating);
  };
  if (!core_.sessions.contains(updating->token)) return done(Error{status::BadSessionClosed, {}, {}});
  events_.change(details, updating->context,
                 {updating->token, [updating] { return !updating->results->isAnswered(); }, done});
}

}  // namespace zunth::server
