#pragma once

#include "core/space/owner.hpp"
#include "core/space/space.hpp"

namespace zunth::server {

using space::CallOutcome;
inline CallOutcome refused(ua::Error why) { return {std::move(why), {}}; }
inline CallOutcome refused(ua::StatusCode code, std::string cause) { return refused({code, std::move(cause), {}}); }

/// Carries out a method at once that must know whose session it is, as when files are opened.
using SessionMethod = std::function<CallOutcome(const std::vector<ua::Variant>& inputs, const ua::NodeId& sessionId)>;

}  // namespace zunth::server
