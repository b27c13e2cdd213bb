#include "service/server/attributes.hpp"

#include "core/space/attribute_writing.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/footprint.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/index_range.hpp"
#include "service/server/request_checks.hpp"

#include <map>

namespace zunth::server {

using namespace ua;

namespace {

/// BadUserAccessDenied, BadSecurityModeInsufficient.
Result<void> mayWrite(const space::Space& space, space::NodeIndex node, AttributeId attribute,
                      const space::Rights& rights) {
  const auto code = space.check(rights, node, space::permissionToWrite(attribute));
  if (code == status::BadSecurityModeInsufficient)
    return Error{code, space.path(node) + " is written over encrypted connections only", {}};
  if (code.isBad()) return Error{code, "this user may not write " + space.path(node), {}};
  return {};
}

}  // namespace

DataValue Attributes::readOne(const ReadValueId& what, TimestampsToReturn timestamps, const space::Rights& rights,
                              DateTime wallClock) const {
  const auto node = space_.find(what.nodeId);
  if (node == space::kNoNode || !space_.sees(rights, node)) return DataValue(status::BadNodeIdUnknown);
  const auto encoding = checkEncoding(space_, node, what);
  if (!encoding) return DataValue(encoding.code());
  DataValue out = space::readAttribute(space_, node, static_cast<AttributeId>(what.attributeId), rights);
  if (!what.indexRange.empty()) {
    auto range = IndexRange::parse(what.indexRange.view());
    if (!range) return DataValue(range.code());
    if (!out.status.isBad()) {
      auto part = range->of(out.value);
      if (!part) return DataValue(part.code());
      out.value = std::move(*part);
    }
  }
  if (*encoding != DataEncoding::Binary && !out.status.isBad()) {
    auto encoded = encodedAs(out.value, *encoding, *core_.structures());
    if (!encoded) return DataValue(encoded.code());
    out.value = std::move(*encoded);
  }
  const bool isValue = what.attributeId == static_cast<std::uint32_t>(AttributeId::Value);
  const bool source = timestamps == TimestampsToReturn::Source || timestamps == TimestampsToReturn::Both;
  const bool server = timestamps == TimestampsToReturn::Server || timestamps == TimestampsToReturn::Both;
  if (!source || !isValue) out.sourceTimestamp = {};
  out.serverTimestamp = server ? wallClock : DateTime{};
  return out;
}

Job Attributes::readNow(ReadRequest request, Context context) {
  constexpr std::size_t kResultSize = 24;
  ReadResponse response;
  response.results.reserve(request.nodesToRead.size());
  OperationDiagnostics diagnostics(context.reply.wanted());
  Room room = core_.roomFor(context);
  const DateTime wallClock = clock_.wallClock();
  for (const auto& what : request.nodesToRead) {
    response.results.push_back(readOne(what, request.timestampsToReturn, context.rights(), wallClock));
    const auto& result = response.results.back();
    if (result.status == status::BadNodeIdUnknown)
      diagnostics.note(response.results.size() - 1,
                       {result.status, "there is no node " + shown(what.nodeId.text()), {}});
    else if (result.status.isBad())
      diagnostics.note(response.results.size() - 1, {result.status, {}, {}});
    const std::size_t octets = footprint(result.value);
    room.take(kResultSize + octets);
    if (room.isOver())
      co_return core_.answer<ReadResponse>(
          context, Error{status::BadResponseTooLarge, "the values are larger than one response may be",
                         "read fewer nodes at once"});
    co_await context.turn(core_.turns, octets > 1'000 || !what.indexRange.empty());
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<ReadResponse>(context, std::move(response));
}

/// A read that waits for values newer than it was told to take. When they don't come in time it takes what is there.
class Attributes::WaitingRead final : public Outstanding {
 public:
  WaitingRead(Attributes& attributes, ReadRequest request, Context context, std::size_t sources)
      : attributes_(attributes), request_(std::move(request)), context_(std::move(context)), left_(sources) {}
  void arrived() {
    if (left_ > 0 && --left_ == 0) answer();
  }
  void giveUp(const Error& why) override {
    if (left_ == 0) return;
    left_ = 0;
    if (why.code == status::BadTimeout) return answer();
    context_.reply.fault(why, attributes_.clock_.wallClock());
  }
  std::uint32_t handle() const override { return context_.reply.handle(); }

 private:
  void answer() {
    attributes_.core_.turns.begin(attributes_.core_.sliceLength());
    attributes_.readNow(std::move(request_), std::move(context_));
  }

  Attributes& attributes_;
  ReadRequest request_;
  Context context_;
  std::size_t left_;
};

Job Attributes::read(ReadRequest request, Context context) {
  auto fine = core_.checkCount(request.nodesToRead.size());
  if (fine && !(request.maxAge >= 0)) fine = Error{status::BadMaxAgeInvalid, "a maximum age can't be negative", {}};
  if (fine && !isValid(request.timestampsToReturn)) fine = status::BadTimestampsToReturnInvalid;
  if (!fine) {
    core_.answer<ReadResponse>(context, fine.error());
    return {};
  }
  std::map<std::shared_ptr<space::Owner>, std::vector<space::NodeIndex>> stale;
  const Duration age = milliseconds(request.maxAge);
  if (!core_.owners.isEmpty())
    for (const auto& what : request.nodesToRead) {
      if (what.attributeId != static_cast<std::uint32_t>(AttributeId::Value)) continue;
      const auto node = space_.find(what.nodeId);
      if (auto owner = core_.owners.of(node); owner && owner->isOlderThan(node, age))
        stale[std::move(owner)].push_back(node);
    }
  if (stale.empty()) return readNow(std::move(request), std::move(context));
  auto waiting = std::make_shared<WaitingRead>(*this, std::move(request), context, stale.size());
  core_.keepOutstanding(context, waiting);
  for (auto& [owner, variables] : stale)
    owner->refresh(std::move(variables), context.giveUpAt(), [waiting] { waiting->arrived(); });
  return {};
}

/// A Write under way; who it was is kept for when a device has answered.
struct Attributes::Writing {
  std::shared_ptr<Written> results;
  Announcer::Actor actor;
  bool permissionsChanged = false;
  /// What waits to be handed to its owner, with the number of its operation and what is to be done with the outcome.
  struct Given {
    std::vector<space::Owner::Write> writes;
    std::vector<std::function<void(const Error&)>> finish;
  };
  std::map<std::shared_ptr<space::Owner>, Given> given;
};

Job Attributes::write(WriteRequest request, Context context) {
  if (auto fine = core_.checkCount(request.nodesToWrite.size()); !fine)
    co_return core_.answer<WriteResponse>(context, fine.error());
  const std::size_t count = request.nodesToWrite.size();
  auto writing = std::make_shared<Writing>();
  writing->results =
      std::make_shared<Written>(context.reply, count, clock_.wallClock, [](StatusCode code) { return code; });
  writing->actor = context.actor();
  for (std::size_t i = 0; i < count; ++i) {
    writeOne(writing, i, request.nodesToWrite[i], context);
    if (i + 1 < count) co_await context.turn(core_.turns, true);
  }
  writeToOwners(writing, context);
  core_.count(context.session, context.requestType, status::Good);
  if (writing->permissionsChanged) grantAll_();
  if (!writing->results->isAnswered()) core_.keepOutstanding(context, writing->results);
}

/// What goes to one owner goes together, in the order of the request.
void Attributes::writeToOwners(const std::shared_ptr<Writing>& writing, const Context& context) {
  for (auto& [owner, given] : std::exchange(writing->given, {}))
    owner->write(std::move(given.writes), context.giveUpAt(),
                 [finish = std::move(given.finish)](std::size_t i, const Error& outcome) { finish[i](outcome); });
}

void Attributes::writeAttribute(Writing& writing, std::size_t i, const WriteValue& one, space::NodeIndex node,
                                const Context& context) {
  const auto attribute = static_cast<AttributeId>(one.attributeId);
  const auto allowed = mayWrite(space_, node, attribute, context.rights());
  const Variant before = allowed ? space::readAttribute(space_, node, attribute).value : Variant();
  auto written = allowed ? core_.holdings.put(node, attribute, footprint(one.value.value)) : allowed;
  if (written) {
    written = space::writeAttribute(space_, node, one);
    // What was not taken takes nothing.
    if (!written) (void)core_.holdings.put(node, attribute, footprint(before));
  }
  announcer_.written(writing.actor, one, before, written.code());
  if (written && attribute == AttributeId::DataTypeDefinition) core_.typesChanged();
  if (written && attribute == AttributeId::Historizing && core_.historizingChanged) core_.historizingChanged();
  writing.permissionsChanged |= written && space::permissionToWrite(attribute) == PermissionType::WriteRolePermissions;
  writing.results->set(i, written.code(), written ? Error{status::Good, {}, {}} : written.error());
}

void Attributes::writeOne(const std::shared_ptr<Writing>& writing, std::size_t i, const WriteValue& one,
                          const Context& context) {
  const auto node = space_.find(one.nodeId);
  if (node == space::kNoNode || !space_.sees(context.rights(), node))
    return writing->results->fail(i, {status::BadNodeIdUnknown, "there is no node " + shown(one.nodeId.text()), {}});
  const auto attribute = static_cast<AttributeId>(one.attributeId);
  if (attribute != AttributeId::Value) return writeAttribute(*writing, i, one, node, context);
  const auto allowed = mayWrite(space_, node, attribute, context.rights());
  auto value = allowed ? space::checkWrite(space_, node, one) : Result<DataValue>(allowed.error());
  auto owner = core_.owners.of(node);
  if (value && owner && (value->status.value != 0 || !value->sourceTimestamp.isNull()))
    value = Error{status::BadWriteNotSupported, "a device takes values only, no status and no time", {}};
  const Variant before = value ? space_.value(node).value : Variant();
  // What is recorded is what came of it.
  const auto finish = [this, writing, i, one, before](const Error& outcome) {
    announcer_.written(writing->actor, one, before, outcome.code);
    writing->results->set(i, outcome.code, outcome);
  };
  if (!value) return finish(value.error());
  if (owner) {
    auto& given = writing->given[std::move(owner)];
    given.writes.push_back({node, std::move(value->value)});
    given.finish.emplace_back(finish);
    return;
  }
  if (object_.write(node, value->value)) return finish({status::Good, {}, {}});
  if (auto fits = core_.holdings.put(node, attribute, footprint(value->value)); !fits) return finish(fits.error());
  if (value->sourceTimestamp.isNull()) value->sourceTimestamp = context.wallClock;
  space_.setValue(node, std::move(*value));
  core_.meaningChanged(node);
  finish({status::Good, {}, {}});
}

}  // namespace zunth::server
