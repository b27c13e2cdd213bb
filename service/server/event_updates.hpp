#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// Changes to the events that were kept: UpdateEventDetails and DeleteEventDetails of HistoryUpdate (Part 11, 6.8.3 and
/// 6.8.7). What has an EventId is looked for in all that is kept, some events at a time.
class EventUpdates : Service {
 public:
  explicit EventUpdates(Core& core) : Service(core) {}
  ~EventUpdates() { *alive_ = false; }

  static bool takes(const ua::ExtensionObject& details) {
    return details.is<ua::UpdateEventDetails>() || details.is<ua::DeleteEventDetails>();
  }
  struct Asked {
    ua::NodeId token;                // of the session, which may end meanwhile
    std::function<bool()> isWanted;  // still
    std::function<void(ua::Result<ua::HistoryUpdateResult>)> done;
  };
  /// The notifier that the details name.
  ua::NodeId notifierOf(const ua::ExtensionObject& details) const;
  void change(const ua::ExtensionObject& details, const Context& context, Asked asked);

 private:
  struct Change;
  ua::Result<void> read(const ua::UpdateEventDetails& details, Change& change) const;
  ua::Result<monitor::Event> eventOf(const ua::UpdateEventDetails& details, std::size_t i, const Change& change) const;
  bool isHeardAt(const monitor::Event& event, space::NodeIndex notifier) const;
  void search(const std::shared_ptr<Change>& change);
  void carryOut(const std::shared_ptr<Change>& change);

  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::server
