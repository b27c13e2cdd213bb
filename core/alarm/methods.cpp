#include "core/alarm/methods.hpp"

#include <algorithm>

namespace zunth::alarm {

using namespace ua;

namespace {

using Inputs = std::vector<Variant>;
using Who = Alarm::Who;

const Answer kNoEvent{status::BadInvalidArgument, "an event id and a comment are needed"};

/// With the comment that stands at a place among the arguments, where there is one.
Who commenting(const Inputs& inputs, std::size_t at, const Who& who) {
  const auto* comment = at < inputs.size() ? inputs[at].get<LocalizedText>() : nullptr;
  return {who.user, comment ? *comment : LocalizedText()};
}

template <Answer (Alarm::*carryOut)(const ByteString&, const Who&, const Moment&)>
Answer ofEvent(Alarm& alarm, const Inputs& inputs, const Who& who, const Moment& moment) {
  const auto* eventId = inputs.size() == 2 ? inputs[0].get<ByteString>() : nullptr;
  return eventId ? (alarm.*carryOut)(*eventId, commenting(inputs, 1, who), moment) : kNoEvent;
}
template <Answer (Alarm::*carryOut)(const Who&, const Moment&)>
Answer plain(Alarm& alarm, const Inputs& inputs, const Who& who, const Moment& moment) {
  return (alarm.*carryOut)(commenting(inputs, 0, who), moment);
}
template <Answer (Alarm::*carryOut)(bool, const Who&, const Moment&), bool on>
Answer turning(Alarm& alarm, const Inputs& inputs, const Who& who, const Moment& moment) {
  return (alarm.*carryOut)(on, commenting(inputs, 0, who), moment);
}
Answer shelving(Alarm& alarm, const Inputs& inputs, const Who& who, const Moment& moment) {
  const auto* time = inputs.empty() ? nullptr : inputs[0].get<double>();
  if (!time) return {status::BadInvalidArgument, "a time in milliseconds is needed"};
  return alarm.shelve(*time, commenting(inputs, 1, who), moment);
}

Answer responding(Alarm& alarm, const Inputs& inputs, const Who& who, const Moment& moment) {
  const auto* option = inputs.empty() ? nullptr : inputs[0].get<std::int32_t>();
  if (!option) return {status::BadInvalidArgument, "the place of an answer among its options is needed"};
  return alarm.respond(*option, commenting(inputs, 1, who), moment);
}

/// Those of 1.05 that end with 2 take a comment besides.
constexpr Method kMethods[] = {
    {"Acknowledge", ofEvent<&Alarm::acknowledge>},
    {"Confirm", ofEvent<&Alarm::confirm>},
    {"AddComment", ofEvent<&Alarm::addComment>},
    {"Enable", turning<&Alarm::enable, true>},
    {"Disable", turning<&Alarm::enable, false>},
    {"TimedShelve", shelving},
    {"TimedShelve2", shelving},
    {"OneShotShelve", plain<&Alarm::shelveOnce>},
    {"OneShotShelve2", plain<&Alarm::shelveOnce>},
    {"Unshelve", plain<&Alarm::unshelve>},
    {"Unshelve2", plain<&Alarm::unshelve>},
    {"Suppress", turning<&Alarm::suppress, true>},
    {"Suppress2", turning<&Alarm::suppress, true>},
    {"Unsuppress", turning<&Alarm::suppress, false>},
    {"Unsuppress2", turning<&Alarm::suppress, false>},
    {"RemoveFromService", turning<&Alarm::serve, false>},
    {"RemoveFromService2", turning<&Alarm::serve, false>},
    {"PlaceInService", turning<&Alarm::serve, true>},
    {"PlaceInService2", turning<&Alarm::serve, true>},
    {"Silence", plain<&Alarm::silence>},
    {"Reset", plain<&Alarm::reset>},
    {"Reset2", plain<&Alarm::reset>},
    {"Respond", responding},
    {"Respond2", responding},
};

}  // namespace

const Method* methodNamed(std::string_view name) {
  const auto* found = std::ranges::find(kMethods, name, &Method::name);
  return found == std::end(kMethods) ? nullptr : found;
}

}  // namespace zunth::alarm
