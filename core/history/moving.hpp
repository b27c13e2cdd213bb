#pragma once

#include "core/history/store.hpp"

namespace zunth::history {

/// How much has been moved.
struct Moved {
  std::size_t variables = 0, samples = 0, changes = 0, events = 0;
};

/// Copies all that one store has into another. What is there already isn't there twice afterwards; of samples with the
/// same time those that come count. `tell` hears how far it is, now and then.
ua::Result<Moved> moveHistory(Store& from, Store& to, ua::DateTime now, const std::function<void(const Moved&)>& tell);

}  // namespace zunth::history
