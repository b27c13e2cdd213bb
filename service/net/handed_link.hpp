#pragma once

#include "service/net/link.hpp"

#include <atomic>

namespace zunth::net {

/// A link as seen from another executor: what it brings is handed over there, what it is told is handed back. After
/// each piece that it brings it reads on when it is told to.
class HandedLink final : public Link {
 public:
  HandedLink(std::shared_ptr<Link> link, Executor here) : link_(std::move(link)), here_(std::move(here)) {}

  Executor executor() const override { return here_; }
  void start(Callbacks callbacks) override;
  void setReading(bool on) override;
  void send(std::vector<ua::Bytes> buffers) override;
  void finish() override;
  void abandon() override;
  std::size_t unsent() const override { return *unsent_; }
  const std::string& peer() const override { return link_->peer(); }

 private:
  std::shared_ptr<HandedLink> self() { return std::static_pointer_cast<HandedLink>(shared_from_this()); }
  /// On the link's own executor.
  void there(std::function<void(Link&)> work);

  std::shared_ptr<Link> link_;
  Executor here_;
  Callbacks callbacks_;  // here
  /// What waits there, about.
  std::shared_ptr<std::atomic<std::size_t>> unsent_ = std::make_shared<std::atomic<std::size_t>>(0);
};

}  // namespace zunth::net
