#pragma once

#include "core/space/reference_runs.hpp"
#include "core/ua/instant.hpp"
#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <functional>
#include <memory>
#include <unordered_map>

namespace zunth::space {

/// What came of a method.
struct CallOutcome {
  ua::Error error{ua::status::Good, {}, {}};
  std::vector<ua::Variant> outputs;
};

/// Who stands behind nodes: brings their values, takes what is written to them, carries methods out. What a service has
/// checked already (rights, types, arguments) is not checked again. All calls come on the thread of the services, and
/// `done` is called there, at once or later; after the deadline nobody waits any more, and nothing is begun.
class Owner {
 public:
  struct Write {
    NodeIndex variable;
    ua::Variant value;
  };
  using WriteDone = std::function<void(std::size_t write, ua::Error outcome)>;  // once for each

  virtual ~Owner() = default;
  /// Whether what it brought last for a variable is older than this, and it could bring something newer.
  virtual bool isOlderThan(NodeIndex, ua::Duration) const { return false; }
  /// Brings newer values of these variables into the space, then calls `done`; without them when it can't.
  virtual void refresh(std::vector<NodeIndex>, ua::Instant, std::function<void()> done) { done(); }
  /// In their order.
  virtual void write(std::vector<Write> writes, ua::Instant, WriteDone done) {
    for (std::size_t i = 0; i < writes.size(); ++i) done(i, ua::Error{ua::status::BadNotWritable, {}, {}});
  }
  virtual void call(NodeIndex, std::vector<ua::Variant>, ua::Instant, std::function<void(CallOutcome)> done) {
    done({{ua::status::BadNotImplemented, {}, {}}, {}});
  }
  /// One of its nodes goes; its row may be given to another.
  virtual void removed(NodeIndex) {}
};

/// Which nodes have an owner; the others are the space's own.
class Owners {
 public:
  void own(NodeIndex node, std::shared_ptr<Owner> owner) { owners_[node] = std::move(owner); }
  void disown(NodeIndex node) { owners_.erase(node); }
  /// nullptr for a node of the space's own.
  std::shared_ptr<Owner> of(NodeIndex node) const {
    const auto found = owners_.find(node);
    return found == owners_.end() ? nullptr : found->second;
  }
  bool isEmpty() const { return owners_.empty(); }
  void removed(NodeIndex node) {
    const auto found = owners_.find(node);
    if (found == owners_.end()) return;
    const auto owner = std::move(found->second);
    owners_.erase(found);
    owner->removed(node);
  }

 private:
  std::unordered_map<NodeIndex, std::shared_ptr<Owner>> owners_;
};

}  // namespace zunth::space
