#pragma once

#include "core/channel/server_channel.hpp"
#include "service/endpoint/key_work.hpp"
#include "service/net/link.hpp"

#include <atomic>
#include <mutex>
#include <optional>
#include <thread>

namespace zunth::endpoint {

class Visitor;

/// What all connections share that are served by the same doors; from any thread.
struct Hall {
  static constexpr std::size_t kMostUnfinished = 128u << 20;
  std::atomic<std::size_t> unfinished{0};  // octets of messages that haven't arrived whole, of all connections
  KeyWork keys;
};

/// A request as it came out of a channel.
struct Arrived {
  std::uint32_t requestId;
  ua::Bytes body;
};

/// One client's connection and its secure channel, on an executor of its own. Requests go to its visitor in batches,
/// one batch at a time: it reads no more while one is being served, while its answers stay unread, and while something
/// of its own is under way that takes longer.
class Connection final : public channel::ServerChannel::Handler, public std::enable_shared_from_this<Connection> {
 public:
  using Trust = std::function<ua::Result<void>(const ua::ByteString& chain)>;
  struct Parts {
    std::shared_ptr<Hall> hall;
    std::shared_ptr<net::Link> link;
    net::Loops::Strand services;
    Trust trust;                         // of clients' certificates; from any thread
    std::size_t mostBeforeActivation{};  // octets of a message
  };
  Connection(Parts parts, const channel::ServerChannel::Options& options);

  // From the services' executor; each takes effect on the connection's own.
  void start(const std::shared_ptr<Visitor>& visitor);
  void end(const ua::Error& why);
  /// Ends it at once where nobody reads what was sent.
  void giveWay(const ua::Error& why);
  void tick();
  /// Ends a channel whose certificate is trusted no longer.
  void checkTrust();
  void setMostMessage(std::size_t octets);
  /// An answer. Those of one turn leave together.
  void respond(std::uint32_t requestId, ua::Bytes message);
  /// The batch is served, or so much was answered that it has to leave first; then the visitor is told to go on.
  enum class Served { All, UntilRoom };
  void served(Served how);
  /// So much waits to be sent that nothing more should be answered.
  bool isFull();

  // ServerChannel::Handler
  void opened(const ua::OpenSecureChannelRequest& request) override;
  ua::Result<void> offload(std::function<void()> work, std::function<void()> done) override;
  bool isBusy() override;
  void request(std::uint32_t requestId, ua::BytesView body) override;
  Trust trust() override { return trust_; }
  void closed(const ua::Error& why) override;

 private:
  static ua::Instant now() { return std::chrono::steady_clock::now(); }
  void here(void (Connection::*what)());
  template <class What>
  void onServices(What what);
  void begin();
  void received(ua::BytesView octets);
  void work(const std::function<void()>& take);
  void deliver();
  void collect();
  void takeOutbox();
  void haveCollected();
  void refuse(const ua::Error& why);
  void doTick();
  void doCheckTrust();
  bool isHigh() const;
  void settle();
  void flush();
  void drop();

  std::shared_ptr<Hall> hall_;
  std::shared_ptr<net::Link> link_;
  net::Loops::Strand services_;
  Trust trust_;
  channel::ServerChannel channel_;
  bool waitsPatiently_;  // a client that the server came to says hello when it likes
  std::weak_ptr<Visitor> visitor_;
  ua::Instant opened_;
  ua::Instant overSince_ = ua::Instant::max();
  std::vector<Arrived> batch_;
  std::size_t batchOctets_ = 0;
  bool isServing_ = false;      // a batch is with the services
  bool awaitsRoom_ = false;     // the visitor waits until more can be answered
  bool isWorking_ = false;      // answers made meanwhile leave together
  std::size_t unfinished_ = 0;  // as it is counted in the hall
  bool isGone_ = false;

  /// What the services hand over.
  struct Outbox {
    std::mutex guard;
    std::vector<Arrived> answers;
    std::size_t octets = 0;
    std::optional<Served> served;
    std::optional<std::size_t> mostMessage;
    bool isPosted = false;  // it will be collected
  } outbox_;
  /// The thread that waits, in the middle of this connection's work, for the services: what they hand over there is
  /// collected when they return.
  std::atomic<std::thread::id> waitsFor_{};
};

}  // namespace zunth::endpoint
