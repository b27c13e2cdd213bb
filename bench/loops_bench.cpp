// How the server grows with the threads that serve its connections, beside how the ciphers alone do.
#include "core/secure/asymmetric.hpp"
#include "core/secure/key_exchange.hpp"
#include "service/server/random.hpp"

#include <barrier>

#include "bench/loopback.hpp"
#include <benchmark/benchmark.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::bench;

namespace {

constexpr int kClients = 16, kValues = 1'000, kReads = 200;  // of each client, sealed before

std::shared_ptr<const secure::Identity> someone(const char* uri) {
  const auto key = secure::PrivateKey::generate(secure::KeyKind::Rsa);
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  return std::make_shared<const secure::Identity>(secure::Identity{
      secure::Certificate::selfSigned({"Fernhollow", "", uri, {"localhost"}, now, {now.ticks + 864'000'000'000}}, key),
      key});
}

/// A server whose connections are served by several threads.
class ThreadedServer {
 public:
  explicit ThreadedServer(int threads)
      : space_(spaceWith(kValues)), loop_(threads), loops_(loop_), guard_(asio::make_work_guard(loop_)) {
    auto settings = openSettings();
    settings.allowUnsecured = false;
    settings.applicationUri = "urn:fernhollow.example:bench";
    settings.identities = identity = someone("urn:fernhollow.example:bench");
    settings.trust = [](const ByteString&) { return Result<void>(); };
    server_ = std::make_unique<server::Server>(*space_, settings);
    listener_ = std::make_unique<endpoint::Listener>(loops_, *server_);
    url = *listener_->listen("opc.tcp://127.0.0.1:0");
    for (int i = 0; i < threads; ++i) threads_.emplace_back([this] { loop_.run(); });
  }
  ~ThreadedServer() {
    loop_.stop();
    threads_.clear();
    listener_.reset();
  }
  std::shared_ptr<const secure::Identity> identity;
  std::string url;

 private:
  std::unique_ptr<space::Space> space_;
  asio::io_context loop_;
  net::Loops loops_;
  asio::executor_work_guard<asio::io_context::executor_type> guard_;
  std::unique_ptr<server::Server> server_;
  std::unique_ptr<endpoint::Listener> listener_;
  std::vector<std::jthread> threads_;
};

/// A client that costs little while it is measured: what it sends was sealed before, what it gets it doesn't open.
class ThriftyClient final : public channel::ClientChannel::Handler {
 public:
  ThriftyClient(const ThreadedServer& server, std::shared_ptr<const secure::Identity> identity) : socket_(loop_) {
    const auto port = static_cast<std::uint16_t>(std::stoi(server.url.substr(server.url.rfind(':') + 1)));
    socket_.connect({asio::ip::address_v4::loopback(), port});
    socket_.set_option(net::Tcp::no_delay(true));
    channel::ClientChannel::Options options;
    options.endpointUrl = String(server.url);
    options.policy = secure::policyNamed("Basic256Sha256");
    options.mode = MessageSecurityMode::SignAndEncrypt;
    options.identity = std::move(identity);
    options.server = server.identity->certificate;
    options.random = [](std::size_t size) { return server::randomOctets(size); };
    channel_ = std::make_unique<channel::ClientChannel>(options, *this);
    while (!channel_->isOpen()) pump();
    CreateSessionRequest create;
    create.clientDescription.applicationUri = "urn:fernhollow.example:client";
    create.clientCertificate = options.identity->chain();
    create.clientNonce = server::randomOctets(32);
    create.requestedSessionTimeout = 3.6e6;
    const auto created = call<CreateSessionResponse>(create);
    token_ = created.authenticationToken;
    ActivateSessionRequest activate;
    Bytes octets;
    for (const auto& part : {server.identity->certificate.der(), created.serverNonce}) {
      const auto bytes = part.bytes();
      octets.insert(octets.end(), bytes.begin(), bytes.end());
    }
    activate.clientSignature = {String(options.policy->signatureUri),
                                secure::sign(*options.policy, options.identity->key, octets)};
    call<ActivateSessionResponse>(activate);
  }
  /// Seals as many reads as will be sent; the first time it finds out how many octets an answer has.
  void prepare() {
    ReadRequest request;
    request.timestampsToReturn = TimestampsToReturn::Both;
    for (std::uint32_t i = 0; i < kValues; ++i) request.nodesToRead.push_back({NodeId(1, 1000 + i), 13, {}, {}});
    if (octets_ == 0) {
      send(request);
      flush();
      answered_ = false;
      received_ = 0;
      while (!answered_) pump();
      octets_ = received_;
    }
    sealed_.clear();
    for (int i = 0; i < kReads; ++i) {
      send(request);
      sealed_.push_back(channel_->takeOutput());
    }
    next_ = 0;
  }
  void ask() {
    for (const auto& buffer : sealed_[next_]) asio::write(socket_, asio::buffer(buffer.data(), buffer.size()));
    ++next_;
  }
  void drop() {
    for (std::size_t left = octets_; left > 0;) left -= socket_.read_some(asio::buffer(input_, left));
  }

  void opened() override {}
  void response(std::uint32_t, BytesView body) override {
    body_.assign(body.begin(), body.end());
    answered_ = true;
  }
  void aborted(std::uint32_t, const Error& why) override { throw std::runtime_error(why.text()); }
  void closed(const Error& why) override {
    if (why.code.isBad()) throw std::runtime_error(why.text());
  }

 private:
  template <class Request>
  void send(Request request) {
    request.requestHeader.authenticationToken = token_;
    Bytes message = channel::newMessage();
    BinaryWriter writer(message);
    writer.write(NodeId(Request::kBinaryId));
    writer.write(request);
    if (!channel_->request(std::move(message))) throw std::runtime_error("the channel is closed");
  }
  template <class Response, class Request>
  Response call(const Request& request) {
    send(request);
    answered_ = false;
    while (!answered_) pump();
    BinaryReader reader(body_);
    if (!(reader.next<NodeId>() == NodeId(Response::kBinaryId))) throw std::runtime_error("the server refuses");
    return reader.next<Response>();
  }
  void flush() {
    for (const auto& buffer : channel_->takeOutput()) asio::write(socket_, asio::buffer(buffer.data(), buffer.size()));
  }
  void pump() {
    flush();
    const std::size_t size = socket_.read_some(asio::buffer(input_));
    received_ += size;
    channel_->feed({input_.data(), size}, std::chrono::steady_clock::now(), DateTime{});
  }

  asio::io_context loop_;
  net::Tcp::socket socket_;
  std::unique_ptr<channel::ClientChannel> channel_;
  NodeId token_;
  std::array<std::byte, 256 * 1024> input_;
  Bytes body_;
  bool answered_ = false;
  std::size_t received_ = 0, octets_ = 0;  // of an answer
  std::vector<std::vector<Bytes>> sealed_;
  std::size_t next_ = 0;
};

/// Signed and encrypted reads of 1000 values by 16 clients, each of which waits for its answer.
void readTogether(benchmark::State& state) {
  ThreadedServer server(static_cast<int>(state.range(0)));
  const auto identity = someone("urn:fernhollow.example:client");
  std::vector<std::unique_ptr<ThriftyClient>> clients;
  for (int i = 0; i < kClients; ++i) clients.push_back(std::make_unique<ThriftyClient>(server, identity));
  int left = 0;
  for (auto _ : state) {
    if (left == 0) {
      state.PauseTiming();
      for (auto& client : clients) client->prepare();
      left = kReads;
      state.ResumeTiming();
    }
    --left;
    for (auto& client : clients) client->ask();
    for (auto& client : clients) client->drop();
  }
  state.SetItemsProcessed(state.iterations() * kClients * kValues);
}
BENCHMARK(readTogether)
    ->Name("loops/16 clients read 1000 values, signed and encrypted; threads")
    ->Arg(1)
    ->Arg(2)
    ->UseRealTime();

/// What the machine gives at most: the ciphers of such answers and requests alone, on as many threads.
void cipherTogether(benchmark::State& state) {
  const auto threads = static_cast<std::size_t>(state.range(0));
  constexpr int kMessages = 32;  // 16 requests, 16 answers
  const auto cipher = [](std::size_t messages) {
    std::vector<unsigned char> data(24'000), key(32, 1), start(16, 2);
    EVP_CIPHER_CTX* aes = EVP_CIPHER_CTX_new();
    EVP_EncryptInit_ex(aes, EVP_aes_256_cbc(), nullptr, key.data(), start.data());
    EVP_CIPHER_CTX_set_padding(aes, 0);
    unsigned char digest[32];
    unsigned length = 0;
    int size = 0;
    for (std::size_t i = 0; i < messages; ++i) {
      HMAC(EVP_sha256(), key.data(), 32, data.data(), data.size(), digest, &length);
      EVP_EncryptUpdate(aes, data.data(), &size, data.data(), static_cast<int>(data.size()));
    }
    EVP_CIPHER_CTX_free(aes);
  };
  std::barrier begin(static_cast<std::ptrdiff_t>(threads) + 1), end(static_cast<std::ptrdiff_t>(threads) + 1);
  std::atomic<bool> isOver = false;
  std::vector<std::jthread> others;
  for (std::size_t i = 0; i < threads; ++i)
    others.emplace_back([&] {
      while (true) {
        begin.arrive_and_wait();
        if (isOver) return;
        cipher(kMessages / threads);
        end.arrive_and_wait();
      }
    });
  for (auto _ : state) {
    begin.arrive_and_wait();
    end.arrive_and_wait();
  }
  isOver = true;
  begin.arrive_and_wait();
  state.SetItemsProcessed(state.iterations() * kClients * kValues);
}
BENCHMARK(cipherTogether)
    ->Name("loops/floor: the ciphers of these messages alone; threads")
    ->Arg(1)
    ->Arg(2)
    ->UseRealTime();

}  // namespace
