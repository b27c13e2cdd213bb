#include "service/device/device.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/logs/logs.hpp"

#include <cmath>
#include <set>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

namespace {

Instant steadily() { return std::chrono::steady_clock::now(); }

/// What is written to a point so that it shows this value.
Result<Variant> rawOf(const DevicePoint& point, const Variant& value) {
  const BuiltInType type = point.type();
  auto shown = type == BuiltInType::Variant
                   ? Result<Variant>(value)
                   : eachElement(value, [type](const Variant& element) { return convert(element, type); });
  return shown ? point.conversion.toDevice(*shown, point.raw.type) : shown;
}

/// Whether a value shows something else than the last that was shown, beyond the deadband.
bool isNews(const DataValue& value, const DataValue& last, double deadband) {
  if (value.status != last.status || value.value.length() != last.value.length()) return true;
  const auto now = elementsOf(value.value), before = elementsOf(last.value);
  return !std::ranges::equal(now, before, [deadband](const Variant& a, const Variant& b) {
    double one = 0, other = 0;
    return a.toDouble(one) && b.toDouble(other) && std::abs(one - other) <= deadband;
  });
}

}  // namespace

Device::Device(const DeviceFile& file, Events events)
    : name_(file.name),
      events_(std::move(events)),
      tracing_(file.points.size() + file.room()),
      lastShown_(file.points.size()),
      broughtAt_(file.points.size()),
      last_(file.points.size(), Last::None),
      driver_(file.makeDriver()) {
  points_.reserve(file.points.size() + file.room());
  points_ = file.points;
  health_.since = wallClock();
}

std::vector<DevicePoint> Device::remember(const std::vector<Discovered>& points) {
  auto known = driver_->remember(points);
  grow(known);
  return known;
}

void Device::grow(const std::vector<DevicePoint>& points) {
  const std::lock_guard lock(mutex_);
  points_.insert(points_.end(), points.begin(), points.end());
  lastShown_.resize(points_.size());
  broughtAt_.resize(points_.size());
  last_.resize(points_.size(), Last::None);
}

void Device::discovered(std::vector<DevicePoint> points) {
  const PointIndex first = points_.size();
  grow(points);
  events_.discovered(first, std::move(points));
}

void Device::want(const DeviceFile& file, const std::vector<PointIndex>& points, const Paces& asked) {
  std::set<PointIndex> wanted(points.begin(), points.end());
  for (const auto& action : file.actions)
    for (const auto& step : action.steps)
      if (step.kind == ActionStep::Kind::Wait) wanted.insert(step.point);
  if (file.heartbeat) wanted.insert(file.heartbeat->point);
  std::vector<Wish> wishes;
  for (const PointIndex point : wanted) {
    const auto pace = asked.find(point);
    wishes.push_back({point, milliseconds(pace == asked.end() ? file.beatOf(point) : pace->second)});
  }
  std::optional<std::uint64_t> watch;
  {
    const std::lock_guard lock(mutex_);
    const auto& is = file.heartbeat;
    const bool isSame =
        is ? heartbeat_ && heartbeat_->point == is->point && heartbeat_->within == is->within : !heartbeat_;
    if (!isSame) {
      heartbeat_ = is;
      beatAt_ = steadily();
      ++watch_;
      if (is) watch = watch_;
    }
  }
  if (watch) watchHeart(*watch);
  driver_->want(std::move(wishes));
}

void Device::write(std::vector<PointWrite> writes, Instant deadline, Driver::WritesDone done) {
  std::vector<Error> outcomes(writes.size(), Error{status::Good, {}, {}});
  std::vector<PointWrite> sent;
  std::vector<std::size_t> numbers;
  for (std::size_t i = 0; i < writes.size(); ++i) {
    const DevicePoint& point = points_[writes[i].point];
    auto raw = rawOf(point, writes[i].value);
    if (raw) {
      sent.push_back({writes[i].point, std::move(*raw), point.conversion.bit});
      numbers.push_back(i);
    } else {
      outcomes[i] = raw.error();
    }
  }
  if (sent.empty()) return done(std::move(outcomes));
  {
    const std::lock_guard lock(mutex_);
    health_.writes += sent.size();
  }
  driver_->write(
      std::move(sent), deadline,
      [outcomes = std::move(outcomes), numbers = std::move(numbers), done = std::move(done)](auto told) mutable {
        for (std::size_t i = 0; i < numbers.size(); ++i) outcomes[numbers[i]] = std::move(told[i]);
        done(std::move(outcomes));
      });
}

/// An action under way.
struct Device::Course {
  Action action;
  std::map<std::string, Variant> inputs;
  Instant deadline;
  std::function<void(Outcome)> done;
  std::size_t next = 0;  // step
  Outcome outcome = {};

  void fail(Error why) { done({std::move(why), {}}); }
  /// What a step writes or compares with.
  Result<Variant> valueOf(const ActionStep& step) const {
    if (step.name.empty()) return step.value;
    const auto given = inputs.find(step.name);
    if (given != inputs.end()) return given->second;
    return Error{status::BadArgumentsMissing, "the method has no argument " + step.name, {}};
  }
};

void Device::act(const Action& action, const std::map<std::string, Variant>& inputs, Instant deadline,
                 std::function<void(Outcome)> done) {
  goOn(std::make_shared<Course>(Course{action, inputs, deadline, std::move(done)}));
}

void Device::goOn(const std::shared_ptr<Course>& course) {
  if (course->next == course->action.steps.size()) return course->done(std::move(course->outcome));
  const ActionStep& step = course->action.steps[course->next];
  if (step.kind == ActionStep::Kind::Wait) {
    ++course->next;
    return wait(course, step);
  }
  if (step.kind != ActionStep::Kind::Pause) return runSteps(course);
  ++course->next;
  if (course->deadline - steadily() < milliseconds(step.time))
    return course->fail(
        {status::BadTimeout, "the caller doesn't wait as long as the action pauses", "call it with a longer timeout"});
  events_.after(milliseconds(step.time), [course](Device& device) { device.goOn(course); });
}

/// Those up to the next wait, with nothing of others in between.
void Device::runSteps(const std::shared_ptr<Course>& course) {
  std::vector<Step> steps;
  std::vector<std::pair<std::string, PointIndex>> outputs;
  for (; course->next < course->action.steps.size(); ++course->next) {
    const ActionStep& step = course->action.steps[course->next];
    if (step.kind == ActionStep::Kind::Wait || step.kind == ActionStep::Kind::Pause) break;
    const DevicePoint& point = points_[step.point];
    if (step.kind == ActionStep::Kind::ReadOutput) {
      steps.push_back({Step::Kind::Read, step.point, {}});
      outputs.emplace_back(step.name, step.point);
      continue;
    }
    const auto value = step.kind == ActionStep::Kind::WriteInput ? course->valueOf(step) : Result<Variant>(step.value);
    if (!value) return course->fail(value.error());
    auto raw = rawOf(point, *value);
    if (!raw) return course->fail({raw.code(), fmt::format("{}: {}", step.name, raw.error().cause), {}});
    steps.push_back({Step::Kind::Write, step.point, std::move(*raw), point.conversion.bit});
  }
  driver_->act(std::move(steps), course->deadline,
               [this, outputs = std::move(outputs), course](Result<std::vector<Variant>> told) {
                 if (!told) return course->fail(told.error());
                 for (std::size_t i = 0; i < outputs.size(); ++i) {
                   auto shown = points_[outputs[i].second].conversion.toNode(std::move((*told)[i]));
                   if (!shown) return course->fail(shown.error());
                   course->outcome.outputs[outputs[i].first] = std::move(*shown);
                 }
                 goOn(course);
               });
}

/// What the point shows now, or in one of its next beats, lets the action go on.
void Device::wait(const std::shared_ptr<Course>& course, const ActionStep& step) {
  const auto wanted = course->valueOf(step);
  if (!wanted) return course->fail(wanted.error());
  constexpr std::size_t kMostWaits = 1'000;
  std::uint64_t number = 0;
  {
    const std::lock_guard lock(mutex_);
    if (waits_.size() < kMostWaits) {
      number = ++lastWait_;
      waits_.push_back({number, step, *wanted, course});
    }
  }
  if (number == 0)
    return course->fail(
        {status::BadTooManyOperations, fmt::format("{} actions of the device {} wait already", kMostWaits, name_), {}});
  // Nobody is waited for longer than their caller waits.
  const Duration patience = std::min<Duration>(milliseconds(step.time), course->deadline - steadily());
  events_.after(std::max(patience, Duration::zero()), [number, step](Device& device) {
    device.endWait(number, {status::BadTimeout, fmt::format("'{}' did not come within {:g} ms", step.text, step.time),
                            "what the action did before stays done"});
  });
  std::vector<Step> look{{Step::Kind::Read, step.point, {}}};
  driver_->act(std::move(look), course->deadline, [this, number, step](Result<std::vector<Variant>> told) {
    if (!told) return endWait(number, told.error());
    if (told->empty() || told->front().isNull()) return;
    auto shown = points_[step.point].conversion.toNode(std::move(told->front()));
    if (shown) waited({{step.point, DataValue(std::move(*shown)), {}}});
  });
}

void Device::waited(const std::vector<Shown>& shown) {
  std::vector<std::shared_ptr<Course>> free;
  {
    const std::lock_guard lock(mutex_);
    if (waits_.empty()) return;
    std::erase_if(waits_, [&](const Waiting& waiting) {
      const bool isThere = std::ranges::any_of(shown, [&](const Shown& each) {
        return each.point == waiting.step.point && each.kind == Sample::Kind::Current && !each.value.status.isBad() &&
               holds(waiting.step.relation, each.value.value, waiting.wanted);
      });
      if (isThere) free.push_back(waiting.course);
      return isThere;
    });
  }
  for (const auto& course : free) goOn(course);
}

void Device::endWait(std::uint64_t number, const Error& why) {
  std::shared_ptr<Course> course;
  {
    const std::lock_guard lock(mutex_);
    const auto waiting = std::ranges::find(waits_, number, &Waiting::number);
    if (waiting == waits_.end()) return;
    course = std::move(waiting->course);
    waits_.erase(waiting);
  }
  course->fail(why);
}

/// Looks from time to time whether the heart has beaten; until somebody else does.
void Device::watchHeart(std::uint64_t watch) {
  bool hasDied = false;
  Duration pause{};
  std::string cause;
  {
    const std::lock_guard lock(mutex_);
    if (watch != watch_ || !heartbeat_) return;
    const Duration within = milliseconds(heartbeat_->within);
    const Instant now = steadily();
    hasDied = isLinked_ && !isHeartDead_ && now - beatAt_ >= within;
    if (hasDied) {
      isHeartDead_ = true;
      cause = fmt::format("its heartbeat '{}' has stood still for {:g} ms", points_[heartbeat_->point].name(),
                          heartbeat_->within);
    }
    pause = hasDied || beatAt_ + within <= now ? within : beatAt_ + within - now;
  }
  if (hasDied) tellLink(false, {status::BadNoCommunication, cause, "it answers: look whether its own program runs"});
  events_.after(pause, [watch](Device& device) { device.watchHeart(watch); });
}

/// Whether values are not to be shown, as the heart stands still. When it beats again, the last of each point is shown
/// with what came now: a device may say each thing once.
bool Device::withheld(std::vector<Shown>& shown) {
  bool isBack = false;
  {
    const std::lock_guard lock(mutex_);
    if (!heartbeat_) return false;
    for (const auto& each : shown) {
      if (each.kind == Sample::Kind::Current) kept_.insert_or_assign(each.point, each);
      if (each.point != heartbeat_->point || each.value.status.isBad() || each.value.value == heart_) continue;
      heart_ = each.value.value;
      beatAt_ = steadily();
      isBack = std::exchange(isHeartDead_, false) || isBack;
    }
    if (isHeartDead_) return true;
    if (isBack)
      for (const auto& [point, last] : kept_)
        if (std::ranges::find(shown, point, &Shown::point) == shown.end()) shown.push_back(last);
  }
  if (isBack) tellLink(true, {status::Good, {}, {}});
  return false;
}

bool Device::isOlderThan(PointIndex point, Duration age) const {
  const std::lock_guard lock(mutex_);
  // Of a clock that starts with the machine, zero isn't long ago.
  const bool neverCame = broughtAt_[point] == Instant();
  return health_.isConnected && (neverCame || steadily() - broughtAt_[point] > age);
}

Health Device::health() const {
  Health health;
  {
    const std::lock_guard lock(mutex_);
    health = health_;
  }
  health.figures = driver_->figures();
  return health;
}

bool Device::samples(std::vector<Sample> batch) {
  std::vector<Shown> shown;
  shown.reserve(batch.size());
  for (auto& sample : batch) {
    Shown out{sample.point, std::move(sample.value), {}, sample.kind};
    std::optional<Trace> trace;
    if (sample.trace) trace = *sample.trace;
    if (!out.value.status.isBad()) {
      auto value = points_[sample.point].conversion.toNode(std::move(out.value.value), trace ? &*trace : nullptr);
      if (!value && trace) trace->push_back({"not converted", value.error().cause});
      out.value.value = value ? std::move(*value) : Variant();
      if (!value) out.value.status = value.code();
    }
    if (trace) out.trace = std::make_shared<const Trace>(std::move(*trace));
    const double deadband = points_[sample.point].conversion.deadband;
    if (deadband > 0 && sample.kind == Sample::Kind::Current) {
      DataValue& last = lastShown_[sample.point];
      if (!out.trace && !isNews(out.value, last, deadband)) continue;
      last = out.value;
    }
    shown.push_back(std::move(out));
  }
  waited(shown);
  {
    const std::lock_guard lock(mutex_);
    const Instant now = steadily();
    health_.lastContact = wallClock();
    for (const auto& sample : batch) broughtAt_[sample.point] = now;
  }
  if (withheld(shown)) return true;
  std::vector<std::pair<PointIndex, StatusCode>> turned;  // bad, or good again
  const bool isTold = logs::devices().should_log(spdlog::level::debug);
  {
    const std::lock_guard lock(mutex_);
    for (const auto& each : shown) {
      if (each.kind != Sample::Kind::Current) continue;
      Last& last = last_[each.point];
      health_.good -= last == Last::Good;
      health_.bad -= last == Last::Bad;
      const Last before = std::exchange(last, each.value.status.isBad() ? Last::Bad : Last::Good);
      if (isTold && before != last) turned.emplace_back(each.point, each.value.status);
      health_.good += last == Last::Good;
      health_.bad += last == Last::Bad;
    }
  }
  for (const auto& [point, status] : turned)
    logs::devices().debug("device {}: point {} is {}", name_, points_[point].name(), status.name());
  if (shown.empty()) return true;
  const bool isRoom = ++waiting_ < kMostWaiting;
  events_.values(std::move(shown));
  return isRoom;
}

void Device::link(bool isConnected, const Error& why) {
  std::vector<std::shared_ptr<Course>> ended;
  {
    const std::lock_guard lock(mutex_);
    isLinked_ = isConnected;
    isHeartDead_ = false;
    beatAt_ = steadily();
    kept_.clear();
    if (!isConnected)
      for (auto& waiting : std::exchange(waits_, {})) ended.push_back(std::move(waiting.course));
  }
  tellLink(isConnected, why);
  for (const auto& course : ended)
    course->fail({status::BadNoCommunication, fmt::format("the device {} went while an action waited", name_),
                  "what the action did before stays done"});
}

void Device::tellLink(bool isConnected, const Error& why) {
  const DateTime when = wallClock();
  bool wasConnected = false;
  {
    const std::lock_guard lock(mutex_);
    wasConnected = health_.isConnected;
    if (wasConnected != isConnected) health_.since = when;
    if (!isConnected) {
      health_.bad += std::exchange(health_.good, 0);
      for (Last& last : last_)
        if (last == Last::Good) last = Last::Bad;
    }
    health_.isConnected = isConnected;
    health_.lastError = why;
  }
  if (isConnected)
    logs::devices().info("device {}: connected", name_);
  else
    logs::devices().warn("device {}: {}", name_, why.cause);
  events_.link(isConnected, when);
}

}  // namespace zunth::device
