#pragma once

#include "core/space/conditions.hpp"

namespace zunth::alarm {

/// An alarm of the server's own, in its namespace, that no model describes: of a device that has gone, a certificate
/// that runs out.
struct OwnAlarm {
  std::string id;  // of the node; those below begin with it
  ua::QualifiedName name;
  ua::StandardId type;
  ua::StandardId conditionClass = ua::id::SystemConditionClassType;
  std::uint16_t severity = 500;
  /// What it watches, and what is normal; nothing for one that is set by whoever knows.
  space::NodeIndex input = space::kNoNode;
  ua::Variant normal;
  double onDelay = 0;  // ms
  ua::LocalizedText message, about;
};

/// Adds it below an object, whose events clients can hear then. The node that is there when it was added before;
/// kNoNode when it can't be.
space::NodeIndex addOwnAlarm(space::Space& space, space::NodeIndex owner, const OwnAlarm& alarm);
/// Takes it away with all that is below it; does nothing for kNoNode.
void removeOwnAlarm(space::Space& space, space::NodeIndex alarm);

}  // namespace zunth::alarm
