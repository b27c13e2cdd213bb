#include "service/device/device.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"

#include <cmath>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

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
      points_(file.points),
      events_(std::move(events)),
      tracing_(file.points.size()),
      lastShown_(file.points.size()),
      broughtAt_(file.points.size()),
      last_(file.points.size(), Last::None),
      driver_(file.makeDriver()) {
  health_.since = wallClock();
}

void Device::want(const DeviceFile& file, const std::vector<PointIndex>& points) {
  std::vector<Wish> wishes;
  for (const PointIndex point : points) {
    const double own = file.points[point].every;
    wishes.push_back({point, milliseconds(own > 0 ? own : file.every)});
  }
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

void Device::act(const Action& action, const std::map<std::string, Variant>& inputs, Instant deadline,
                 std::function<void(Outcome)> done) {
  std::vector<Step> steps;
  std::vector<std::pair<std::string, PointIndex>> outputs;
  const auto refuse = [&](StatusCode code, std::string why) { done({{code, std::move(why), {}}, {}}); };
  for (const ActionStep& step : action.steps) {
    const DevicePoint& point = points_[step.point];
    if (step.kind == ActionStep::Kind::ReadOutput) {
      steps.push_back({Step::Kind::Read, step.point, {}});
      outputs.emplace_back(step.name, step.point);
      continue;
    }
    Variant value = step.value;
    if (step.kind == ActionStep::Kind::WriteInput) {
      const auto given = inputs.find(step.name);
      if (given == inputs.end()) return refuse(status::BadArgumentsMissing, "the method has no argument " + step.name);
      value = given->second;
    }
    auto raw = rawOf(point, value);
    if (!raw) return refuse(raw.code(), fmt::format("{}: {}", step.name, raw.error().cause));
    steps.push_back({Step::Kind::Write, step.point, std::move(*raw), point.conversion.bit});
  }
  driver_->act(std::move(steps), deadline,
               [this, outputs = std::move(outputs), done = std::move(done)](Result<std::vector<Variant>> told) {
                 if (!told) return done({told.error(), {}});
                 Outcome outcome;
                 for (std::size_t i = 0; i < outputs.size(); ++i) {
                   auto shown = points_[outputs[i].second].conversion.toNode(std::move((*told)[i]));
                   if (!shown) return done({shown.error(), {}});
                   outcome.outputs[outputs[i].first] = std::move(*shown);
                 }
                 done(std::move(outcome));
               });
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
    if (const double deadband = points_[sample.point].conversion.deadband; deadband > 0) {
      DataValue& last = lastShown_[sample.point];
      if (!out.trace && !isNews(out.value, last, deadband)) continue;
      last = out.value;
    }
    shown.push_back(std::move(out));
  }
  {
    const std::lock_guard lock(mutex_);
    const Instant now = steadily();
    health_.lastContact = wallClock();
    for (const auto& sample : batch) broughtAt_[sample.point] = now;
    for (const auto& each : shown) {
      Last& last = last_[each.point];
      health_.good -= last == Last::Good;
      health_.bad -= last == Last::Bad;
      last = each.value.status.isBad() ? Last::Bad : Last::Good;
      health_.good += last == Last::Good;
      health_.bad += last == Last::Bad;
    }
  }
  if (shown.empty()) return true;
  const bool isRoom = ++waiting_ < kMostWaiting;
  events_.values(std::move(shown));
  return isRoom;
}

void Device::link(bool isConnected, const Error& why) {
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
    spdlog::info("device {}: connected", name_);
  else
    spdlog::warn("device {}: {}", name_, why.cause);
  events_.link(isConnected, when);
}

}  // namespace zunth::device
