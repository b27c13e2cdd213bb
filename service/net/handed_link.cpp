#include "service/net/handed_link.hpp"

#include <utility>

namespace zunth::net {

void HandedLink::there(std::function<void(Link&)> work) {
  asio::post(link_->executor(), [link = link_, unsent = unsent_, work = std::move(work)] {
    work(*link);
    *unsent = link->unsent();
  });
}

void HandedLink::start(Callbacks callbacks) {
  callbacks_ = std::move(callbacks);
  const std::weak_ptr<HandedLink> weak = self();
  const auto hand = [weak, here = here_, link = link_.get(), unsent = unsent_](auto take) {
    *unsent = link->unsent();
    asio::dispatch(here, [weak, take = std::move(take)] {
      if (const auto self = weak.lock()) take(*self);
    });
  };
  Callbacks handed;
  handed.received = [hand, link = link_.get()](ua::BytesView octets) {
    link->setReading(false);
    hand([octets = ua::Bytes(octets.begin(), octets.end())](HandedLink& self) {
      if (self.callbacks_.received) self.callbacks_.received(octets);
    });
  };
  handed.closed = [hand](const std::string& why) {
    hand([why](HandedLink& self) {
      if (auto last = std::exchange(self.callbacks_, {}); last.closed) last.closed(why);
    });
  };
  handed.drained = [hand] {
    hand([](HandedLink& self) {
      if (self.callbacks_.drained) self.callbacks_.drained();
    });
  };
  there([handed = std::move(handed)](Link& link) { link.start(handed); });
}

void HandedLink::setReading(bool on) {
  there([on](Link& link) { link.setReading(on); });
}

void HandedLink::send(std::vector<ua::Bytes> buffers) {
  for (const auto& buffer : buffers) *unsent_ += buffer.size();
  auto handed = std::make_shared<std::vector<ua::Bytes>>(std::move(buffers));
  there([handed](Link& link) { link.send(std::move(*handed)); });
}

void HandedLink::finish() {
  there([](Link& link) { link.finish(); });
}

void HandedLink::abandon() {
  callbacks_ = {};
  there([](Link& link) { link.abandon(); });
}

}  // namespace zunth::net
