#include "core/alarm/kept_state.hpp"

#include "core/ua/binary_reader.hpp"

namespace zunth::alarm {

using namespace ua;

namespace {

constexpr std::uint8_t kFormat = 2, kWithoutDialogs = 1;
constexpr std::size_t kMostBranches = 1'000, kMostEventIds = 100;

/// Calls `visit` with each part of a state that is kept, in the order of the octets.
template <class State, class Visit>
void eachPart(State& state, Visit&& visit) {
  visit(state.branchId);
  for (auto* part : {&state.enabled, &state.active, &state.acknowledged, &state.confirmed, &state.suppressed,
                     &state.outOfService, &state.silenced, &state.latched}) {
    visit(part->is);
    visit(part->since);
  }
  visit(state.exceeded);
  for (auto& since : state.levelSince) visit(since);
  visit(state.severity);
  visit(state.lastSeverity);
  visit(state.severitySince);
  visit(state.quality);
  visit(state.qualitySince);
  visit(state.comment);
  visit(state.commentator);
  visit(state.commentSince);
  visit(state.shelvedSince);
  visit(state.shelvedUntil);
  visit(state.suppressions);
  visit(state.reAlarms);
  visit(state.isFirstInGroup);
  visit(state.message);
  visit(state.time);
  visit(state.receiveTime);
  visit(state.retain);
}

/// What came later.
template <class State, class Visit>
void eachPartOfDialogs(State& state, Visit&& visit) {
  visit(state.asked.is);
  visit(state.asked.since);
  visit(state.lastResponse);
}

void write(BinaryWriter& writer, const ConditionState& state) {
  eachPartOfDialogs(state, [&](const auto& part) { writer.write(part); });
  eachPart(state, [&](const auto& part) { writer.write(part); });
  writer.write(static_cast<std::uint8_t>(state.shelved));
  writer.write(static_cast<std::uint8_t>(state.shelvedBefore));
  writer.write(static_cast<std::uint8_t>(state.levelBefore ? 1 + static_cast<int>(*state.levelBefore) : 0));
  writer.write(String(state.reason));
  writer.write(static_cast<std::uint32_t>(state.eventIds.size()));
  for (const auto& id : state.eventIds) writer.write(id);
}

/// A number below `most`; anything else makes the reader fail.
std::uint32_t below(BinaryReader& reader, std::uint32_t number, std::size_t most) {
  if (number < most) return number;
  reader.reject("the state of an alarm is not sound");
  return 0;
}

ConditionState readState(BinaryReader& reader, std::uint8_t format) {
  ConditionState state;
  if (format != kWithoutDialogs) eachPartOfDialogs(state, [&](auto& part) { reader.read(part); });
  eachPart(state, [&](auto& part) { reader.read(part); });
  state.shelved = static_cast<Shelved>(below(reader, reader.next<std::uint8_t>(), 3));
  state.shelvedBefore = static_cast<Shelved>(below(reader, reader.next<std::uint8_t>(), 3));
  if (const auto level = below(reader, reader.next<std::uint8_t>(), 1 + space::kLimitLevels))
    state.levelBefore = static_cast<space::LimitLevel>(level - 1);
  state.reason = reader.next<String>().str();
  for (auto left = below(reader, reader.next<std::uint32_t>(), kMostEventIds); left > 0 && reader.ok(); --left)
    state.eventIds.push_back(reader.next<ByteString>());
  return state;
}

}  // namespace

Bytes encodeState(const ConditionState& trunk, const std::vector<ConditionState>& branches) {
  Bytes out;
  BinaryWriter writer(out);
  writer.write(kFormat);
  write(writer, trunk);
  writer.write(static_cast<std::uint32_t>(branches.size()));
  for (const auto& branch : branches) write(writer, branch);
  return out;
}

Result<KeptState> decodeState(BytesView octets) {
  BinaryReader reader(octets);
  const auto format = reader.next<std::uint8_t>();
  if (format != kFormat && format != kWithoutDialogs) reader.reject("the state of an alarm is of another version");
  KeptState out;
  out.trunk = readState(reader, format);
  for (auto left = below(reader, reader.next<std::uint32_t>(), kMostBranches); left > 0 && reader.ok(); --left)
    out.branches.push_back(readState(reader, format));
  if (reader.ok() && reader.remaining()) reader.reject("octets remain after the state of an alarm");
  if (!reader.ok()) return reader.error();
  return out;
}

}  // namespace zunth::alarm
