#include "service/device/polled.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

namespace {

Instant steadyNow() { return std::chrono::steady_clock::now(); }

}  // namespace

std::vector<DevicePoint> Driver::remember(const std::vector<Discovered>&) { return {}; }
std::vector<DevicePoint> Station::remember(const std::vector<Discovered>&) { return {}; }
std::vector<DevicePoint> Station::takeDiscovered() { return {}; }

Polled::Polled(std::string name, std::unique_ptr<Station> station)
    : name_(std::move(name)), station_(std::move(station)) {}

Polled::~Polled() {
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
}

void Polled::start(Sink& sink) {
  sink_ = &sink;
  thread_ = std::jthread([this](const std::stop_token& token) { run(token); });
}

void Polled::stop(std::function<void()> done) {
  if (!thread_.joinable()) return done();
  {
    const std::lock_guard lock(mutex_);
    stopped_ = std::move(done);
  }
  thread_.request_stop();
}

Figures Polled::figures() const {
  const std::lock_guard lock(mutex_);
  return figures_;
}

void Polled::want(std::vector<Wish> wishes) {
  const std::lock_guard lock(mutex_);
  wishes_ = std::move(wishes);
  wake_.notify_all();
}

void Polled::put(Job job) {
  {
    const std::lock_guard lock(mutex_);
    if (jobs_.size() < kMostJobs) {
      jobs_.push_back(std::move(job));
      wake_.notify_all();
      return;
    }
  }
  job.refuse({status::BadTooManyOperations, fmt::format("{} requests wait for the device {} already", kMostJobs, name_),
              "write less often, or look why it is slow: zunth device"});
}

void Polled::write(std::vector<PointWrite> writes, Instant deadline, WritesDone done) {
  const std::size_t count = writes.size();
  put({[this, writes = std::move(writes), done] { return runWrites(writes, done); },
       [count, done](const Error& why) { done(std::vector<Error>(count, why)); }, deadline});
}

void Polled::act(std::vector<Step> steps, Instant deadline, ActDone done) {
  put({[this, steps = std::move(steps), done] { return runSteps(steps, done); },
       [done](const Error& why) { done(why); }, deadline});
}

void Polled::refresh(std::vector<PointIndex> points, Instant deadline, std::function<void()> done) {
  const std::lock_guard lock(mutex_);
  refreshes_.push_back({std::move(points), deadline, std::move(done)});
  wake_.notify_all();
}

void Polled::run(const std::stop_token& stop) {
  while (!stop.stop_requested()) {
    std::unique_lock lock(mutex_);
    // One that sends by itself is listened to instead.
    const bool listens = isConnected_ && station_->sendsByItself() && steadyNow() >= listensAt_;
    if (!listens)
      wake_.wait_until(lock, stop, nextDue(), [this] { return !jobs_.empty() || !refreshes_.empty() || wishes_; });
    if (stop.stop_requested()) break;
    takeWishes();
    std::optional<Job> job;
    if (!jobs_.empty()) {
      job = std::move(jobs_.front());
      jobs_.pop_front();
    }
    auto refreshes = std::exchange(refreshes_, {});
    lock.unlock();
    if (job) work(std::move(*job));
    serve(std::move(refreshes));
    if (!isConnected_ && steadyNow() >= triesAt_) tryToConnect();
    if (isConnected_) keepBeats();
    if (listens && isConnected_) listen();
  }
  station_->disconnect();
  std::unique_lock lock(mutex_);
  const auto jobs = std::exchange(jobs_, {});
  const auto refreshes = std::exchange(refreshes_, {});
  const auto stopped = std::exchange(stopped_, {});
  lock.unlock();
  for (const Job& job : jobs) job.refuse(away());
  for (const auto& refresh : refreshes) refresh.done();
  if (stopped) stopped();
}

/// Beats by their lengths; one that goes on keeps its time. Under the mutex.
void Polled::takeWishes() {
  if (!wishes_) return;
  const auto before = std::exchange(beats_, {});
  const auto wishes = std::move(*wishes_);
  wishes_.reset();
  for (const auto& wish : wishes) {
    auto beat = std::ranges::find(beats_, wish.every, &Beat::every);
    if (beat == beats_.end()) {
      const auto same = std::ranges::find(before, wish.every, &Beat::every);
      beats_.push_back({wish.every, {}, same == before.end() ? Instant() : same->next});
      beat = std::prev(beats_.end());
    }
    beat->points.push_back(wish.point);
  }
}

Instant Polled::nextDue() const {
  if (!isConnected_) return triesAt_;
  Instant next = steadyNow() + std::chrono::seconds(60);
  if (listensAt_ > steadyNow()) next = std::min(next, listensAt_);
  for (const auto& beat : beats_) next = std::min(next, beat.next);
  return next;
}

void Polled::work(Job job) {
  if (steadyNow() > job.deadline)
    return job.refuse(
        {status::BadTimeout, "the device " + name_ + " did not get to it in time: nothing was written", {}});
  if (!isConnected_) return job.refuse(away());
  job.run();
}

/// One poll serves all who ask for it meanwhile.
void Polled::serve(std::vector<Refresh> refreshes) {
  std::vector<PointIndex> points;
  for (const auto& refresh : refreshes)
    if (steadyNow() <= refresh.deadline) points.insert(points.end(), refresh.points.begin(), refresh.points.end());
  std::ranges::sort(points);
  points.erase(std::unique(points.begin(), points.end()), points.end());
  if (isConnected_ && !points.empty()) poll(points);
  for (const auto& refresh : refreshes) refresh.done();
}

void Polled::keepBeats() {
  for (auto& beat : beats_) {
    const Instant begun = steadyNow();
    if (begun < beat.next) continue;
    if (beat.next == Instant()) beat.next = begun;  // its first
    if (!poll(beat.points)) return;
    // Keep the beat, but don't make up for polls that a slow device missed.
    beat.next = std::max(beat.next + beat.every, steadyNow());
  }
}

/// Brings what the device sent by itself.
void Polled::listen() {
  constexpr Duration kLongest = std::chrono::milliseconds(20);  // that a write waits for it
  Duration patience = std::clamp<Duration>(nextDue() - steadyNow(), Duration::zero(), kLongest);
  {
    const std::lock_guard lock(mutex_);
    if (!jobs_.empty() || !refreshes_.empty() || wishes_) patience = Duration::zero();
  }
  auto came = station_->listen(patience);
  if (!came) return lost(came.error());
  // While there is no room, what it sends waits on its side.
  constexpr auto kPause = std::chrono::milliseconds(100);
  if (!came->empty() && !bring(std::move(*came))) listensAt_ = steadyNow() + kPause;
}

void Polled::tryToConnect() {
  const auto outcome = station_->connect();
  if (!outcome) {
    {
      const std::lock_guard lock(mutex_);
      ++figures_.failures;
    }
    if (std::exchange(toldWhy_, outcome.error().cause) != outcome.error().cause) sink_->link(false, outcome.error());
    triesAt_ = steadyNow() + pause_;
    pause_ = std::min<Duration>(pause_ * 2, kLongestPause);
    return;
  }
  isConnected_ = true;
  pause_ = kFirstPause;
  toldWhy_.clear();
  for (auto& beat : beats_) beat.next = {};
  sink_->link(true, {status::Good, {}, {}});
}

bool Polled::bring(std::vector<Sample> batch) {
  if (auto points = station_->takeDiscovered(); !points.empty()) sink_->discovered(std::move(points));
  return sink_->samples(std::move(batch));
}

bool Polled::poll(std::span<const PointIndex> points) {
  const Instant begin = steadyNow();
  std::vector<Sample> batch;
  std::vector<PointIndex> plain;
  for (const PointIndex point : points) {
    if (!sink_->isTraced(point)) {
      plain.push_back(point);
      continue;
    }
    auto explained = station_->explain(point);
    if (!explained) return lost(explained.error()), false;
    batch.push_back({point, std::move(explained->value), std::make_shared<const Trace>(std::move(explained->trace))});
  }
  if (!plain.empty()) {
    auto values = station_->read(plain);
    if (!values) return lost(values.error()), false;
    for (std::size_t i = 0; i < plain.size(); ++i) batch.push_back({plain[i], std::move((*values)[i])});
  }
  if (station_->sendsByItself()) {
    // What came before is shown before.
    auto came = station_->listen(Duration::zero());
    if (!came) return lost(came.error()), false;
    came->insert(came->end(), std::make_move_iterator(batch.begin()), std::make_move_iterator(batch.end()));
    batch = std::move(*came);
  }
  {
    const std::lock_guard lock(mutex_);
    ++figures_.polls;
    figures_.roundTrip = std::chrono::duration<double, std::milli>(steadyNow() - begin).count();
  }
  if (!bring(std::move(batch)))
    for (auto& beat : beats_) beat.next = std::max(beat.next, steadyNow() + beat.every);
  return true;
}

bool Polled::runWrites(const std::vector<PointWrite>& writes, const WritesDone& done) {
  std::vector<Error> outcomes;
  std::vector<PointIndex> touched;
  std::optional<Error> broken;
  for (const auto& write : writes) {
    const auto outcome = broken ? Result<Station::Outcome>(*broken) : station_->write(write);
    if (!outcome) broken = outcome.error();
    outcomes.push_back(outcome ? outcome->error : outcome.error());
    if (std::ranges::find(touched, write.point) == touched.end()) touched.push_back(write.point);
  }
  if (broken) lost(*broken);
  // What is shown is the device's own value, so read it before the writer hears that all went well.
  const bool isThere = !broken && poll(touched);
  done(std::move(outcomes));
  return isThere;
}

bool Polled::runSteps(const std::vector<Step>& steps, const ActDone& done) {
  std::vector<Variant> outputs;
  const auto refuse = [&](const Error& why) {
    done(why);
    return true;
  };
  const auto broken = [&](const Error& why) {
    lost(why);
    done(why);
    return false;
  };
  for (const Step& step : steps) {
    if (step.kind == Step::Kind::Write) {
      const auto outcome = station_->write({step.point, step.value, step.bit});
      if (!outcome) return broken(outcome.error());
      if (outcome->error.code.isBad()) return refuse(outcome->error);
      continue;
    }
    auto values = station_->read(std::span(&step.point, 1));
    if (!values) return broken(values.error());
    if (values->front().status.isBad())
      return refuse({values->front().status, "the device does not give " + points()[step.point].name, {}});
    outputs.push_back(std::move(values->front().value));
  }
  done(std::move(outputs));
  return true;
}

void Polled::lost(const Error& why) {
  station_->disconnect();
  isConnected_ = false;
  triesAt_ = steadyNow();
  {
    const std::lock_guard lock(mutex_);
    ++figures_.failures;
  }
  sink_->link(false, why);
}

Error Polled::away() const {
  return {status::BadNoCommunication, "the device " + name_ + " does not answer",
          "look at it with: zunth device " + name_};
}

}  // namespace zunth::device
