#pragma once

#include "core/aggregate/function.hpp"
#include "service/client/nodes.hpp"

/// What a server kept of its variables.
namespace zunth::client {

struct PastWish {
  ua::DateTime from, to;   // null where it is open
  std::uint32_t most = 0;  // values of each variable; 0 for all
  double every = 0;        // ms of an interval, with `function`
  const aggregate::Function* function = nullptr;
  std::vector<ua::DateTime> moments{};  // in place of a range
  bool withBounds = false;
};

/// A variable's past values, or why there are none.
struct Past {
  ua::Error error{ua::status::Good, {}, {}};
  std::vector<ua::DataValue> values;
};

/// Of each variable, in their order, following continuation points. `progress` is told how many values have come.
Awaitable<ua::Result<std::vector<Past>>> readPast(SessionPtr session, std::vector<ua::NodeId> variables, PastWish wish,
                                                  std::function<void(std::size_t)> progress);
/// A variable's past values, handed to `take` part by part as they come, so that nothing is held: `take` gives false
/// when it wants no more. The error of the variable or the connection.
Awaitable<ua::Result<void>> eachPast(SessionPtr session, ua::NodeId variable, PastWish wish,
                                     std::function<bool(std::vector<ua::DataValue> part)> take);
/// What was changed by hand, with who did it.
Awaitable<ua::Result<ua::HistoryModifiedData>> readModified(SessionPtr session, ua::NodeId variable, ua::DateTime from,
                                                            ua::DateTime to);
/// Events that were kept, in the direction of time.
Awaitable<ua::Result<std::vector<ua::HistoryEventFieldList>>> readPastEvents(SessionPtr session, ua::NodeId notifier,
                                                                             ua::ReadEventDetails details);
/// Changes history; one outcome for each value, or one in all.
Awaitable<ua::Result<ua::HistoryUpdateResult>> updatePast(SessionPtr session, ua::ExtensionObject details);
/// Puts a remark on a moment in place of the one that is there; an empty one takes that away. `annotations` is the
/// variable's property of this name. The error is the server's for that one.
Awaitable<ua::Result<void>> annotatePast(SessionPtr session, ua::NodeId annotations, ua::DateTime moment,
                                         std::string remark);

}  // namespace zunth::client
