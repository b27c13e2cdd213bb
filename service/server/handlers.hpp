#pragma once

#include "core/space/space.hpp"

#include <functional>
#include <memory>
#include <unordered_map>

namespace zunth::server {

/// Takes a client's write to a variable to where it belongs and tells what came of it, now or later, on the server's
/// thread. Without a handler the variable itself keeps the value.
using WriteHandler = std::function<void(ua::Variant value, std::function<void(ua::Error)> done)>;

/// Where a variable's value comes from, when it can be asked for a newer one; many variables share a source. Called on
/// the server's thread.
class ValueSource {
 public:
  virtual ~ValueSource() = default;
  /// Whether what it brought last is older than this, and it could bring something newer.
  virtual bool isOlderThan(ua::Duration age) const = 0;
  /// Brings its values, then calls `done`, on the server's thread.
  virtual void refresh(std::function<void()> done) = 0;
};

struct CallOutcome {
  ua::Error error{ua::status::Good, {}, {}};
  std::vector<ua::Variant> outputs;
};
/// Carries out a method, arguments checked already; tells what came of it, now or later, on the server's thread.
using CallHandler = std::function<void(std::vector<ua::Variant> inputs, std::function<void(CallOutcome)> done)>;

/// Carries out a method at once that must know whose session it is, as when files are opened.
using SessionMethod = std::function<CallOutcome(const std::vector<ua::Variant>& inputs, const ua::NodeId& sessionId)>;

/// Where values go and come from, and what methods do, by node.
struct Handlers {
  std::unordered_map<space::NodeIndex, WriteHandler> writes;
  std::unordered_map<space::NodeIndex, std::shared_ptr<ValueSource>> sources;
  std::unordered_map<space::NodeIndex, CallHandler> calls;
  std::unordered_map<space::NodeIndex, SessionMethod> sessionMethods;

  void forget(space::NodeIndex node) {
    writes.erase(node);
    sources.erase(node);
    calls.erase(node);
    sessionMethods.erase(node);
  }
};

}  // namespace zunth::server
