#pragma once

#include "service/client/conditions.hpp"
#include "service/client/session.hpp"

#include <span>

namespace zunth::client {

/// What can be done with an alarm: its methods in the standard's words, and how the outcome is told.
struct Deed {
  const char* word;
  const char* about;
  const char* method;
  const char* commented;  // the one that takes a comment, too; null where the method takes one itself
  enum class Takes { Nothing, Event, Time, Answer } takes;
  const char* done;
  const char* missing;  // what to write in the model where an alarm has no such method
};
std::span<const Deed> deeds();
/// nullptr when there is none of this name.
const Deed* deedNamed(std::string_view word);

struct DeedWish {
  const Deed* deed = nullptr;
  std::string comment;
  double time = 0;       // ms to shelve for
  bool isOnce = false;   // shelve until it goes
  std::string answer{};  // to a dialog: one of its options, or its place among them
};

/// Does it to each of these alarms, some at once: Good, or why it was refused. `standing` are the conditions as
/// they were heard of, which is needed for what is about an event; of what isn't among them, the last event counts.
Awaitable<ua::Result<std::vector<ua::Error>>> doDeed(std::shared_ptr<Session> session, DeedWish wish,
                                                     std::vector<ua::NodeId> alarms, std::vector<Condition> standing);

}  // namespace zunth::client
