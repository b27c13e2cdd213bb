#include "service/device/device.hpp"

#include <algorithm>

#include <spdlog/spdlog.h>

namespace zunth::device {

using namespace ua;

namespace {

DateTime wallClock() { return DateTime::from(std::chrono::system_clock::now()); }
Instant steady() { return std::chrono::steady_clock::now(); }

}  // namespace

Device::Device(std::string name, std::unique_ptr<Driver> driver, Duration every, std::vector<PointIndex> polled,
               Events events)
    : name_(std::move(name)),
      driver_(std::move(driver)),
      every_(every),
      polled_(std::move(polled)),
      events_(std::move(events)) {
  health_.since = wallClock();
}

Device::~Device() { stop(); }

void Device::start() {
  thread_ = std::jthread([this](const std::stop_token& token) { run(token); });
}

void Device::stop() {
  if (!thread_.joinable()) return;
  thread_.request_stop();
  thread_.join();
}

Health Device::health() const {
  std::lock_guard lock(mutex_);
  return health_;
}

void Device::write(PointIndex point, Variant value, Done done) {
  std::lock_guard lock(mutex_);
  ++health_.writes;
  jobs_.push_back({[point, value = std::move(value)](Driver& driver) { return driver.write(point, value); },
                   std::move(done), point});
  wake_.notify_all();
}

void Device::act(Action action, std::map<std::string, Variant> inputs, Done done) {
  std::lock_guard lock(mutex_);
  jobs_.push_back(
      {[action = std::move(action), inputs = std::move(inputs)](Driver& driver) { return driver.act(action, inputs); },
       std::move(done),
       {}});
  wake_.notify_all();
}

void Device::refresh(std::function<void()> done) {
  std::lock_guard lock(mutex_);
  refreshes_.push_back(std::move(done));
  wake_.notify_all();
}

bool Device::isOlderThan(Duration age) const {
  std::lock_guard lock(mutex_);
  return health_.isConnected && steady() - lastPoll_ > age;
}

void Device::run(const std::stop_token& stop) {
  Duration pause = kFirstPause;
  bool connected = false;
  Instant next = steady();
  while (!stop.stop_requested()) {
    std::unique_lock lock(mutex_);
    wake_.wait_until(lock, stop, next, [this] { return !jobs_.empty() || !refreshes_.empty(); });
    if (stop.stop_requested()) break;
    std::deque<Job> jobs = std::exchange(jobs_, {});
    const auto refreshes = std::exchange(refreshes_, {});
    lock.unlock();
    for (Job& job : jobs) {
      if (!connected)
        refuse(job);
      else
        connected = work(std::move(job));
    }
    // One poll serves all who ask for it meanwhile.
    if (connected && !refreshes.empty()) connected = poll(polled_);
    for (const auto& done : refreshes) done();
    if (steady() < next) continue;
    if (!connected) {
      connected = tryToConnect(pause);
      next = steady() + (connected ? Duration::zero() : pause);
      continue;
    }
    connected = poll(polled_);
    // Keep the beat, but don't make up for polls that a slow device missed.
    next = std::max(next + every_, steady());
  }
  std::lock_guard lock(mutex_);
  for (Job& job : jobs_) refuse(job);
  jobs_.clear();
  for (const auto& done : std::exchange(refreshes_, {})) done();
  driver_->disconnect();
}

bool Device::tryToConnect(Duration& pause) {
  auto outcome = driver_->connect();
  const DateTime when = wallClock();
  if (!outcome) {
    bool isNews = false;
    {
      std::lock_guard lock(mutex_);
      ++health_.failures;
      isNews = health_.lastError.cause != outcome.error().cause;
      health_.lastError = outcome.error();
    }
    if (isNews) {
      spdlog::warn("device {}: {}", name_, outcome.error().cause);
      events_.connection(false, when, outcome.error());
    }
    pause = std::min<Duration>(pause * 2, kLongestPause);
    return false;
  }
  pause = kFirstPause;
  {
    std::lock_guard lock(mutex_);
    health_.isConnected = true;
    health_.since = when;
    health_.lastError = {status::Good, {}, {}};
  }
  spdlog::info("device {}: connected", name_);
  events_.connection(true, when, {status::Good, {}, {}});
  return true;
}

bool Device::poll(std::span<const PointIndex> points) {
  if (points.empty()) return true;
  const Instant begin = steady();
  auto values = driver_->read(points);
  if (!values) {
    disconnected(values.error());
    return false;
  }
  {
    std::lock_guard lock(mutex_);
    ++health_.polls;
    if (points.size() == polled_.size()) lastPoll_ = begin;
    health_.lastRoundTrip = std::chrono::duration<double, std::milli>(steady() - begin).count();
  }
  std::vector<std::pair<PointIndex, DataValue>> batch;
  for (std::size_t i = 0; i < points.size(); ++i) batch.emplace_back(points[i], std::move((*values)[i]));
  events_.values(std::move(batch));
  return true;
}

bool Device::work(Job job) {
  auto outcome = job.run(*driver_);
  if (!outcome) {
    disconnected(outcome.error());
    job.done({outcome.error(), {}});
    return false;
  }
  bool connected = true;
  // What is shown is the device's own value, so read it before the writer hears that all went well.
  if (job.readBack) connected = poll(std::span(&*job.readBack, 1));
  job.done(std::move(*outcome));
  return connected;
}

void Device::disconnected(const Error& why) {
  driver_->disconnect();
  const DateTime when = wallClock();
  {
    std::lock_guard lock(mutex_);
    health_.isConnected = false;
    health_.since = when;
    ++health_.failures;
    health_.lastError = why;
  }
  spdlog::warn("device {}: {}", name_, why.cause);
  events_.connection(false, when, why);
}

void Device::refuse(Job& job) {
  job.done({{status::BadNoCommunication, "the device " + name_ + " does not answer", {}}, {}});
}

}  // namespace zunth::device
