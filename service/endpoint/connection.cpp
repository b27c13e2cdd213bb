#include "service/endpoint/connection.hpp"

#include "core/ua/foreign.hpp"
#include "service/endpoint/visitor.hpp"
#include "service/logs/logs.hpp"

namespace zunth::endpoint {

using namespace ua;
namespace asio = net::asio;

namespace {

constexpr auto kTimeToOpen = std::chrono::seconds(10);
constexpr auto kTimeToEnd = std::chrono::seconds(5);
constexpr std::size_t kMostUnsent = 64u << 20;  // octets, of answers that were under way when no more was read
constexpr std::size_t kMostOfBatch = 32, kMostOctetsOfBatch = 128u << 10;

}  // namespace

/// At once where the services are idle, and in the order of the calls in any case.
template <class What>
void Connection::onServices(What what) {
  waitsFor_ = std::this_thread::get_id();
  asio::dispatch(services_, [weak = visitor_, what = std::move(what)]() mutable {
    if (const auto visitor = weak.lock()) what(*visitor);
  });
  waitsFor_ = std::thread::id();
  if (!isWorking_ && !isGone_) here(&Connection::collect);
}

Connection::Connection(Parts parts, const channel::ServerChannel::Options& options)
    : hall_(std::move(parts.hall)),
      link_(std::move(parts.link)),
      services_(std::move(parts.services)),
      trust_(parts.trust ? std::move(parts.trust) : channel::ServerChannel::Handler::trust()),
      channel_(options, *this),
      waitsPatiently_(options.reverseHello.has_value()),
      opened_(now()) {
  channel_.setMostMessage(parts.mostBeforeActivation);
}

void Connection::here(void (Connection::*what)()) {
  asio::post(link_->executor(), [self = shared_from_this(), what] { (*self.*what)(); });
}

void Connection::start(const std::shared_ptr<Visitor>& visitor) {
  visitor_ = visitor;
  here(&Connection::begin);
}

void Connection::begin() {
  // The visitor holds this; the link holds itself by its pending work.
  const std::weak_ptr<Connection> weak = shared_from_this();
  link_->start({[weak](BytesView octets) {
                  if (auto self = weak.lock()) self->received(octets);
                },
                [weak](const std::string&) {
                  if (auto self = weak.lock()) self->drop();
                },
                [weak] {
                  if (auto self = weak.lock()) self->work([] {});
                }});
  flush();
}

void Connection::checkTrust() { here(&Connection::doCheckTrust); }

void Connection::doCheckTrust() {
  const auto& certificate = channel_.security().peerCertificate;
  if (!channel_.isOpen() || certificate.empty()) return;
  auto fine = std::make_shared<Result<void>>();
  // It is open: it waits as long as it takes.
  (void)hall_->keys.put([fine, judge = trust_, certificate] { *fine = judge(certificate); }, true,
                        [weak = weak_from_this(), executor = link_->executor(), fine] {
                          asio::post(executor, [weak, fine] {
                            const auto self = weak.lock();
                            if (self && !*fine) self->refuse(fine->error());
                          });
                        });
}

void Connection::refuse(const Error& why) {
  channel_.refuse(why);
  flush();
}

void Connection::end(const Error& why) {
  asio::post(link_->executor(), [self = shared_from_this(), why] { self->refuse(why); });
}

void Connection::giveWay(const Error& why) {
  asio::post(link_->executor(), [self = shared_from_this(), why] {
    // Who doesn't read what they were sent doesn't get a goodbye behind it.
    const bool isDeaf = self->channel_.isOver() || self->link_->unsent() > net::Link::kLow;
    self->refuse(why);
    if (isDeaf) self->link_->abandon();
    self->drop();
  });
}

void Connection::tick() { here(&Connection::doTick); }

void Connection::doTick() {
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
  work([&] { channel_.feed(octets, now(), DateTime::from(std::chrono::system_clock::now())); });
}

/// Takes something up, gives what comes out of it to the services, and goes on with what had to wait for them.
void Connection::work(const std::function<void()>& take) {
  const auto keep = shared_from_this();
  isWorking_ = true;
  take();
  deliver();
  takeOutbox();
  // What the services did at once made room for more.
  while (!isGone_ && !isServing_ && channel_.isLeft() && !isHigh() && !channel_.isOver()) {
    channel_.read();
    if (batch_.empty()) break;
    deliver();
    takeOutbox();
  }
  isWorking_ = false;
  flush();
  settle();
}

/// What is read already goes to the services.
void Connection::deliver() {
  if (batch_.empty()) return;
  isServing_ = true;
  batchOctets_ = 0;
  onServices([batch = std::exchange(batch_, {})](Visitor& visitor) mutable { visitor.take(std::move(batch)); });
}

void Connection::respond(std::uint32_t requestId, Bytes message) {
  const std::lock_guard lock(outbox_.guard);
  outbox_.octets += message.size();
  outbox_.answers.push_back({requestId, std::move(message)});
  haveCollected();
}

void Connection::setMostMessage(std::size_t octets) {
  const std::lock_guard lock(outbox_.guard);
  outbox_.mostMessage = octets;
  haveCollected();
}

void Connection::served(Served how) {
  const std::lock_guard lock(outbox_.guard);
  outbox_.served = how;
  haveCollected();
}

bool Connection::isFull() {
  const std::lock_guard lock(outbox_.guard);
  return outbox_.octets > net::Link::kHigh;
}

/// Under the outbox's guard.
void Connection::haveCollected() {
  if (outbox_.isPosted || waitsFor_.load() == std::this_thread::get_id()) return;
  outbox_.isPosted = true;
  here(&Connection::collect);
}

void Connection::collect() {
  work([this] { takeOutbox(); });
}

/// Seals what the services answered.
void Connection::takeOutbox() {
  std::vector<Arrived> answers;
  std::optional<Served> served;
  {
    const std::lock_guard lock(outbox_.guard);
    outbox_.isPosted = false;
    answers.swap(outbox_.answers);
    outbox_.octets = 0;
    served = std::exchange(outbox_.served, {});
    if (outbox_.mostMessage) channel_.setMostMessage(*std::exchange(outbox_.mostMessage, {}));
  }
  for (auto& answer : answers) channel_.respond(answer.requestId, std::move(answer.body));
  if (!served) return;
  if (*served == Served::All)
    isServing_ = false;
  else
    awaitsRoom_ = true;
}

/// Decides whether more is read, and when.
void Connection::settle() {
  if (isGone_) return;
  const std::size_t before = std::exchange(unfinished_, channel_.unfinished());
  const std::size_t all = hall_->unfinished += unfinished_ - before;
  if (unfinished_ > before && all > Hall::kMostUnfinished)
    return refuse({status::BadTcpNotEnoughResources, "the server has no room for so large a message just now", {}});
  link_->setReading(channel_.wantsMore() && !isServing_ && !isHigh());
  if (awaitsRoom_ && !isHigh()) {
    awaitsRoom_ = false;
    onServices([](Visitor& visitor) { visitor.resume(); });
  }
}

bool Connection::isHigh() const { return link_->unsent() > net::Link::kHigh; }

bool Connection::isBusy() {
  return isServing_ || batch_.size() >= kMostOfBatch || batchOctets_ >= kMostOctetsOfBatch || isHigh();
}

void Connection::request(std::uint32_t requestId, BytesView body) {
  batchOctets_ += body.size();
  batch_.push_back({requestId, Bytes(body.begin(), body.end())});
}

void Connection::opened(const OpenSecureChannelRequest& request) {
  onServices([request, security = channel_.security(), most = channel_.mostResponse()](Visitor& visitor) {
    visitor.opened(request, security, most);
  });
}

Result<void> Connection::offload(std::function<void()> work, std::function<void()> done) {
  return hall_->keys.put(
      std::move(work), channel_.isOpen(),
      [weak = weak_from_this(), executor = link_->executor(), done = std::make_shared<std::function<void()>>(done)] {
        asio::post(executor, [weak, done] {
          const auto self = weak.lock();
          if (self && !self->isGone_) self->work(*done);
        });
      });
}

void Connection::closed(const Error& why) {
  overSince_ = now();
  if (why.code.isBad()) logs::clients().info("connection of {} refused: {}", link_->peer(), shown(why.text(), 300));
  deliver();  // what was asked before
  onServices([why](Visitor& visitor) { visitor.channelClosed(why); });
}

void Connection::flush() {
  if (isWorking_) return;
  if (channel_.hasOutput()) link_->send(channel_.takeOutput());
  if (channel_.isOver()) {
    link_->finish();
  } else if (link_->unsent() > kMostUnsent) {
    logs::clients().warn("connection of {} dropped: it reads too slowly", link_->peer());
    link_->abandon();
    drop();
  }
}

void Connection::drop() {
  if (std::exchange(isGone_, true)) return;
  hall_->unfinished -= std::exchange(unfinished_, 0);
  onServices([isOver = channel_.isOver()](Visitor& visitor) {
    if (!isOver) visitor.channelClosed({status::Good, {}, {}});
    visitor.left();
  });
}

}  // namespace zunth::endpoint
