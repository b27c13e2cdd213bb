#pragma once

#include "core/history/store.hpp"
#include "service/server/core.hpp"
#include "service/server/event_updates.hpp"

namespace zunth::server {

/// Changes to what was kept: HistoryUpdate of the Attribute Service Set (Part 4, 5.10.5; Part 11, 6.8).
class HistoryUpdates : Service {
 public:
  explicit HistoryUpdates(Core& core) : Service(core), events_(core) {}
  ~HistoryUpdates() { *alive_ = false; }

  Job historyUpdate(ua::HistoryUpdateRequest request, Context context);

 private:
  struct Updating;
  ua::Result<history::Edit> editOf(const ua::ExtensionObject& details, ua::NodeId& nodeId,
                                   const Context& context) const;
  ua::Result<history::Edit> remarksOf(const ua::UpdateStructureDataDetails& update, history::Edit edit) const;
  void updateNext(const std::shared_ptr<Updating>& updating);
  void updateEvents(const std::shared_ptr<Updating>& updating, std::size_t i);

  EventUpdates events_;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::server
