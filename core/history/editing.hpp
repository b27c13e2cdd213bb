#pragma once

#include "core/history/store.hpp"

#include <functional>
#include <utility>

namespace zunth::history {

/// Told of what an edit does: the sample as it was, or what was put in.
using Note = std::function<ua::Result<void>(const ua::DataValue& sample, ua::HistoryUpdateType how)>;

/// The first and the last moment that an edit of samples is about, both included; nothing when it is about none.
std::optional<std::pair<ua::DateTime, ua::DateTime>> reachOf(const Edit& edit);

/// Does to samples, all of that reach and in order of time, what an edit says (Part 11, 6.8): one outcome for each
/// sample or moment, one in all for a range.
ua::Result<std::vector<ua::StatusCode>> applyEdit(std::vector<ua::DataValue>& samples, const Edit& edit,
                                                  const Note& note);

}  // namespace zunth::history
