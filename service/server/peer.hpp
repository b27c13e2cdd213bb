#pragma once

#include "core/channel/server_channel.hpp"
#include "core/ua/due_heap.hpp"
#include "service/server/diagnostic_texts.hpp"

#include <functional>
#include <memory>

namespace zunth::server {

/// Where a client came in, by what the server listens on and not by what the client says.
struct Entrance {
  ua::String url;                  // as it is offered
  ua::String transportProfileUri;  // Part 7
};

struct Account;

/// A client's open channel, as the services see it. Everything on the server's thread.
class Peer {
 public:
  virtual ~Peer() = default;
  virtual void respond(std::uint32_t requestId, ua::Bytes message) = 0;
  virtual std::uint32_t channelId() const = 0;
  virtual const channel::ChannelSecurity& security() const = 0;
  /// Whether the transport keeps secrets by itself, as TLS does.
  virtual bool isEncryptedBelow() const { return false; }
  virtual const Entrance& entrance() const = 0;
  /// "127.0.0.1:51234", for logs.
  virtual std::string address() const = 0;
  /// What a door of the site's own vouches for, where clients can't prove who they are; without it, they have to.
  virtual const Account* account() const { return nullptr; }
  /// Octets that the client takes in one message; 0 for any number.
  virtual std::size_t mostResponse() const { return 0; }
  /// Octets that may be sent in one request, where the way in takes less than the server would; 0 for as many as that.
  virtual std::size_t mostRequest() const { return 0; }
  /// A session was activated on it: from now on it may send more.
  virtual void activated() {}
  /// Between both calls nothing more is read of what it sends: it has something under way that takes longer. Counted.
  virtual void hold() {}
  virtual void release() {}
  /// The connection has ended: what is answered would be lost.
  virtual bool isGone() const { return false; }
};

/// The one answer to one request; may be kept and given later. A client that has gone is no error.
class Reply {
 public:
  Reply() = default;
  /// `type` is the id of the request's encoding.
  Reply(std::weak_ptr<Peer> peer, std::uint32_t requestId, const ua::RequestHeader& header, std::uint32_t type = 0)
      : peer_(std::move(peer)),
        requestId_(requestId),
        type_(type),
        handle_(header.requestHandle),
        wanted_{header.returnDiagnostics} {}

  /// Octets that the client takes in one response; 0 for any number.
  void limit(std::uint32_t octets) { limit_ = octets; }

  template <class Response>
  void send(Response response, ua::DateTime wallClock) const {
    const auto peer = peer_.lock();
    if (!peer) return;
    tellBad(response);
    response.responseHeader.timestamp = wallClock;
    response.responseHeader.requestHandle = handle_;
    ua::Bytes message = channel::newMessage();
    ua::BinaryWriter writer(message);
    writer.write(ua::NodeId(Response::kBinaryId));
    writer.write(response);
    if (limit_ && message.size() - channel::kHeadroom > limit_ && !std::is_same_v<Response, ua::ServiceFault>)
      return fault({ua::status::BadResponseTooLarge, "the response is larger than the session takes", {}}, wallClock);
    peer->respond(requestId_, std::move(message));
  }
  void fault(const ua::Error& error, ua::DateTime wallClock) const;
  WantedDiagnostics wanted() const { return wanted_; }
  /// The client's own number of the request; Cancel names it.
  std::uint32_t handle() const { return handle_; }
  /// False when the client's connection has ended: what is sent would be lost.
  bool isDeliverable() const {
    const auto peer = peer_.lock();
    return peer && !peer->isGone();
  }

 private:
  std::weak_ptr<Peer> peer_;
  static bool isTold();
  void tell(std::size_t bad, std::size_t all, std::size_t first, ua::StatusCode why) const;
  /// Says in the log how many results of a response are bad.
  template <class Response>
  void tellBad(const Response& response) const {
    if constexpr (requires { response.results.begin(); }) {
      if (!isTold()) return;
      std::size_t bad = 0, at = 0, first = 0;
      ua::StatusCode why;
      for (const auto& result : response.results) {
        ++at;
        const ua::StatusCode code = statusOf(result);
        if (code.isBad() && bad++ == 0) {
          first = at;
          why = code;
        }
      }
      if (bad > 0) tell(bad, at, first, why);
    }
  }
  template <class Result>
  static ua::StatusCode statusOf(const Result& result) {
    if constexpr (std::is_same_v<Result, ua::StatusCode>)
      return result;
    else if constexpr (requires { ua::StatusCode(result.statusCode); })
      return result.statusCode;
    else if constexpr (requires { ua::StatusCode(result.status); })
      return result.status;
    else
      return {};
  }

  std::uint32_t requestId_ = 0, type_ = 0;
  std::uint32_t handle_ = 0;
  WantedDiagnostics wanted_;
  std::uint32_t limit_ = 0;
};

/// An answer that waits for others, as for a device's.
class Outstanding : public ua::Due, public std::enable_shared_from_this<Outstanding> {
 public:
  virtual ~Outstanding() {
    if (heap_) heap_->remove(*this);
  }
  /// It is to be given up at that time; the heap outlives it.
  void waitUntil(ua::Instant until, ua::DueHeap<Outstanding>& heap) {
    heap_ = &heap;
    heap.put(*this, until);
  }
  /// Answers now, with `why` for what has no result yet. Results that come later are dropped.
  virtual void giveUp(const ua::Error& why) = 0;
  virtual std::uint32_t handle() const = 0;

 private:
  ua::DueHeap<Outstanding>* heap_ = nullptr;
};

/// Collects the results of a request's operations, some of which end later; the answer leaves with the last of them.
template <class Response, class Item>
class Gathering final : public Outstanding {
 public:
  /// `failed` makes the result of an operation that came to nothing.
  Gathering(Reply reply, std::size_t operations, std::function<ua::DateTime()> wallClock,
            std::function<Item(ua::StatusCode)> failed)
      : reply_(std::move(reply)),
        wallClock_(std::move(wallClock)),
        failed_(std::move(failed)),
        diagnostics_(reply_.wanted()),
        results_(operations),
        left_(operations) {}
  /// Once for each operation.
  void set(std::size_t operation, Item result, const ua::Error& outcome) {
    if (results_.empty() || results_[operation]) return;
    results_[operation] = std::move(result);
    diagnostics_.note(operation, outcome);
    if (--left_ == 0) answer();
  }
  void fail(std::size_t operation, const ua::Error& why) { set(operation, failed_(why.code), why); }
  bool isAnswered() const { return left_ == 0; }

  void giveUp(const ua::Error& why) override {
    for (std::size_t i = 0; i < results_.size(); ++i)
      if (!results_[i]) fail(i, why);
  }
  std::uint32_t handle() const override { return reply_.handle(); }

 private:
  void answer() {
    Response response;
    const std::size_t operations = results_.size();
    for (auto& result : results_) response.results.push_back(std::move(*result));
    diagnostics_.give(response.responseHeader, response.diagnosticInfos, operations);
    reply_.send(std::move(response), wallClock_());
    results_.clear();
  }

  Reply reply_;
  std::function<ua::DateTime()> wallClock_;
  std::function<Item(ua::StatusCode)> failed_;
  OperationDiagnostics diagnostics_;
  std::vector<std::optional<Item>> results_;
  std::size_t left_;
};

}  // namespace zunth::server
