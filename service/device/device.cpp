#include "service/device/device.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::device {

using namespace ua;

namespace {

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

void Device::want(std::vector<PointIndex> polled, Duration every) {
  std::lock_guard lock(mutex_);
  every_ = every;
  polled_ = std::move(polled);
}

void Device::put(Job job) {
  {
    std::lock_guard lock(mutex_);
    if (jobs_.size() < kMostJobs) {
      jobs_.push_back(std::move(job));
      wake_.notify_all();
      return;
    }
  }
  job.refuse({status::BadTooManyOperations, fmt::format("{} requests wait for the device {} already", kMostJobs, name_),
              "write less often, or look why it is slow: zunth device"});
}

void Device::write(std::vector<Write> writes, Instant deadline, WritesDone done) {
  {
    std::lock_guard lock(mutex_);
    health_.writes += writes.size();
  }
  const std::size_t count = writes.size();
  put({[this, writes = std::move(writes), done] { return runWrites(writes, done); },
       [count, done](const Error& why) { done(std::vector<Error>(count, why)); }, deadline});
}

void Device::act(Action action, std::map<std::string, Variant> inputs, Instant deadline, Done done) {
  put({[this, action = std::move(action), inputs = std::move(inputs), done] { return runAction(action, inputs, done); },
       [done](const Error& why) {
         done({why, {}});
       },
       deadline});
}

void Device::explain(PointIndex point, Instant deadline, ExplainDone done) {
  put({[this, point, done] {
         auto explained = driver_->explain(point);
         const bool connected = static_cast<bool>(explained);
         if (!connected) disconnected(explained.error());
         if (connected) events_.values({{point, explained->value}});  // so that the node shows this one
         done(connected ? Result<std::vector<Stage>>(std::move(explained->stages)) : explained.error());
         return connected;
       },
       [done](const Error& why) { done(why); }, deadline});
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
    std::optional<Job> job;
    if (!jobs_.empty()) {
      job = std::move(jobs_.front());
      jobs_.pop_front();
    }
    const auto refreshes = std::exchange(refreshes_, {});
    pollsNow_ = polled_;
    const Duration every = every_;
    lock.unlock();
    // What is asked for goes before the beat, and never instead of it: one at a time.
    if (job) work(std::move(*job), connected);
    // One poll serves all who ask for it meanwhile.
    if (connected && !refreshes.empty()) connected = poll(pollsNow_);
    for (const auto& done : refreshes) done();
    if (steady() < next) continue;
    if (!connected) {
      connected = tryToConnect(pause);
      next = steady() + (connected ? Duration::zero() : pause);
      continue;
    }
    connected = poll(pollsNow_);
    // Keep the beat, but don't make up for polls that a slow device missed.
    next = std::max(next + every, steady());
  }
  std::unique_lock lock(mutex_);
  const auto jobs = std::exchange(jobs_, {});
  const auto refreshes = std::exchange(refreshes_, {});
  lock.unlock();
  for (const Job& job : jobs) job.refuse(away());
  for (const auto& done : refreshes) done();
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
    if (points.size() == pollsNow_.size()) lastPoll_ = begin;
    health_.lastRoundTrip = std::chrono::duration<double, std::milli>(steady() - begin).count();
  }
  std::vector<std::pair<PointIndex, DataValue>> batch;
  for (std::size_t i = 0; i < points.size(); ++i) batch.emplace_back(points[i], std::move((*values)[i]));
  events_.values(std::move(batch));
  return true;
}

void Device::work(Job job, bool& connected) {
  if (steady() > job.deadline)
    return job.refuse(
        {status::BadTimeout, "the device " + name_ + " did not get to it in time: nothing was written", {}});
  if (!connected) return job.refuse(away());
  connected = job.run();
}

bool Device::runWrites(const std::vector<Write>& writes, const WritesDone& done) {
  std::vector<Error> outcomes;
  std::vector<PointIndex> touched;
  std::optional<Error> lost;
  for (const auto& [point, value] : writes) {
    auto outcome = lost ? Result<Driver::Outcome>(*lost) : driver_->write(point, value);
    if (!outcome) lost = outcome.error();
    outcomes.push_back(outcome ? outcome->error : outcome.error());
    if (std::ranges::find(touched, point) == touched.end()) touched.push_back(point);
  }
  if (lost) disconnected(*lost);
  // What is shown is the device's own value, so read it before the writer hears that all went well.
  const bool connected = !lost && poll(touched);
  done(std::move(outcomes));
  return connected;
}

bool Device::runAction(const Action& action, const std::map<std::string, Variant>& inputs, const Done& done) {
  auto outcome = driver_->act(action, inputs);
  const bool connected = static_cast<bool>(outcome);
  if (!connected) disconnected(outcome.error());
  done(connected ? std::move(*outcome) : Driver::Outcome{outcome.error(), {}});
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

Error Device::away() const {
  return {status::BadNoCommunication, "the device " + name_ + " does not answer",
          "look at it with: zunth device " + name_};
}

}  // namespace zunth::device
