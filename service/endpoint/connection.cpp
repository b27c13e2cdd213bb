#include "service/endpoint/connection.hpp"

#include "core/ua/foreign.hpp"

#include <spdlog/spdlog.h>

namespace zunth::endpoint {

using namespace ua;

namespace {

constexpr auto kTimeToOpen = std::chrono::seconds(10);
constexpr auto kTimeToEnd = std::chrono::seconds(5);
constexpr auto kTurn = std::chrono::milliseconds(2);
constexpr std::size_t kMostUnsent = 64u << 20;  // octets, of answers that were under way when no more was read

}  // namespace

Connection::Connection(House& house, std::shared_ptr<net::Link> link, bool isEncrypted, server::Entrance entrance,
                       const channel::ServerChannel::Options& options)
    : house_(house),
      link_(std::move(link)),
      isEncrypted_(isEncrypted),
      entrance_(std::move(entrance)),
      channel_(options, *this),
      waitsPatiently_(options.reverseHello.has_value()),
      opened_(now()) {}

void Connection::start() {
  channel_.setMostMessage(house_.server().settings().limits.maxRequestBeforeActivation);
  // The house holds this; the link holds itself by its pending work.
  const std::weak_ptr<Connection> weak = self();
  link_->start({[weak](BytesView octets) {
                  if (auto self = weak.lock()) self->received(octets);
                },
                [weak](const std::string&) {
                  if (auto self = weak.lock()) self->drop();
                },
                [weak] {
                  if (auto self = weak.lock()) self->resume();
                }});
  flush();
}

void Connection::checkTrust() {
  const auto& certificate = channel_.security().peerCertificate;
  if (!channel_.isOpen() || certificate.empty()) return;
  auto fine = std::make_shared<Result<void>>();
  // It is open: it waits as long as it takes.
  (void)house_.offload([fine, judge = trust(), certificate] { *fine = judge(certificate); }, true,
                       [weak = std::weak_ptr(self()), fine] {
                         const auto self = weak.lock();
                         if (self && !*fine) self->end(fine->error());
                       });
}

void Connection::end(const Error& why) {
  channel_.refuse(why);
  flush();
}

Guest::Standing Connection::standing() const {
  if (channel_.isOver()) return Standing::Over;
  if (!channel_.isOpen()) return Standing::Knocking;
  return house_.server().hasSession(channel_.id()) ? Standing::Session : Standing::Channel;
}

void Connection::giveWay() {
  // Who doesn't read what they were sent doesn't get a goodbye behind it.
  const bool isDeaf = channel_.isOver() || link_->unsent() > net::Link::kLow;
  end({status::BadTcpNotEnoughResources, "the server has as many connections as it may, and others have sessions", {}});
  if (isDeaf) link_->abandon();
  drop();
}

void Connection::tick() {
  channel_.tick(now());
  if (!waitsPatiently_ && !channel_.isOpen() && !channel_.isOver() && now() - opened_ > kTimeToOpen)
    channel_.refuse({status::BadTimeout, "no secure channel was opened in time", {}});
  flush();
  if (overSince_ != Instant::max() && now() - overSince_ > kTimeToEnd) {
    link_->abandon();
    drop();
  }
}

void Connection::received(BytesView octets) {
  // Who took more than their part of late queues for it.
  if (spending_.isMuch(now()) && !isQueued_) {
    isQueued_ = true;
    house_.guests().queue(self());
    house_.queued();
  }
  work([&] { channel_.feed(octets, now(), DateTime::from(std::chrono::system_clock::now())); });
}

void Connection::resume() {
  isQueued_ = false;
  if (isGone_ || inFeed_) return;
  work([&] { channel_.read(); });
}

void Connection::activated() { channel_.setMostMessage(house_.server().settings().maxMessageSize); }

void Connection::release() {
  if (--holds_ > 0 || isGone_ || isQueued_) return;
  // Whoever releases it is in the middle of something, such as ending a session: what was sent meanwhile is looked at
  // afterwards.
  isQueued_ = true;
  house_.guests().queue(self());
  house_.queued();
}

void Connection::work(const std::function<void()>& take) {
  const auto keep = self();
  const Instant begun = now();
  turn_ = Slice(&now, kTurn);
  inFeed_ = true;
  take();
  inFeed_ = false;
  spending_.spent(now() - begun, now());
  flush();
  settle();
  house_.served();
}

/// Decides whether more is read, and when.
void Connection::settle() {
  if (isGone_) return;
  auto& guests = house_.guests();
  guests.unfinished += channel_.unfinished() - unfinished_;
  const bool grows = channel_.unfinished() > unfinished_;
  unfinished_ = channel_.unfinished();
  if (grows && guests.unfinished > Guests::kMostUnfinished)
    return end({status::BadTcpNotEnoughResources, "the server has no room for so large a message just now", {}});
  const bool isHigh = link_->unsent() > net::Link::kHigh;
  link_->setReading(channel_.wantsMore() && !isHigh);
  // Held or unread, it goes on when that is over; if only its turn was, it queues for the next.
  if (channel_.wantsMore() || holds_ > 0 || isHigh || isQueued_ || channel_.isOver()) return;
  if (!channel_.isLeft()) return;
  isQueued_ = true;
  guests.queue(self());
  house_.queued();
}

bool Connection::isBusy() { return holds_ > 0 || isQueued_ || link_->unsent() > net::Link::kHigh || turn_.lookAgain(); }

void Connection::respond(std::uint32_t requestId, Bytes message) {
  channel_.respond(requestId, std::move(message));
  if (!inFeed_) flush();
}

void Connection::opened(const OpenSecureChannelRequest& request) { house_.server().channelOpened(*this, request); }

Result<void> Connection::offload(std::function<void()> work, std::function<void()> done) {
  return house_.offload(std::move(work), channel_.isOpen(), [weak = std::weak_ptr(self()), done = std::move(done)] {
    const auto self = weak.lock();
    if (self && !self->isGone_) self->work(done);
  });
}

void Connection::request(std::uint32_t requestId, BytesView body) { house_.server().handle(self(), requestId, body); }

std::function<Result<void>(const ByteString&)> Connection::trust() {
  const auto& trust = house_.server().settings().trust;
  return trust ? trust : channel::ServerChannel::Handler::trust();
}

void Connection::closed(const Error& why) {
  overSince_ = now();
  if (why.code.isBad()) spdlog::info("connection of {} refused: {}", link_->peer(), shown(why.text(), 300));
  house_.server().channelClosed(*this, why);
}

void Connection::flush() {
  if (channel_.hasOutput()) link_->send(channel_.takeOutput());
  if (channel_.isOver()) {
    link_->finish();
  } else if (link_->unsent() > kMostUnsent) {
    spdlog::warn("connection of {} dropped: it reads too slowly", link_->peer());
    link_->abandon();
    drop();
  }
}

void Connection::drop() {
  if (std::exchange(isGone_, true)) return;
  house_.guests().unfinished -= std::exchange(unfinished_, 0);
  if (!channel_.isOver()) house_.server().channelClosed(*this, {status::Good, {}, {}});
  house_.guests().leave(self());
}

}  // namespace zunth::endpoint
