#pragma once

#include "core/history/archive.hpp"
#include "core/history/reading.hpp"
#include "service/server/core.hpp"

#include <variant>

namespace zunth::server {

/// What is left of a HistoryRead that didn't fit into one response; a continuation point stands for it.
struct HistoryRest {
  struct Modified {
    ua::DateTime start, end;
    std::size_t next = 0;  // of what lies between them
  };
  struct Events {
    std::shared_ptr<const monitor::EventSelector> selector;
    ua::DateTime start, end;
    std::uint32_t most = 0;                     // 0 for no limit
    bool isOpen = false;                        // one time was given: the number ends it
    std::optional<history::KeptEvent> place{};  // the last that was looked at
  };
  using Wish = std::variant<history::RawWish, Modified, history::AtTimeWish, history::ProcessedWish, Events>;

  ua::NodeId nodeId;
  Wish wish;
  aggregate::Manner manner;
};

/// What was kept: HistoryRead of the Attribute Service Set (Part 4, 5.10.3; Part 11, 6.4).
class Histories : Service {
 public:
  explicit Histories(Core& core) : Service(core) {}
  ~Histories() { *alive_ = false; }

  Job historyRead(ua::HistoryReadRequest request, Context context);

 private:
  struct Reading;
  ua::Result<HistoryRest::Wish> wishOf(const ua::HistoryReadRequest& request, std::size_t i) const;
  ua::Result<HistoryRest> beginning(const ua::HistoryReadRequest& request, std::size_t i, const Context& context) const;
  aggregate::Manner mannerOf(space::NodeIndex variable) const;
  void readNext(const std::shared_ptr<Reading>& reading);
  void readOne(const std::shared_ptr<Reading>& reading, std::size_t i, HistoryRest rest);
  void finish(const std::shared_ptr<Reading>& reading, std::size_t i, ua::ExtensionObject data, bool isEmpty,
              std::optional<HistoryRest> left);
  struct EventsRead;
  ua::Result<HistoryRest::Wish> eventsWish(const ua::ExtensionObject& details) const;
  void readEvents(const std::shared_ptr<EventsRead>& read);
  void takeEvents(const std::shared_ptr<EventsRead>& read, std::vector<history::KeptEvent> some);
  ua::ByteString keep(Session& session, HistoryRest rest) const;

  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

/// Whether the caller may do this with a variable's history: BadNodeIdUnknown, BadHistoryOperationUnsupported where it
/// has none, BadUserAccessDenied.
ua::Result<void> checkHistory(const Core& core, space::NodeIndex node, const ua::NodeId& id, std::uint32_t permission,
                              std::uint8_t accessLevel, const Context& context);
/// The same of the events that an object announces.
ua::Result<void> checkEventHistory(const Core& core, space::NodeIndex node, const ua::NodeId& id,
                                   std::uint32_t permission, const Context& context);

}  // namespace zunth::server
