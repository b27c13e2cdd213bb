#include "core/space/attribute_writing.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/index_range.hpp"
#include "service/server/request_checks.hpp"
#include "service/server/server.hpp"

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

DataValue Server::readOne(const ReadValueId& what, TimestampsToReturn timestamps, const space::Rights& rights,
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
    auto encoded = encodedAs(out.value, *encoding);
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

ReadResponse Server::readNow(const ReadRequest& request, const space::Rights& rights, WantedDiagnostics wanted) const {
  ReadResponse response;
  response.results.reserve(request.nodesToRead.size());
  OperationDiagnostics diagnostics(wanted);
  const DateTime wallClock = clock_.wallClock();
  for (const auto& what : request.nodesToRead) {
    response.results.push_back(readOne(what, request.timestampsToReturn, rights, wallClock));
    const StatusCode code = response.results.back().status;
    if (code == status::BadNodeIdUnknown)
      diagnostics.note(response.results.size() - 1, {code, "there is no node " + what.nodeId.text(), {}});
    else if (code.isBad())
      diagnostics.note(response.results.size() - 1, {code, {}, {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

/// A read that waits for values newer than it was told to take. When they don't come in time it takes what is there.
class Server::WaitingRead final : public Outstanding {
 public:
  WaitingRead(const Server& server, ReadRequest request, const Context& context, std::size_t sources)
      : server_(server),
        request_(std::move(request)),
        rights_(context.rights()),
        reply_(context.reply),
        left_(sources) {}
  void arrived() {
    if (left_ > 0 && --left_ == 0) answer();
  }
  void giveUp(const Error& why) override {
    if (left_ == 0) return;
    left_ = 0;
    if (why.code == status::BadTimeout) return answer();
    reply_.fault(why, server_.clock_.wallClock());
  }
  std::uint32_t handle() const override { return reply_.handle(); }

 private:
  void answer() { reply_.send(server_.readNow(request_, rights_, reply_.wanted()), server_.clock_.wallClock()); }

  const Server& server_;
  ReadRequest request_;
  space::Rights rights_;
  Reply reply_;
  std::size_t left_;
};

Result<void> Server::read(const ReadRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToRead.size()); !fine) return fine;
  if (!(request.maxAge >= 0)) return Error{status::BadMaxAgeInvalid, "a maximum age can't be negative", {}};
  if (!isValid(request.timestampsToReturn)) return status::BadTimestampsToReturnInvalid;
  std::vector<std::shared_ptr<ValueSource>> stale;
  const Duration age = milliseconds(std::min(request.maxAge, 1e12));
  if (!sources_.empty())
    for (const auto& what : request.nodesToRead) {
      if (what.attributeId != static_cast<std::uint32_t>(AttributeId::Value)) continue;
      const auto source = sources_.find(space_.find(what.nodeId));
      if (source == sources_.end() || std::ranges::find(stale, source->second) != stale.end()) continue;
      if (source->second->isOlderThan(age)) stale.push_back(source->second);
    }
  if (stale.empty()) {
    context.reply.send(readNow(request, context.rights(), context.reply.wanted()), context.wallClock);
    return {};
  }
  auto waiting = std::make_shared<WaitingRead>(*this, request, context, stale.size());
  keepOutstanding(context, waiting);
  for (const auto& source : stale) source->refresh([waiting] { waiting->arrived(); });
  return {};
}

Result<void> Server::write(const WriteRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToWrite.size()); !fine) return fine;
  const std::size_t count = request.nodesToWrite.size();
  auto gathering = std::make_shared<Gathering<WriteResponse, StatusCode>>(context.reply, count, clock_.wallClock,
                                                                          [](StatusCode code) { return code; });
  bool permissionsChanged = false;
  for (std::size_t i = 0; i < count; ++i) {
    const auto& one = request.nodesToWrite[i];
    const auto node = space_.find(one.nodeId);
    if (node == space::kNoNode || !space_.sees(context.rights(), node)) {
      gathering->fail(i, {status::BadNodeIdUnknown, "there is no node " + one.nodeId.text(), {}});
      continue;
    }
    const auto attribute = static_cast<AttributeId>(one.attributeId);
    const auto allowed = mayWrite(space_, node, attribute, context.rights());
    if (attribute != AttributeId::Value) {
      const Variant before = allowed ? space::readAttribute(space_, node, attribute).value : Variant();
      const auto written = allowed ? space::writeAttribute(space_, node, one) : allowed;
      announcer_.written(context.actor(), one, before, written.code());
      permissionsChanged |= written && space::permissionToWrite(attribute) == PermissionType::WriteRolePermissions;
      gathering->set(i, written.code(), written ? Error{status::Good, {}, {}} : written.error());
      continue;
    }
    auto value = allowed ? space::checkWrite(space_, node, one) : Result<DataValue>(allowed.error());
    const auto handler = writeHandlers_.find(node);
    const bool isBound = handler != writeHandlers_.end();
    if (value && isBound && (value->status.value != 0 || !value->sourceTimestamp.isNull()))
      value = Error{status::BadWriteNotSupported, "a device takes values only, no status and no time", {}};
    const Variant before = value ? space_.value(node).value : Variant();
    announcer_.written(context.actor(), one, before, value.code());
    if (!value) {
      gathering->fail(i, value.error());
    } else if (isBound) {
      handler->second(std::move(value->value),
                      [gathering, i](const Error& outcome) { gathering->set(i, outcome.code, outcome); });
    } else {
      if (value->sourceTimestamp.isNull()) value->sourceTimestamp = context.wallClock;
      space_.setValue(node, std::move(*value));
      if (space_.traits(node).accessLevel & AccessLevelType::SemanticChange)
        announcer_.meaningChanged(space_.parent(node));
      gathering->set(i, status::Good, {status::Good, {}, {}});
    }
  }
  if (permissionsChanged)
    for (const auto& [token, session] : sessions_)
      if (session->isActivated) grant(*session);
  if (!gathering->isAnswered()) keepOutstanding(context, gathering);
  return {};
}

}  // namespace zunth::server
