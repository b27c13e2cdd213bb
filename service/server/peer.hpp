#pragma once

#include "core/channel/server_channel.hpp"

#include <functional>
#include <memory>

namespace zunth::server {

/// A client's open channel, as the services see it.
class Peer {
 public:
  virtual ~Peer() = default;
  virtual void respond(std::uint32_t requestId, ua::Bytes message) = 0;
  virtual std::uint32_t channelId() const = 0;
  virtual const channel::ChannelSecurity& security() const = 0;
  /// The URL that the client said hello to.
  virtual const ua::String& endpointUrl() const = 0;
  /// "127.0.0.1:51234", for logs.
  virtual std::string address() const = 0;
};

/// Which of the diagnostics a client asked for (Part 4, 7.33) are given: the causes in words.
struct WantedDiagnostics {
  bool ofService = false, ofOperations = false;
  static WantedDiagnostics from(std::uint32_t mask) { return {(mask & 0x04) != 0, (mask & 0x80) != 0}; }
};

/// The one answer to one request; may be kept and given later. A client that has gone is no error.
class Reply {
 public:
  Reply(std::weak_ptr<Peer> peer, std::uint32_t requestId, std::uint32_t handle, WantedDiagnostics wanted)
      : peer_(std::move(peer)), requestId_(requestId), handle_(handle), wanted_(wanted) {}

  template <class Response>
  void send(Response response, ua::DateTime wallClock) const {
    const auto peer = peer_.lock();
    if (!peer) return;
    response.responseHeader.timestamp = wallClock;
    response.responseHeader.requestHandle = handle_;
    ua::Bytes message = channel::newMessage();
    ua::BinaryWriter writer(message);
    writer.write(ua::NodeId(Response::kBinaryId));
    writer.write(response);
    peer->respond(requestId_, std::move(message));
  }
  void fault(const ua::Error& error, ua::DateTime wallClock) const {
    ua::ServiceFault fault;
    fault.responseHeader.serviceResult = error.code;
    if (wanted_.ofService && !error.cause.empty())
      fault.responseHeader.serviceDiagnostics.additionalInfo = ua::String(error.cause);
    send(std::move(fault), wallClock);
  }
  WantedDiagnostics wanted() const { return wanted_; }
  /// False when the client's connection has ended: what is sent would be lost.
  bool isDeliverable() const { return !peer_.expired(); }

 private:
  std::weak_ptr<Peer> peer_;
  std::uint32_t requestId_;
  std::uint32_t handle_;
  WantedDiagnostics wanted_;
};

/// Collects operation-level diagnostics: nothing unless they were asked for and there is something to tell.
class OperationDiagnostics {
 public:
  explicit OperationDiagnostics(WantedDiagnostics wanted) : wanted_(wanted.ofOperations) {}
  void note(std::size_t operation, const std::string& cause) {
    if (!wanted_ || cause.empty()) return;
    if (infos_.size() <= operation) infos_.resize(operation + 1);
    infos_[operation].additionalInfo = ua::String(cause);
  }
  /// One entry for each of `operations`, or an empty list.
  ua::List<ua::DiagnosticInfo> take(std::size_t operations) {
    if (!infos_.empty()) infos_.resize(operations);
    return std::move(infos_);
  }

 private:
  bool wanted_;
  ua::List<ua::DiagnosticInfo> infos_;
};

/// Collects the results of a request's operations, some of which end later; the answer leaves with the last of them.
template <class Response, class Item>
class Gathering {
 public:
  Gathering(Reply reply, std::size_t operations, std::function<ua::DateTime()> wallClock)
      : reply_(std::move(reply)),
        wallClock_(std::move(wallClock)),
        diagnostics_(reply_.wanted()),
        results_(operations),
        left_(operations) {}
  /// Once for each operation.
  void set(std::size_t operation, Item result, const std::string& cause) {
    results_[operation] = std::move(result);
    diagnostics_.note(operation, cause);
    if (--left_) return;
    Response response;
    const std::size_t operations = results_.size();
    response.results = std::move(results_);
    response.diagnosticInfos = diagnostics_.take(operations);
    reply_.send(std::move(response), wallClock_());
  }

 private:
  Reply reply_;
  std::function<ua::DateTime()> wallClock_;
  OperationDiagnostics diagnostics_;
  std::vector<Item> results_;
  std::size_t left_;
};

}  // namespace zunth::server
