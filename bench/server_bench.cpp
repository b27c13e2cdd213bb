// The server over loopback, beside a bare echo of the same octets on the same kind of event loop.
#include "core/space/browse.hpp"

#include "bench/loopback.hpp"
#include <benchmark/benchmark.h>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::bench;

namespace {

ReadRequest readRequest(int values) {
  ReadRequest request;
  request.timestampsToReturn = TimestampsToReturn::Both;
  for (int i = 0; i < values; ++i)
    request.nodesToRead.push_back({NodeId(1, 1000 + static_cast<std::uint32_t>(i)), 13, {}, {}});
  return request;
}

/// Octets of a message on the wire, headers of its chunks included.
std::size_t wireSize(std::size_t body) { return body + 24 * ((body + 65511) / 65512); }

std::size_t requestSize(const ReadRequest& request) { return wireSize(encode(request).size() + 4 + 32); }

void readFloor(benchmark::State& state) {
  const int values = static_cast<int>(state.range(0));
  LoopbackServer server(values);
  BlockingClient client(server.url);
  client.send(readRequest(values));
  const std::size_t answer = wireSize(client.await().size());
  LoopbackEcho echo(requestSize(readRequest(values)), answer);
  EchoClient floor(echo.port(), requestSize(readRequest(values)), answer);
  for (auto _ : state) floor.exchange();
  state.SetItemsProcessed(state.iterations() * values);
}
BENCHMARK(readFloor)->Name("loopback/floor: echo of a Read's octets, values")->Arg(1)->Arg(1000)->UseRealTime();

void readValues(benchmark::State& state) {
  const int values = static_cast<int>(state.range(0));
  LoopbackServer server(values);
  BlockingClient client(server.url);
  const ReadRequest request = readRequest(values);
  for (auto _ : state) {
    client.send(request);
    benchmark::DoNotOptimize(client.await());
  }
  state.SetItemsProcessed(state.iterations() * values);
}
BENCHMARK(readValues)->Name("loopback/Read, values")->Arg(1)->Arg(1000)->UseRealTime();

/// The server's own work for a request, without sockets.
class Sink final : public server::Peer {
 public:
  void respond(std::uint32_t, Bytes message) override { last = std::move(message); }
  std::uint32_t channelId() const override { return 1; }
  const channel::ChannelSecurity& security() const override { return security_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return "bench"; }
  template <class Response>
  Response answer() const {
    BinaryReader reader(BytesView(last).subspan(channel::kHeadroom));
    reader.next<NodeId>();
    return reader.next<Response>();
  }
  Bytes last;

 private:
  channel::ChannelSecurity security_;
  server::Entrance entrance_;
};

template <class Request>
Bytes bodyOf(const Request& request) {
  Bytes body;
  BinaryWriter writer(body);
  writer.write(NodeId(Request::kBinaryId));
  writer.write(request);
  return body;
}

NodeId openSession(server::Server& server, const std::shared_ptr<Sink>& sink) {
  CreateSessionRequest create;
  create.requestedSessionTimeout = 3.6e6;
  server.handle(sink, 1, bodyOf(create));
  ActivateSessionRequest activate;
  activate.requestHeader.authenticationToken = sink->answer<CreateSessionResponse>().authenticationToken;
  server.handle(sink, 2, bodyOf(activate));
  return activate.requestHeader.authenticationToken;
}

void serveRead(benchmark::State& state) {
  auto space = spaceWith(1000);
  server::Server server(*space, openSettings());
  auto sink = std::make_shared<Sink>();
  ReadRequest request = readRequest(1000);
  request.requestHeader.authenticationToken = openSession(server, sink);
  const Bytes body = bodyOf(request);
  for (auto _ : state) server.handle(sink, 3, body);
  state.SetItemsProcessed(state.iterations() * 1000);
}
BENCHMARK(serveRead)->Name("server/Read 1000 values, no sockets");

void serveBrowse(benchmark::State& state) {
  auto space = spaceWith(1000);
  server::Server server(*space, openSettings());
  auto sink = std::make_shared<Sink>();
  BrowseRequest request;
  request.requestHeader.authenticationToken = openSession(server, sink);
  request.nodesToBrowse.push_back({NodeId(1, 999), BrowseDirection::Forward, id::HierarchicalReferences, true, 0, 63});
  const Bytes body = bodyOf(request);
  for (auto _ : state) server.handle(sink, 3, body);
  state.SetItemsProcessed(state.iterations() * 1000);
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(sink->last.size()));
}
BENCHMARK(serveBrowse)->Name("server/Browse 1000 children, no sockets");

void browseFloor(benchmark::State& state) {
  auto space = spaceWith(1000);
  BrowseResponse response;
  response.results.push_back({});
  response.results[0].references =
      space::browse(*space, {NodeId(1, 999), BrowseDirection::Forward, id::HierarchicalReferences, true, 0, 63}, 0)
          .references;
  const Bytes octets = encode(response);
  Bytes to(octets.size());
  for (auto _ : state) {
    std::memcpy(to.data(), octets.data(), octets.size());
    benchmark::ClobberMemory();
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(octets.size()));
}
BENCHMARK(browseFloor)->Name("server/floor: memcpy of a Browse response of 1000 children");

constexpr int kItems = 10'000;

/// As many as one request may ask for.
CreateMonitoredItemsRequest watch(std::uint32_t subscription, std::uint32_t from) {
  CreateMonitoredItemsRequest request;
  request.subscriptionId = subscription;
  request.timestampsToReturn = TimestampsToReturn::Both;
  for (std::uint32_t i = from; i < from + 1'000; ++i) {
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {NodeId(1, 1000 + i), 13, {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters.clientHandle = i;
    item.requestedParameters.queueSize = 1;
    item.requestedParameters.discardOldest = true;
    request.itemsToCreate.push_back(std::move(item));
  }
  return request;
}

void monitorItems(benchmark::State& state) {
  LoopbackServer server(kItems);
  BlockingClient client(server.url);
  CreateSubscriptionRequest create;
  create.requestedPublishingInterval = 6e5;  // only when the clock is pushed
  create.requestedMaxKeepAliveCount = 1000;
  create.requestedLifetimeCount = 100'000;
  create.publishingEnabled = true;
  const auto subscription = client.call(create).subscriptionId;
  for (std::uint32_t from = 0; from < kItems; from += 1'000) client.call(watch(subscription, from));
  double number = 0;
  std::size_t octets = 0;
  for (auto _ : state) {
    PublishRequest publish;
    client.send(publish);
    server.thread().run([&] {
      number += 1;
      const DateTime now = DateTime::from(std::chrono::system_clock::now());
      for (std::uint32_t i = 0; i < kItems; ++i)
        server.space->setValue(server.space->find(NodeId(1, 1000 + i)), DataValue(Variant(number), now));
      server.pushClock(std::chrono::seconds(601));
      server.server->tick();
    });
    octets = client.await().size();
    // They come in messages of a quarter of a megabyte.
    int messages = 1;
    for (; octets < kItems * 25 && messages < 10; ++messages) {
      client.send(PublishRequest{});
      octets += client.await().size();
    }
    if (messages == 10) state.SkipWithError("the changes did not come");
  }
  state.SetItemsProcessed(state.iterations() * kItems);
  state.counters["octets"] = static_cast<double>(octets);
}
BENCHMARK(monitorItems)->Name("loopback/10000 monitored items change and are published")->UseRealTime();

void monitorFloor(benchmark::State& state) {
  const auto octets = static_cast<std::size_t>(state.range(0));
  LoopbackEcho echo(100, octets);
  EchoClient floor(echo.port(), 100, octets);
  for (auto _ : state) floor.exchange();
  state.SetItemsProcessed(state.iterations() * kItems);
}
BENCHMARK(monitorFloor)->Name("loopback/floor: echo of that Publish response's octets")->Arg(300'000)->UseRealTime();

}  // namespace
