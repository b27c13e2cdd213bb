#include "core/history/editing.hpp"

#include <algorithm>
#include <numeric>

namespace zunth::history {

using namespace ua;
using Samples = std::vector<DataValue>;
using enum Edit::Kind;

namespace {

/// The places of things in order of their times; those of one time stay as they came.
template <class TimeOf>
std::vector<std::size_t> inOrder(std::size_t count, TimeOf timeOf) {
  std::vector<std::size_t> out(count);
  std::iota(out.begin(), out.end(), std::size_t{0});
  std::ranges::stable_sort(out, {}, timeOf);
  return out;
}

Result<void> put(Samples& samples, const Edit& edit, const Note& note, std::vector<StatusCode>& outcomes) {
  Samples out;
  auto old = samples.begin();
  for (const auto i : inOrder(edit.samples.size(), [&](std::size_t k) { return edit.samples[k].sourceTimestamp; })) {
    const DataValue& sample = edit.samples[i];
    while (old != samples.end() && old->sourceTimestamp <= sample.sourceTimestamp) out.push_back(std::move(*old++));
    const bool isThere = !out.empty() && out.back().sourceTimestamp == sample.sourceTimestamp;
    if (isThere ? edit.kind == Insert : edit.kind == Replace) {
      outcomes[i] = isThere ? status::BadEntryExists : status::BadNoEntryExists;
      continue;
    }
    outcomes[i] = isThere ? status::GoodEntryReplaced : status::GoodEntryInserted;
    const auto how = edit.kind == Update ? HistoryUpdateType::Update : HistoryUpdateType::Replace;
    if (auto noted = isThere ? note(out.back(), how) : note(sample, HistoryUpdateType::Insert); !noted) return noted;
    if (isThere)
      out.back() = sample;
    else
      out.push_back(sample);
  }
  std::move(old, samples.end(), std::back_inserter(out));
  samples = std::move(out);
  return {};
}

Result<void> takeTimes(Samples& samples, const Edit& edit, const Note& note, std::vector<StatusCode>& outcomes) {
  Samples out;
  auto old = samples.begin();
  for (const auto i : inOrder(edit.times.size(), [&](std::size_t k) { return edit.times[k]; })) {
    while (old != samples.end() && old->sourceTimestamp < edit.times[i]) out.push_back(std::move(*old++));
    outcomes[i] = status::BadNoEntryExists;
    if (old == samples.end() || old->sourceTimestamp != edit.times[i]) continue;
    outcomes[i] = status::Good;
    if (auto noted = note(*old++, HistoryUpdateType::Delete); !noted) return noted;
  }
  std::move(old, samples.end(), std::back_inserter(out));
  samples = std::move(out);
  return {};
}

Result<void> takeRange(Samples& samples, const Edit& edit, const Note& note, std::vector<StatusCode>& outcomes) {
  const auto since = [&](DateTime t) { return std::ranges::lower_bound(samples, t, {}, &DataValue::sourceTimestamp); };
  const auto begin = since(edit.from), end = since(edit.to);
  for (auto sample = begin; sample < end; ++sample)
    if (auto noted = note(*sample, HistoryUpdateType::Delete); !noted) return noted;
  outcomes[0] = begin < end ? status::Good : status::GoodNoData;
  if (begin < end) samples.erase(begin, end);
  return {};
}

}  // namespace

std::optional<std::pair<DateTime, DateTime>> reachOf(const Edit& edit) {
  if (edit.kind == DeleteRange) return std::pair(edit.from, before(edit.to));
  if (edit.kind == DeleteTimes) {
    if (edit.times.empty()) return std::nullopt;
    const auto [first, last] = std::ranges::minmax(edit.times);
    return std::pair(first, last);
  }
  if (edit.samples.empty()) return std::nullopt;
  const auto [first, last] = std::ranges::minmax(edit.samples, {}, &DataValue::sourceTimestamp);
  return std::pair(first.sourceTimestamp, last.sourceTimestamp);
}

Result<std::vector<StatusCode>> applyEdit(Samples& samples, const Edit& edit, const Note& note) {
  const bool isRange = edit.kind == DeleteRange;
  const std::size_t count = isRange ? 1 : edit.kind == DeleteTimes ? edit.times.size() : edit.samples.size();
  std::vector<StatusCode> outcomes(count, status::Good);
  const auto fine = isRange                    ? takeRange(samples, edit, note, outcomes)
                    : edit.kind == DeleteTimes ? takeTimes(samples, edit, note, outcomes)
                                               : put(samples, edit, note, outcomes);
  if (!fine) return fine.error();
  return outcomes;
}

}  // namespace zunth::history
