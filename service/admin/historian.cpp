#include "service/admin/historian.hpp"

#include "core/history/variables.hpp"
#include "service/history/forwarding_store.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>

namespace zunth::admin {

using namespace ua;

namespace {

bool hasHistories(const space::Space& space) {
  for (space::NodeIndex node = 0; node < space.rows(); ++node)
    if (history::isHistorized(space, node)) return true;
  return false;
}

}  // namespace

Result<void> Historian::bind(const HistorySettings& settings) {
  settings_ = settings;
  if (!settings_.isOn) {
    if (recorder_) recorder_->endAll();
    recorder_.reset();
    return {};
  }
  // What is in one place stays there (zunth history-move brings it to the other).
  if (archive_ && database_ != settings_.database) stop();
  if (!archive_) {
    std::error_code ignored;
    if (!hasHistories(server_.space()) && !std::filesystem::exists(folder_, ignored)) return {};
    if (auto fine = open(); !fine) return fine;
  }
  if (!recorder_)
    recorder_ = std::make_unique<history::Recorder>(server_.space(), *archive_, server::Clock::real().wallClock,
                                                    !std::exchange(hasRecorded_, true));
  recorder_->bind(settings_.choices);
  server_.showHistories([this](space::NodeIndex variable) {
    if (settings_.aggregates.empty()) return aggregate::Configuration();
    const std::string path = server_.space().path(variable);
    for (const auto& choice : settings_.aggregates)
      if (history::matchesPath(choice.pattern, path)) return choice.configuration;
    return aggregate::Configuration();
  });
  keptForLess_ = std::make_shared<const std::map<double, std::vector<std::string>>>(keptForLess());
  return {};
}

Result<void> Historian::open() {
  auto store =
      openHistory(settings_, folder_, server_.settings().applicationUri, [](bool isGood, const std::string& what) {
        if (isGood)
          logs::history().info("history: {}", what);
        else
          logs::history().error("history: {}", what);
      });
  if (!store) return store.error();
  database_ = settings_.database;
  archive_ = std::make_unique<history::ArchiveThread>(
      std::move(*store), post_,
      [](bool isGood, const std::string& words) {
        if (isGood)
          logs::history().info("history is written again");
        else
          logs::history().error("history can't be written, and waits in memory: {}", words);
      },
      server::Clock::real().wallClock);
  server_.serveHistory(*archive_);
  return {};
}

void Historian::tick() {
  constexpr std::uint32_t kHour = 3600;
  if (recorder_) recorder_->tick();
  const bool isLimited = settings_.days > 0 || settings_.gigabytes > 0 || (keptForLess_ && !keptForLess_->empty());
  if (archive_ && isLimited && beats_++ % kHour == 0) forgetOld();
}

/// Variables, and the remarks on them.
std::map<double, std::vector<std::string>> Historian::keptForLess() const {
  std::map<double, std::vector<std::string>> out;
  if (std::ranges::none_of(settings_.choices, [](const auto& choice) { return choice.days > 0; })) return out;
  const auto& space = server_.space();
  for (space::NodeIndex node = 0; node < space.rows(); ++node) {
    if (!history::isHistorized(space, node)) continue;
    const std::string path = space.path(node);
    const auto choice = std::ranges::find_if(
        settings_.choices, [&](const auto& each) { return history::matchesPath(each.pattern, path); });
    if (choice == settings_.choices.end() || !(choice->days > 0)) continue;
    auto& names = out[choice->days];
    names.push_back(history::storedName(space, space.nodeId(node)));
    names.push_back(history::storedName(space, NodeId(1, String(history::annotationsOf(names.back())))));
  }
  return out;
}

void Historian::forgetOld() {
  const auto now = DateTime::from(std::chrono::system_clock::now());
  const DateTime before{settings_.days > 0 ? now.ticks - static_cast<std::int64_t>(settings_.days * 24 * 3600 * 1e7)
                                           : 0};
  const auto octets = settings_.gigabytes > 0 ? static_cast<std::uint64_t>(settings_.gigabytes * 1e9) : UINT64_MAX;
  archive_->perform([before, octets, now, sooner = keptForLess_](history::Store& store) -> std::function<void()> {
    auto fine = store.forget(before);
    if (sooner)
      for (const auto& [days, names] : *sooner)
        if (fine) fine = store.forget(names, {now.ticks - static_cast<std::int64_t>(days * 24 * 3600 * 1e7)});
    if (fine) fine = store.shrink(octets);
    if (!fine) logs::history().error("history: {}", fine.error().text());
    return {};
  });
}

void Historian::stop() {
  recorder_.reset();
  server_.dropHistory();
  archive_.reset();
  hasRecorded_ = false;
}

Result<std::unique_ptr<history::Store>> openHistory(const HistorySettings& settings,
                                                    const std::filesystem::path& folder,
                                                    const std::string& applicationUri,
                                                    std::function<void(bool, const std::string&)> told) {
  auto files = history::EmbeddedStore::open(
      settings.database.empty() ? folder : std::filesystem::path(folder.string() + "-waiting"),
      [told](const std::string& what) { told(false, what); });
  if (!files) return files.error();
  if (settings.database.empty()) return std::unique_ptr<history::Store>(std::move(*files));
  const auto reach = [address = settings.database, applicationUri] {
    return history::PostgresStore::open(address, applicationUri);
  };
  return std::unique_ptr<history::Store>(
      std::make_unique<history::ForwardingStore>(reach, std::move(*files), std::move(told)));
}

}  // namespace zunth::admin
