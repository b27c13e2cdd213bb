#include "service/admin/discovery_file.hpp"

#include "core/ua/text.hpp"
#include "service/logs/logs.hpp"

namespace zunth::admin {

using namespace ua;
using device::Discovered;

namespace {

constexpr const char* kMending =
    "devices discover their points anew, and nothing is kept: put an older copy back or take the file away, and "
    "restart";

std::optional<BuiltInType> typeOf(const std::string& name) {
  for (int i = static_cast<int>(BuiltInType::Boolean); i <= static_cast<int>(BuiltInType::Variant); ++i)
    if (nameOf(static_cast<BuiltInType>(i)) == name) return static_cast<BuiltInType>(i);
  return std::nullopt;
}

void tellUnsaved(const Result<void>& saved) {
  if (!saved) logs::site().error("what devices discovered is not kept: {}", saved.error().cause);
}

}  // namespace

DiscoveryFile::DiscoveryFile(Parts parts) : parts_(std::move(parts)), kept_(parts_.file, "devices", kMending) {}

Result<void> DiscoveryFile::load() {
  const auto kept = kept_.load();
  if (!kept) return kept.error();
  std::map<std::string, Entry> entries;
  try {
    for (const auto& device : *kept) {
      Entry entry{device.at("discover").get<std::string>(), {}};
      for (const auto& point : device.at("points")) {
        const auto type = typeOf(point.at("type").get<std::string>());
        if (!type) return kept_.damaged("a point has no type that there is");
        entry.points.push_back({point.at("name").get<std::string>(), point.at("is").get<std::string>(), *type});
      }
      entries.emplace(device.at("name").get<std::string>(), std::move(entry));
    }
  } catch (const Json::exception& problem) {
    return kept_.damaged(problem.what());
  }
  entries_ = std::move(entries);
  isOpen_ = true;
  return {};
}

std::vector<Discovered> DiscoveryFile::of(const device::DeviceFile& device) const {
  const auto found = entries_.find(device.name);
  const bool isSame = found != entries_.end() && found->second.asked == device.discovers;
  return isSame ? found->second.points : std::vector<Discovered>();
}

void DiscoveryFile::add(const device::DeviceFile& device, const std::vector<Discovered>& points) {
  Entry& entry = entries_[device.name];
  if (entry.asked != device.discovers) entry = {device.discovers, {}};
  entry.points.insert(entry.points.end(), points.begin(), points.end());
  changed();
}

void DiscoveryFile::forget(const std::string& device) {
  if (entries_.erase(device) > 0) changed();
}

/// Devices discover many at a time.
void DiscoveryFile::changed() {
  if (!isOpen_) return;
  hasChanged_ = true;
  if (std::exchange(isNews_, true)) return;
  parts_.after(std::chrono::seconds(1), [this] {
    if (std::exchange(isNews_, false)) parts_.aside([kept = kept_, list = list()] { tellUnsaved(kept.save(list)); });
  });
}

void DiscoveryFile::finish() {
  if (hasChanged_) tellUnsaved(kept_.save(list()));
}

Json DiscoveryFile::list() const {
  Json out = Json::array();
  for (const auto& [name, entry] : entries_) {
    Json points = Json::array();
    for (const auto& point : entry.points)
      points.push_back({{"name", point.name}, {"is", point.words}, {"type", nameOf(point.type)}});
    out.push_back({{"name", name}, {"discover", entry.asked}, {"points", std::move(points)}});
  }
  return out;
}

}  // namespace zunth::admin
