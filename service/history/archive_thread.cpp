#include "service/history/archive_thread.hpp"

#include "core/ua/footprint.hpp"

#include <chrono>

namespace zunth::history {

using namespace ua;

namespace {

/// So many records are not left waiting for the next beat.
constexpr std::size_t kMany = 20'000;

}  // namespace

ArchiveThread::ArchiveThread(std::unique_ptr<Store> store, std::function<void(std::function<void()>)> post,
                             std::function<void(bool, const std::string&)> told, std::function<DateTime()> wallClock)
    : store_(std::move(store)),
      post_(std::move(post)),
      told_(std::move(told)),
      wallClock_(std::move(wallClock)),
      watchedBefore_(store_->watchedUntil()),
      beginsAt_(store_->beginsAt().ticks),
      thread_([this] { run(); }) {}

ArchiveThread::~ArchiveThread() {
  {
    const std::lock_guard lock(mutex_);
    isStopping_ = true;
  }
  something_.notify_one();
  thread_.join();
}

VariableId ArchiveThread::variable(const std::string& name) {
  const auto [at, isNew] = ids_.try_emplace(name, static_cast<VariableId>(ids_.size()));
  if (isNew) {
    // The store counts as we do, as it hears of them in the same order.
    const std::lock_guard lock(mutex_);
    newNames_.push_back(name);
  }
  return at->second;
}

void ArchiveThread::append(std::vector<Record> records) {
  bool areMany = false;
  {
    const std::lock_guard lock(mutex_);
    for (auto& record : records) {
      if (records_.size() >= kMostWaiting || waitingOctets_ > kMostWaitingOctets) {
        lostSince_.try_emplace(record.variable, record.sample.sourceTimestamp);
        continue;
      }
      waitingOctets_ += footprint(record.sample.value);
      records_.push_back(std::move(record));
    }
    areMany = records_.size() >= kMany;
  }
  if (areMany) something_.notify_one();
}

bool ArchiveThread::append(KeptEvent event) {
  const std::lock_guard lock(mutex_);
  if (events_.size() >= kMostEventsWaiting) return false;
  events_.push_back(std::move(event));
  return true;
}

void ArchiveThread::perform(Work work) {
  {
    const std::lock_guard lock(mutex_);
    works_.push_back(std::move(work));
  }
  something_.notify_one();
}

void ArchiveThread::run() {
  constexpr auto kBeat = std::chrono::seconds(1);
  auto saveAt = std::chrono::steady_clock::now() + kBeat;
  for (;;) {
    std::vector<std::string> names;
    std::vector<Record> records;
    std::vector<KeptEvent> events;
    Work work;
    bool isStopping = false;
    {
      std::unique_lock lock(mutex_);
      something_.wait_until(lock, saveAt, [&] { return isStopping_ || !works_.empty() || records_.size() >= kMany; });
      std::swap(names, newNames_);
      std::swap(records, records_);
      // From then on nothing is known of them, whether or not another sample comes.
      for (const auto& [variable, since] : std::exchange(lostSince_, {}))
        records.push_back({variable, DataValue(Variant(), since, status::BadDataLost)});
      waitingOctets_ = 0;
      std::swap(events, events_);
      if (!works_.empty()) {
        work = std::move(works_.front());
        works_.pop_front();
      }
      isStopping = isStopping_;
    }
    for (const auto& name : names) store_->variable(name);
    store_->append(records);
    store_->append(std::move(events));
    if (work) {
      auto answer = work(*store_);
      // What it holds belongs to the services, and ends there, whichever of both goes last.
      post_([work = std::move(work), answer = std::move(answer)] {
        if (answer) answer();
      });
    }
    if (isStopping || std::chrono::steady_clock::now() >= saveAt) {
      save();
      saveAt = std::chrono::steady_clock::now() + kBeat;
    }
    if (isStopping) return;
  }
}

void ArchiveThread::save() {
  const auto outcome = store_->flush(wallClock_());
  beginsAt_ = store_->beginsAt().ticks;
  const bool isFailing = outcome.code().isBad();
  if (isFailing == isFailing_) return;
  isFailing_ = isFailing;
  post_([told = told_, isFailing, words = outcome.error().text()] { told(!isFailing, words); });
}

}  // namespace zunth::history
