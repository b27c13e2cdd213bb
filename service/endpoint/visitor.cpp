#include "service/endpoint/visitor.hpp"

#include "core/ua/foreign.hpp"
#include "service/logs/logs.hpp"

namespace zunth::endpoint {

using namespace ua;

namespace {

constexpr auto kTurn = std::chrono::milliseconds(2);

}  // namespace

Visitor::Visitor(House& house, std::shared_ptr<Connection> connection, std::string address, std::uint32_t channelId,
                 bool isEncrypted, server::Entrance entrance)
    : house_(house),
      connection_(std::move(connection)),
      address_(std::move(address)),
      channelId_(channelId),
      isEncrypted_(isEncrypted),
      entrance_(std::move(entrance)),
      since_(now()) {}

void Visitor::opened(const OpenSecureChannelRequest& request, const channel::ChannelSecurity& security,
                     std::size_t mostResponse) {
  security_ = security;
  mostResponse_ = mostResponse;
  isOpen_ = true;
  logs::clients().debug("{} opened channel {}, {}", address_, channelId_, shown(security.policyUri.view()));
  house_.services().channelOpened(*this, request);
}

void Visitor::take(std::vector<Arrived> batch) {
  hasBatch_ = true;
  batch_ = std::move(batch);
  next_ = 0;
  // Who took more than their part of late queues for it.
  if (spending_.isMuch(now())) return queue();
  serve();
}

void Visitor::queue() {
  if (std::exchange(isQueued_, true)) return;
  house_.guests().queue(self());
  house_.queued();
}

void Visitor::resume() {
  isQueued_ = awaitsRoom_ = false;
  if (!isGone_) serve();
}

/// Serves what has come, for the length of one turn.
void Visitor::serve() {
  if (isServing_) return;
  const auto keep = self();
  const Instant begun = now();
  Slice turn(&now, kTurn);
  isServing_ = true;
  while (!isDone() && holds_ == 0 && !isGone_) {
    if (connection_->isFull()) {
      if (!std::exchange(awaitsRoom_, true)) connection_->served(Connection::Served::UntilRoom);
      break;
    }
    if (turn.lookAgain()) {
      queue();
      break;
    }
    const Arrived request = std::move(batch_[next_++]);
    house_.services().handle(self(), request.requestId, request.body);
  }
  isServing_ = false;
  spending_.spent(now() - begun, now());
  if (isDone() && holds_ == 0 && std::exchange(hasBatch_, false)) connection_->served(Connection::Served::All);
  house_.served();
}

void Visitor::release() {
  // Whoever releases it is in the middle of something, such as ending a session: what was sent meanwhile is looked at
  // afterwards.
  if (--holds_ == 0 && !isGone_) queue();
}

void Visitor::activated() { connection_->setMostMessage(house_.services().settings().maxMessageSize); }

Guest::Standing Visitor::standing() const {
  if (isOver_) return Standing::Over;
  if (!isOpen_) return Standing::Knocking;
  return house_.services().hasSession(channelId_) ? Standing::Session : Standing::Channel;
}

void Visitor::giveWay() {
  const Error why{
      status::BadTcpNotEnoughResources, "the server has as many connections as it may, and others have sessions", {}};
  connection_->giveWay(why);
  channelClosed(why);
  isGone_ = true;
}

void Visitor::channelClosed(const Error& why) {
  if (std::exchange(isOver_, true)) return;
  house_.services().channelClosed(*this, why);
}

void Visitor::left() {
  isGone_ = true;
  next_ = batch_.size();
  house_.guests().leave(self());
}

}  // namespace zunth::endpoint
