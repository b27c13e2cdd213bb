#include "service/device/driver.hpp"

#include "core/ua/text.hpp"

namespace zunth::device {

using namespace ua;

Result<Explained> Driver::explain(PointIndex point) {
  const auto values = read(std::span(&point, 1));
  if (!values) return values.error();
  const auto& value = values->front();
  return Explained{{{"value", value.status.isBad() ? std::string(value.status.name()) : format(value.value)}}, value};
}

Result<Driver::Outcome> Driver::act(const Action& action, const std::map<std::string, Variant>& inputs) {
  Outcome outcome;
  for (const ActionStep& step : action.steps) {
    const Point& point = points()[step.point];
    if (step.kind == ActionStep::Kind::ReadOutput) {
      auto values = read(std::span(&step.point, 1));
      if (!values) return values.error();
      if (values->front().status.isBad()) {
        outcome.error = {values->front().status, "the device does not give " + point.name, {}};
        return outcome;
      }
      outcome.outputs[step.name] = values->front().value;
      continue;
    }
    Variant value = step.value;
    if (step.kind == ActionStep::Kind::WriteInput) {
      const auto given = inputs.find(step.name);
      if (given == inputs.end()) {
        outcome.error = {status::BadArgumentsMissing, "the method has no argument " + step.name, {}};
        return outcome;
      }
      auto converted = convert(given->second, point.type);
      if (!converted) {
        outcome.error = {converted.code(), step.name + ": " + converted.error().cause, {}};
        return outcome;
      }
      value = std::move(*converted);
    }
    auto written = write(step.point, value);
    if (!written) return written.error();
    if (written->error.code.isBad()) return written;
  }
  return outcome;
}

}  // namespace zunth::device
