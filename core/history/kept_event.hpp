#pragma once

#include "core/monitor/event.hpp"
#include "core/ua/bytes.hpp"

#include <optional>

namespace zunth::history {

/// An event with all its fields as octets; type and source by the URIs of their namespaces, and the table of namespaces
/// that ids in its fields go by.
ua::Bytes encodeEvent(const space::Space& space, const monitor::Event& event);
/// The EventId of an event, without the rest; empty where it has none.
ua::ByteString eventIdOf(ua::BytesView octets);
/// What others than us may want to know of an event without reading its octets; empty where it doesn't say so.
struct EventWords {
  std::string type, source, message;  // type by its NodeId with its namespace's URI; source by its name
  int severity = 0;
};
EventWords wordsOf(ua::BytesView octets);
/// Nothing for octets that aren't one. A type or source that is gone since is kNoNode; the type is then BaseEventType.
std::optional<monitor::Event> decodeEvent(const space::Space& space, ua::BytesView octets);

}  // namespace zunth::history
