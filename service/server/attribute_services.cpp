#include "core/space/attributes.hpp"
#include "core/ua/index_range.hpp"
#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

namespace {

bool isValid(TimestampsToReturn t) { return t >= TimestampsToReturn::Source && t <= TimestampsToReturn::Neither; }

}  // namespace

DataValue Server::readOne(const ReadValueId& what, TimestampsToReturn timestamps, DateTime wallClock) const {
  const auto node = space_.find(what.nodeId);
  if (node == space::kNoNode) return DataValue(status::BadNodeIdUnknown);
  if (!what.dataEncoding.name.empty()) {
    if (what.attributeId != static_cast<std::uint32_t>(AttributeId::Value))
      return DataValue(status::BadDataEncodingInvalid);
    if (what.dataEncoding.namespaceIndex != 0 || what.dataEncoding.name.view() != "Default Binary")
      return DataValue(status::BadDataEncodingUnsupported);
  }
  DataValue out = space::readAttribute(space_, node, static_cast<AttributeId>(what.attributeId));
  if (!what.indexRange.empty()) {
    auto range = IndexRange::parse(what.indexRange.view());
    if (!range) return DataValue(range.code());
    if (!out.status.isBad()) {
      auto part = range->of(out.value);
      if (!part) return DataValue(part.code());
      out.value = std::move(*part);
    }
  }
  const bool isValue = what.attributeId == static_cast<std::uint32_t>(AttributeId::Value);
  const bool source = timestamps == TimestampsToReturn::Source || timestamps == TimestampsToReturn::Both;
  const bool server = timestamps == TimestampsToReturn::Server || timestamps == TimestampsToReturn::Both;
  if (!source || !isValue) out.sourceTimestamp = {};
  out.serverTimestamp = server ? wallClock : DateTime{};
  return out;
}

Result<ReadResponse> Server::read(const ReadRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToRead.size()); !fine) return fine.error();
  if (!(request.maxAge >= 0)) return Error{status::BadMaxAgeInvalid, "a maximum age can't be negative", {}};
  if (!isValid(request.timestampsToReturn)) return status::BadTimestampsToReturnInvalid;
  ReadResponse response;
  response.results.reserve(request.nodesToRead.size());
  for (const auto& what : request.nodesToRead)
    response.results.push_back(readOne(what, request.timestampsToReturn, context.wallClock));
  return response;
}

void Server::write(const WriteRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToWrite.size()); !fine)
    return context.reply.fault(fine.error(), context.wallClock);
  const std::size_t count = request.nodesToWrite.size();
  auto gathering = std::make_shared<Gathering<WriteResponse, StatusCode>>(context.reply, count, clock_.wallClock);
  for (std::size_t i = 0; i < count; ++i) {
    const auto& one = request.nodesToWrite[i];
    auto done = [gathering, i](const Error& outcome) { gathering->set(i, outcome.code, outcome.cause); };
    const auto node = space_.find(one.nodeId);
    if (node == space::kNoNode) {
      done({status::BadNodeIdUnknown, "there is no node " + one.nodeId.text(), {}});
      continue;
    }
    auto value = space::checkWrite(space_, node, one);
    if (!value) {
      done(value.error());
      continue;
    }
    if (const auto handler = writeHandlers_.find(node); handler != writeHandlers_.end()) {
      handler->second(std::move(*value), std::move(done));
    } else {
      space_.setValue(node, DataValue(std::move(*value), context.wallClock));
      done({status::Good, {}, {}});
    }
  }
}

}  // namespace zunth::server
