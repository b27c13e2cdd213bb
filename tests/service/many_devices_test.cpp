// Two hundred devices, of which fifty are dead, silent or talk nonsense: the others keep their beats, also while one is
// added, changed or taken away. The devices count for themselves.

#include <algorithm>
#include <array>
#include <atomic>
#include <mutex>
#include <random>
#include <thread>

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>
#include <netinet/in.h>
#include <sys/epoll.h>
#include <sys/socket.h>

namespace zunth::many_devices_test {

using namespace zunth::test;
using Clock = std::chrono::steady_clock;

namespace {

enum class Manner { Answers, Silent, Nonsense, Dead };

/// Devices behind Modbus TCP, each with a port of its own, all served by one thread.
class Devices {
 public:
  explicit Devices(const std::vector<Manner>& manners) : all_(manners.size()) {
    for (std::size_t i = 0; i < manners.size(); ++i) {
      all_[i].manner = manners[i];
      all_[i].listener = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
      sockaddr_in address{};
      address.sin_family = AF_INET;
      address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
      socklen_t size = sizeof address;
      ::bind(all_[i].listener, reinterpret_cast<sockaddr*>(&address), size);
      ::getsockname(all_[i].listener, reinterpret_cast<sockaddr*>(&address), &size);
      all_[i].port = ntohs(address.sin_port);
      // A port that is bound and listens to nobody refuses, and is nobody else's.
      if (manners[i] == Manner::Dead) continue;
      ::listen(all_[i].listener, 8);
      watch(all_[i].listener, i, true);
    }
    thread_ = std::jthread([this](std::stop_token stop) { run(stop); });
  }
  ~Devices() {
    thread_.request_stop();
    thread_.join();
    for (auto& one : all_) ::close(one.listener);
    for (const int socket : sockets_) ::close(socket);
    ::close(poll_);
  }
  int port(std::size_t i) const { return all_[i].port; }
  /// When it was asked, and how often somebody has connected.
  std::pair<std::vector<Clock::time_point>, int> seen(std::size_t i) {
    const std::lock_guard lock(mutex_);
    return {all_[i].asked, all_[i].connections};
  }
  void forget() {
    const std::lock_guard lock(mutex_);
    for (auto& one : all_) one.asked.clear();
  }

 private:
  struct One {
    Manner manner = Manner::Answers;
    int listener = -1, port = 0, connections = 0;
    std::vector<Clock::time_point> asked;
  };
  void watch(int socket, std::size_t device, bool isListener) {
    epoll_event event{};
    event.events = EPOLLIN;
    event.data.u64 = static_cast<std::uint64_t>(socket) << 32 | device << 1 | (isListener ? 1u : 0u);
    ::epoll_ctl(poll_, EPOLL_CTL_ADD, socket, &event);
  }
  void run(const std::stop_token& stop) {
    std::array<epoll_event, 64> events;
    while (!stop.stop_requested()) {
      const int count = ::epoll_wait(poll_, events.data(), static_cast<int>(events.size()), 50);
      for (int i = 0; i < count; ++i) {
        const auto what = events[static_cast<std::size_t>(i)].data.u64;
        const int socket = static_cast<int>(what >> 32);
        One& device = all_[(what & 0xFFFFFFFF) >> 1];
        if (what & 1) {
          const int one = ::accept4(socket, nullptr, nullptr, SOCK_CLOEXEC | SOCK_NONBLOCK);
          if (one < 0) continue;
          const std::lock_guard lock(mutex_);
          ++device.connections;
          sockets_.push_back(one);
          watch(one, (what & 0xFFFFFFFF) >> 1, false);
        } else {
          answer(socket, device);
        }
      }
    }
  }
  void answer(int socket, One& device) {
    std::array<unsigned char, 512> in{};
    const auto size = ::recv(socket, in.data(), in.size(), 0);
    if (size <= 0) {
      ::epoll_ctl(poll_, EPOLL_CTL_DEL, socket, nullptr);
      return;
    }
    {
      const std::lock_guard lock(mutex_);
      device.asked.push_back(Clock::now());
    }
    if (device.manner == Manner::Silent || size < 12) return;
    std::vector<unsigned char> out;
    if (device.manner == Manner::Nonsense) {
      for (int i = 0; i < 40; ++i) out.push_back(static_cast<unsigned char>(random_()));
    } else {
      const unsigned count = std::min(125u, static_cast<unsigned>(in[10] << 8 | in[11]));
      out = {in[0], in[1], 0,
             0,     0,     static_cast<unsigned char>(3 + 2 * count),
             in[6], in[7], static_cast<unsigned char>(2 * count)};
      for (unsigned i = 0; i < 2 * count; ++i) out.push_back(static_cast<unsigned char>(i));
    }
    (void)::send(socket, out.data(), out.size(), MSG_NOSIGNAL);
  }

  std::vector<One> all_;
  std::vector<int> sockets_;
  std::mutex mutex_;
  std::minstd_rand random_{5};
  int poll_ = ::epoll_create1(EPOLL_CLOEXEC);
  std::jthread thread_;
};

constexpr auto kBeat = std::chrono::milliseconds(500);

/// Those that are of no use are waited for again and again; of the others none is given up while the machine is held
/// up.
std::string deviceFile(int port, bool isUseful = true, const std::string& more = {}) {
  return "driver: modbus-tcp\nhost: 127.0.0.1\nport: " + std::to_string(port) +
         "\nevery: 500 ms\ntimeout: " + (isUseful ? "60 s" : "2 s") + "\npoints:\n  value: holding 0 UInt16\n" + more;
}

}  // namespace

TEST_CASE("fifty devices that are of no use leave a hundred and fifty others their beats", "[plant][devices]") {
  constexpr std::size_t kAll = 200, kBad = 50;
  std::vector<Manner> manners(kAll, Manner::Answers);
  for (std::size_t i = 0; i < kBad; ++i)
    manners[4 * i] = i % 3 == 0 ? Manner::Dead : i % 3 == 1 ? Manner::Silent : Manner::Nonsense;
  Devices devices(manners);
  TemporaryFolder folder;
  folder.write(
      "site/site.yaml",
      "name: Test\nuri: urn:fernhollow.example:many\nendpoint: opc.tcp://127.0.0.1:0\nsecurity:\n  unsecured: on\n"
      "  anonymous: on\n");
  folder.write("site/model/plant.yaml",
               "namespace: http://fernhollow.example/many\nobjects:\n  Plant:\n    \"D{1..200}\": UInt16\n");
  const auto bind = [&](const std::string& third) {
    std::string text = "bindings:\n";
    for (std::size_t i = 1; i <= kAll; ++i) {
      const std::string name = "D" + std::to_string(i);
      text += "  Plant/" + name + ": " + (i == 3 ? third : name) + "/value\n";
    }
    folder.write("site/bindings/all.yaml", text);
  };
  bind("D3");
  for (std::size_t i = 0; i < kAll; ++i)
    folder.write("site/devices/D" + std::to_string(i + 1) + ".yaml",
                 deviceFile(devices.port(i), manners[i] == Manner::Answers));
  const auto zunth = [&](const std::string& words) { return run(program("zunth") + " " + words, folder.path); };
  const auto checked = zunth("check site");
  INFO(checked.out);
  REQUIRE(checked.code == 0);
  Process service({program("zunthd"), (folder.path / "site").string(), "--log", "off"});
  const std::string line = service.line();
  const std::string url = line.substr(line.find("opc.tcp"));
  const auto good = [&](auto visit) {
    for (std::size_t i = 0; i < kAll; ++i)
      if (manners[i] == Manner::Answers) visit(i);
  };
  // All that can answer have been asked.
  const auto begun = Clock::now();
  for (bool isThere = false; !isThere;) {
    REQUIRE(Clock::now() - begun < std::chrono::seconds(60));
    isThere = true;
    good([&](std::size_t i) { isThere &= devices.seen(i).first.size() >= 2; });
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  /// The longest that any of those waited between two beats, and how many beats the slowest and the middle one had.
  const auto beats = [&](const std::vector<std::size_t>& leftOut) {
    Clock::duration longest{};
    std::vector<std::size_t> counts;
    good([&](std::size_t i) {
      if (std::ranges::find(leftOut, i) != leftOut.end()) return;
      const auto asked = devices.seen(i).first;
      counts.push_back(asked.size());
      for (std::size_t k = 1; k < asked.size(); ++k) longest = std::max(longest, asked[k] - asked[k - 1]);
    });
    std::ranges::sort(counts);
    return std::tuple(longest, counts.front(), counts[counts.size() / 2]);
  };
  constexpr int kCounted = 12;
  const auto let = [&](int count) {
    devices.forget();
    const auto end = Clock::now() + count * kBeat;
    while (Clock::now() < end) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  };
  let(kCounted);
  const auto [longest, fewest, middle] = beats({});
  INFO("longest " << longest.count() / 1'000'000 << " ms, fewest " << fewest << ", in the middle " << middle);
  // Within a tenth of one another, but for beats at the edges; a machine that is held up itself holds up all alike.
  CHECK(fewest * 10 + 20 >= middle * 9);
  CHECK(middle >= kCounted / 2);
  const auto values = zunth("read 'Plant/*' --output csv --at " + url);
  CHECK(std::ranges::count(values.out, '\n') >= static_cast<long>(kAll));
  std::size_t goods = 0;
  for (std::size_t at = values.out.find(",Good,"); at != std::string::npos; at = values.out.find(",Good,", at + 1))
    ++goods;
  CHECK(goods == kAll - kBad);

  // One is changed, one taken away, one added: nobody else notices.
  folder.write("site/devices/D2.yaml", deviceFile(devices.port(1), true, "  other: holding 1 UInt16\n"));
  std::filesystem::remove(folder.path / "site/devices/D3.yaml");
  bind("E1");
  folder.write("site/devices/E1.yaml", deviceFile(devices.port(2)));
  devices.forget();
  const auto applied = zunth("apply --site site");
  INFO(applied.out << applied.error);
  REQUIRE(applied.code == 0);
  const auto end = Clock::now() + 4 * kBeat;
  while (Clock::now() < end) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  const std::vector<std::size_t> touched{1, 2};
  const auto [longestThen, fewestThen, middleThen] = beats(touched);
  INFO("then: longest " << longestThen.count() / 1'000'000 << " ms, fewest " << fewestThen << ", in the middle "
                        << middleThen);
  CHECK(longestThen < std::max(3 * longest, Clock::duration(3 * kBeat)));
  good([&](std::size_t i) {
    if (std::ranges::find(touched, i) != touched.end()) return;
    INFO("D" << i + 1);
    CHECK(devices.seen(i).second == 1);
  });
}

}  // namespace zunth::many_devices_test
