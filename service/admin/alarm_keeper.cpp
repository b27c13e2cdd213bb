#include "service/admin/alarm_keeper.hpp"

#include "core/history/variables.hpp"
#include "service/logs/logs.hpp"

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

namespace {

constexpr std::int64_t kAlarmFileFormat = 1;
constexpr auto kRetryStates = std::chrono::seconds(1);

}  // namespace

AlarmKeeper::AlarmKeeper(server::Server& server, fs::path file, std::function<void(std::function<void()>)> post)
    : server_(server), file_(std::move(file)), post_(std::move(post)) {}

AlarmKeeper::~AlarmKeeper() { stop(); }

Result<void> AlarmKeeper::openFile() {
  auto opened = history::Database::open(file_);
  if (!opened) return opened.error();
  const auto format = opened->number("PRAGMA user_version");
  if (!format) return format.error();
  if (*format > kAlarmFileFormat)
    return Error{status::BadDataEncodingInvalid, "a newer zunthd has written how alarms stand", {}};
  database_ = std::move(*opened);
  return database_.execute(
      "CREATE TABLE IF NOT EXISTS alarms (name TEXT PRIMARY KEY, state BLOB NOT NULL) WITHOUT ROWID; "
      "PRAGMA user_version = 1");
}

Result<AlarmKeeper::States> AlarmKeeper::read() {
  auto all = database_.prepare("SELECT name, state FROM alarms");
  if (!all) return all.error();
  States out;
  for (;;) {
    const auto row = all->step();
    if (!row) return row.error();
    if (!*row) return out;
    const auto octets = all->octets(1);
    out.emplace(all->text(0), Bytes(octets.begin(), octets.end()));
  }
}

Result<void> AlarmKeeper::open() {
  std::error_code ignored;
  fs::create_directories(file_.parent_path(), ignored);
  auto opened = openFile();
  auto states = opened ? read() : Result<States>(opened.error());
  Result<void> outcome;
  // What can't be reached now may be sound: it is left where it is, and nothing is kept.
  if (!states && states.code() != status::BadDataEncodingInvalid && states.code() != status::BadDecodingError)
    return Error{states.code(), fmt::format("how alarms stand is not kept: {}", states.error().cause),
                 fmt::format("look at {}", file_.string())};
  if (!states) {
    // Nothing of it is believed; who wants to look at it finds it.
    database_ = {};
    const fs::path aside = file_.string() + ".damaged";
    for (const char* end : {"", "-wal", "-shm"}) fs::rename(file_.string() + end, aside.string() + end, ignored);
    outcome =
        Error{states.code(), fmt::format("how alarms stood can't be read ({}): they begin anew", states.error().cause),
              fmt::format("the file is kept as {}", aside.string())};
    if (auto fresh = openFile(); !fresh) return fresh.error();
  }
  const auto known = std::make_shared<States>(states ? std::move(*states) : States());
  const auto& space = server_.space();
  server_.alarms().restore([known, &space](const NodeId& id) -> std::optional<alarm::KeptState> {
    // Each is asked for once.
    const auto found = known->extract(history::storedName(space, id));
    if (!found) return std::nullopt;
    auto state = alarm::decodeState(found.mapped());
    if (!state) {
      logs::site().warn("how {} stood can't be read: {}", space.path(space.find(id)), state.error().cause);
      return std::nullopt;
    }
    return std::move(*state);
  });
  thread_ = std::thread([this] { run(); });
  // Once what happens then is over.
  server_.alarms().setChanged([this] { takeSoon(); });
  take();
  return outcome;
}

void AlarmKeeper::take() {
  // Some at a time: the loop has others to serve.
  constexpr std::size_t kAtOnce = 500;
  auto changed = server_.alarms().takeChanged(thread_.joinable() && *alive_ ? kAtOnce : SIZE_MAX);
  if (changed.empty()) return;
  {
    const std::lock_guard lock(mutex_);
    for (auto& one : changed)
      waiting_.insert_or_assign(history::storedName(server_.space(), one.alarm), std::move(one.state));
  }
  something_.notify_one();
  if (*alive_ && server_.alarms().hasChanged()) takeSoon();
}

void AlarmKeeper::takeSoon() {
  post_([this, alive = alive_] {
    if (*alive) take();
  });
}

void AlarmKeeper::run() {
  std::unique_lock lock(mutex_);
  for (;;) {
    something_.wait(lock, [&] { return isStopping_ || !waiting_.empty(); });
    if (waiting_.empty()) return;
    States states = std::exchange(waiting_, {});
    lock.unlock();
    const auto written = write(states);
    if (!written && !isFailing_) logs::site().error("how alarms stand is not kept: {}", written.error().text());
    if (written && isFailing_) logs::site().info("how alarms stand is kept again");
    isFailing_ = !written;
    lock.lock();
    if (written) continue;
    // What came since counts; the rest is tried again.
    for (auto& [name, state] : states) waiting_.try_emplace(name, std::move(state));
    if (isStopping_) return;
    something_.wait_for(lock, kRetryStates, [&] { return isStopping_; });
  }
}

Result<void> AlarmKeeper::write(const States& states) {
  auto transaction = history::Transaction::begin(database_);
  if (!transaction) return transaction.error();
  auto put = database_.prepare("INSERT OR REPLACE INTO alarms (name, state) VALUES (?, ?)");
  auto drop = database_.prepare("DELETE FROM alarms WHERE name = ?");
  if (!put || !drop) return put ? drop.error() : put.error();
  for (const auto& [name, state] : states) {
    const std::string_view key = name;
    const auto fine = state.empty() ? drop->bind(key).run() : put->bind(key, BytesView(state)).run();
    if (!fine) return fine.error();
  }
  return transaction->commit();
}

void AlarmKeeper::stop() {
  if (!thread_.joinable()) return;
  *alive_ = false;
  server_.alarms().setChanged({});
  take();
  {
    const std::lock_guard lock(mutex_);
    isStopping_ = true;
  }
  something_.notify_one();
  thread_.join();
}

}  // namespace zunth::admin
