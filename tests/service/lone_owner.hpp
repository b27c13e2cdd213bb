#pragma once

#include "core/space/owner.hpp"

namespace zunth::test {

/// Stands behind nodes as the test tells it to.
struct LoneOwner final : space::Owner {
  bool isOlderThan(space::NodeIndex, ua::Duration than) const override { return age > than; }
  void refresh(std::vector<space::NodeIndex> variables, ua::Instant, std::function<void()> done) override {
    refreshed.push_back(std::move(variables));
    waiting.push_back(std::move(done));
  }
  void write(std::vector<Write> writes, ua::Instant until, WriteDone done) override {
    written.push_back(std::move(writes));
    deadline = until;
    writeDone = std::move(done);
  }
  void call(space::NodeIndex, std::vector<ua::Variant> inputs, ua::Instant until,
            std::function<void(space::CallOutcome)> done) override {
    ++calls;
    deadline = until;
    done(carryOut(std::move(inputs)));
  }
  void removed(space::NodeIndex node) override { gone.push_back(node); }

  ua::Duration age{};
  std::vector<std::vector<space::NodeIndex>> refreshed;
  std::vector<std::function<void()>> waiting;
  std::vector<std::vector<Write>> written;
  WriteDone writeDone;
  int calls = 0;
  std::function<space::CallOutcome(std::vector<ua::Variant>)> carryOut = [](auto) { return space::CallOutcome(); };
  ua::Instant deadline{};
  std::vector<space::NodeIndex> gone;
};

}  // namespace zunth::test
