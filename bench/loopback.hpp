#pragma once

#include "core/channel/client_channel.hpp"
#include "core/space/namespace0.hpp"
#include "service/endpoint/listener.hpp"
#include "service/server/server.hpp"

#include <future>
#include <thread>

#include <boost/asio/io_context.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/read.hpp>
#include <boost/asio/write.hpp>

/// A server on a thread of its own, a bare echo on the same kind of loop, and a client that blocks: what is measured
/// is the server, the floor is the echo of as many octets.
namespace zunth::bench {

namespace asio = net::asio;

/// A space with `count` Double variables "v0", "v1", ... under one object, numeric ids from 1000 in namespace 1.
inline std::unique_ptr<space::Space> spaceWith(int count) {
  auto out = std::make_unique<space::Space>("urn:fernhollow.example:bench");
  space::loadNamespace0(*out);
  space::NewNode parent;
  parent.nodeId = ua::NodeId(1, 999);
  parent.browseName = {1, "Bench"};
  const auto owner = *out->add(parent);
  out->refer(out->at(ua::id::ObjectsFolder), ua::id::Organizes, owner);
  for (int i = 0; i < count; ++i) {
    space::NewNode node;
    node.nodeId = ua::NodeId(1, 1000 + static_cast<std::uint32_t>(i));
    node.nodeClass = ua::NodeClass::Variable;
    node.browseName = {1, ua::String("v" + std::to_string(i))};
    node.traits.dataType = out->at(ua::id::Double);
    node.value = ua::Variant(static_cast<double>(i));
    const auto variable = *out->add(std::move(node));
    out->refer(owner, ua::id::HasComponent, variable);
    out->refer(variable, ua::id::HasTypeDefinition, out->at(ua::id::BaseDataVariableType));
  }
  return out;
}

inline server::Settings openSettings() {
  server::Settings settings;
  settings.allowUnsecured = settings.allowAnonymous = true;
  settings.endpointUrls = {"opc.tcp://127.0.0.1:0"};
  return settings;
}

class LoopThread {
 public:
  LoopThread() : guard_(asio::make_work_guard(loop)), thread_([this] { loop.run(); }) {}
  ~LoopThread() {
    guard_.reset();
    loop.stop();
    thread_.join();
  }
  /// Runs on the loop's thread and waits.
  template <class Work>
  void run(Work work) {
    std::promise<void> done;
    asio::post(loop, [&] {
      work();
      done.set_value();
    });
    done.get_future().wait();
  }
  asio::io_context loop{1};

 private:
  asio::executor_work_guard<asio::io_context::executor_type> guard_;
  std::thread thread_;
};

/// The server, with a clock that can be pushed forward.
class LoopbackServer {
 public:
  explicit LoopbackServer(int variables) : space(spaceWith(variables)) {
    thread_.run([this] {
      auto clock = server::Clock::real();
      clock.now = [this] { return std::chrono::steady_clock::now() + ahead_; };
      server = std::make_unique<server::Server>(*space, openSettings(), clock);
      listener_ = std::make_unique<endpoint::Listener>(thread_.loop, *server);
      url = *listener_->listen("opc.tcp://127.0.0.1:0");
    });
  }
  ~LoopbackServer() {
    thread_.run([this] {
      server->shutdown();
      listener_->stop();
    });
    thread_.run([this] { listener_.reset(); });
  }
  LoopThread& thread() { return thread_; }
  /// Something has changed in the space; on its thread.
  void served() { listener_->served(); }
  void pushClock(ua::Duration by) { ahead_ += by; }

  std::unique_ptr<space::Space> space;
  std::unique_ptr<server::Server> server;
  std::string url;

 private:
  ua::Duration ahead_{};
  std::unique_ptr<endpoint::Listener> listener_;
  LoopThread thread_;
};

/// Answers every message of `requestSize` octets with one of `responseSize`.
class LoopbackEcho {
 public:
  LoopbackEcho(std::size_t requestSize, std::size_t responseSize)
      : acceptor_(thread_.loop, net::Tcp::endpoint(asio::ip::address_v4::loopback(), 0)) {
    acceptor_.async_accept([this, requestSize, responseSize](boost::system::error_code error, net::Tcp::socket socket) {
      if (error) return;
      link_ = std::make_shared<net::TcpLink>(std::move(socket));
      link_->start({[this, requestSize, responseSize](ua::BytesView octets) {
                      for (pending_ += octets.size(); pending_ >= requestSize; pending_ -= requestSize) {
                        std::vector<ua::Bytes> out(1);
                        out[0].resize(responseSize);
                        link_->send(std::move(out));
                      }
                    },
                    {}});
    });
  }
  ~LoopbackEcho() {
    thread_.run([this] {
      if (link_) link_->abandon();
      acceptor_.close();
    });
  }
  std::uint16_t port() const { return acceptor_.local_endpoint().port(); }

 private:
  LoopThread thread_;
  net::Tcp::acceptor acceptor_;
  std::shared_ptr<net::TcpLink> link_;
  std::size_t pending_ = 0;
};

/// A client that waits for each answer. Requests of a kind are encoded once and sent again and again.
class BlockingClient final : public channel::ClientChannel::Handler {
 public:
  explicit BlockingClient(const std::string& url) : socket_(loop_) {
    const auto port = static_cast<std::uint16_t>(std::stoi(url.substr(url.rfind(':') + 1)));
    connect(port);
    channel::ClientChannel::Options options;
    options.endpointUrl = ua::String(url);
    channel_ = std::make_unique<channel::ClientChannel>(options, *this);
    while (!channel_->isOpen()) pump();
    ua::CreateSessionRequest create;
    create.requestedSessionTimeout = 3.6e6;
    token_ = call(create).authenticationToken;
    call(ua::ActivateSessionRequest{});
  }

  template <class Request>
  typename Request::Response call(Request request) {
    send(std::move(request));
    ua::BinaryReader reader(await());
    const auto id = reader.next<ua::NodeId>();
    if (!(id == ua::NodeId(Request::Response::kBinaryId)))
      throw std::runtime_error("the server answered with " + id.text());
    return reader.next<typename Request::Response>();
  }
  /// Sends without waiting.
  template <class Request>
  void send(Request request) {
    request.requestHeader.authenticationToken = token_;
    ua::Bytes message = channel::newMessage();
    ua::BinaryWriter writer(message);
    writer.write(ua::NodeId(Request::kBinaryId));
    writer.write(request);
    if (!channel_->request(std::move(message))) throw std::runtime_error("the channel is closed");
    flush();
  }
  /// The next answer's body, undecoded.
  ua::BytesView await() {
    answered_ = false;
    while (!answered_) pump();
    return body_;
  }

  // ClientChannel::Handler
  void opened() override {}
  void response(std::uint32_t, ua::BytesView body) override {
    body_.assign(body.begin(), body.end());
    answered_ = true;
  }
  void aborted(std::uint32_t, const ua::Error& why) override { throw std::runtime_error(why.text()); }
  void closed(const ua::Error& why) override {
    if (why.code.isBad()) throw std::runtime_error(why.text());
  }

 private:
  void connect(std::uint16_t port) {
    socket_.connect({asio::ip::address_v4::loopback(), port});
    socket_.set_option(net::Tcp::no_delay(true));
  }
  void flush() {
    for (const auto& buffer : channel_->takeOutput()) asio::write(socket_, asio::buffer(buffer.data(), buffer.size()));
  }
  void pump() {
    flush();
    const std::size_t size = socket_.read_some(asio::buffer(input_));
    channel_->feed({input_.data(), size}, std::chrono::steady_clock::now(), ua::DateTime{});
  }

  asio::io_context loop_;
  net::Tcp::socket socket_;
  std::unique_ptr<channel::ClientChannel> channel_;
  ua::NodeId token_;
  std::array<std::byte, 256 * 1024> input_;
  ua::Bytes body_;
  bool answered_ = false;
};

/// The floor: sends as many octets as a request has and waits for as many as its answer has.
class EchoClient {
 public:
  EchoClient(std::uint16_t port, std::size_t requestSize, std::size_t responseSize)
      : socket_(loop_), request_(requestSize), response_(responseSize) {
    socket_.connect({asio::ip::address_v4::loopback(), port});
    socket_.set_option(net::Tcp::no_delay(true));
  }
  void exchange() {
    asio::write(socket_, asio::buffer(request_.data(), request_.size()));
    asio::read(socket_, asio::buffer(response_.data(), response_.size()));
  }

 private:
  asio::io_context loop_;
  net::Tcp::socket socket_;
  ua::Bytes request_, response_;
};

}  // namespace zunth::bench
