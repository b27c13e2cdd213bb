#include "core/history/merged_timeline.hpp"

#include <algorithm>

namespace zunth::history {

using namespace ua;

namespace {

constexpr std::size_t kAtOnce = 4096;

/// The server's time is kept where it differs from the source's.
DateTime gotAt(const DataValue& sample) {
  return sample.serverTimestamp.isNull() ? sample.sourceTimestamp : sample.serverTimestamp;
}

/// A walk that is taken in parts.
class Parts {
 public:
  Parts(const Timeline& timeline, DateTime from, DateTime to) : timeline_(timeline), next_(from), to_(to) {}

  /// Looks for more when there is nothing left of what was found.
  Result<void> fill() {
    if (at_ < samples_.size() || isOver_) return {};
    samples_.clear();
    at_ = 0;
    isOver_ = true;
    auto fine = timeline_.walk(next_, to_, [&](std::span<const DataValue> some) {
      samples_.insert(samples_.end(), some.begin(), some.end());
      isOver_ = samples_.size() < kAtOnce;
      return isOver_;
    });
    if (!fine || isOver_) return fine;
    const DateTime last = samples_.back().sourceTimestamp;
    next_ = to_ < next_ ? before(last) : after(last);
    isOver_ = next_ == to_;
    return {};
  }
  /// After fill().
  const DataValue* head() const { return at_ < samples_.size() ? &samples_[at_] : nullptr; }
  DataValue take() { return std::move(samples_[at_++]); }

 private:
  const Timeline& timeline_;
  DateTime next_, to_;
  std::vector<DataValue> samples_;
  std::size_t at_ = 0;
  bool isOver_ = false;
};

}  // namespace

Result<void> MergedTimeline::walk(DateTime from, DateTime to, const Visit& visit) const {
  if (from == to) to = after(to);
  const bool isBackward = to < from;
  Parts first(*first_, from, to), second(*second_, from, to);
  std::vector<DataValue> out;
  for (;;) {
    if (auto fine = first.fill(); !fine) return fine;
    if (auto fine = second.fill(); !fine) return fine;
    const DataValue *a = first.head(), *b = second.head();
    if (!a && !b) break;
    if (a && b && a->sourceTimestamp == b->sourceTimestamp) {
      (gotAt(*a) < gotAt(*b) ? first : second).take();
      continue;
    }
    const bool isFirst =
        a && (!b || (isBackward ? a->sourceTimestamp > b->sourceTimestamp : a->sourceTimestamp < b->sourceTimestamp));
    out.push_back(isFirst ? first.take() : second.take());
    if (out.size() < kAtOnce) continue;
    if (!visit(out)) return {};
    out.clear();
  }
  if (!out.empty()) visit(out);
  return {};
}

}  // namespace zunth::history
