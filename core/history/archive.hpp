#pragma once

#include "core/history/store.hpp"

#include <functional>

namespace zunth::history {

/// A store that is busy elsewhere. All calls on one thread, the services'; nothing here waits.
class Archive {
 public:
  virtual ~Archive() = default;
  /// The number by which a variable is known from now on, as long as the archive is open.
  virtual VariableId variable(const std::string& name) = 0;
  /// Seen by whatever is performed afterwards, and safe after a second or so.
  virtual void append(std::vector<Record> records) = 0;
  /// False when there is no room for it.
  virtual bool append(KeptEvent event) = 0;
  /// Done with the store, after everything that came before; what it gives is called on the services' thread.
  using Work = std::function<std::function<void()>(Store&)>;
  virtual void perform(Work work) = 0;
  /// How far everything was watched when the store was last used; null for a new one.
  virtual ua::DateTime watchedBefore() const = 0;
  /// Before it nothing was kept; null while nothing is.
  virtual ua::DateTime beginsAt() const = 0;
};

}  // namespace zunth::history
