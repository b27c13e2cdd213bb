#include "service/client/exchange.hpp"

#include "core/ua/structure_walk.hpp"

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

Error faultOf(BytesView body, std::string_view expected) {
  BinaryReader reader(body);
  const auto id = reader.next<NodeId>();
  if (!id.isNumericIn0() || id.numeric() != ServiceFault::kBinaryId)
    return {status::BadUnknownResponse,
            fmt::format("the server answered with {} instead of {}", structureNamed(id.numeric()), expected),
            {}};
  const auto fault = reader.next<ServiceFault>();
  if (!reader.ok()) return reader.error();
  if (!fault.responseHeader.serviceResult.isBad())
    return {status::BadUnknownResponse, "the server refused the request without saying why", {}};
  const auto& info = fault.responseHeader.serviceDiagnostics.additionalInfo;
  return {fault.responseHeader.serviceResult, info ? info->str() : "the server refused the request", {}};
}

}  // namespace zunth::client
