#pragma once

#include "core/history/store.hpp"
#include "service/server/core.hpp"

namespace zunth::server {

/// Changes to what was kept: HistoryUpdate of the Attribute Service Set (Part 4, 5.10.5; Part 11, 6.8).
class HistoryUpdates : Service {
 public:
  explicit HistoryUpdates(Core& core) : Service(core) {}
  ~HistoryUpdates() { *alive_ = false; }

  Job historyUpdate(ua::HistoryUpdateRequest request, Context context);

 private:
  struct Updating;
  ua::Result<history::Edit> editOf(const ua::ExtensionObject& details, ua::NodeId& nodeId,
                                   const Context& context) const;
  void updateNext(const std::shared_ptr<Updating>& updating);

  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::server
