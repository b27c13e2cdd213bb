#include "service/server/peer.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/structure_walk.hpp"
#include "service/logs/logs.hpp"

namespace zunth::server {

using namespace ua;

void Reply::fault(const Error& error, DateTime wallClock) const {
  if (auto& log = logs::clients(); log.should_log(spdlog::level::debug))
    if (const auto peer = peer_.lock())
      log.debug("{} asked {}: {}", peer->address(), structureNamed(type_), shown(error.text(), 300));
  ServiceFault fault;
  fault.responseHeader.serviceResult = error.code;
  if (wanted_.ofService()) {
    StringTable strings;
    fault.responseHeader.serviceDiagnostics = describe(error, wanted_.ofService(), strings);
    fault.responseHeader.stringTable = strings.take();
  }
  send(std::move(fault), wallClock);
}

bool Reply::isTold() { return logs::clients().should_log(spdlog::level::debug); }

void Reply::tell(std::size_t bad, std::size_t all, std::size_t first, StatusCode why) const {
  if (const auto peer = peer_.lock())
    logs::clients().debug("{} asked {}: {} of {} are refused, the first is number {}: {}", peer->address(),
                          structureNamed(type_), bad, all, first, why.name());
}

}  // namespace zunth::server
