#pragma once

#include "core/alarm/condition_state.hpp"
#include "core/ua/bytes.hpp"

namespace zunth::alarm {

/// How an alarm stood, as octets that a later run can read: its state and its branches.
struct KeptState {
  ConditionState trunk;
  std::vector<ConditionState> branches;
};
ua::Bytes encodeState(const ConditionState& trunk, const std::vector<ConditionState>& branches);
/// BadDecodingError for anything else.
ua::Result<KeptState> decodeState(ua::BytesView octets);

}  // namespace zunth::alarm
