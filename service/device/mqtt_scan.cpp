#include "service/device/mqtt_scan.hpp"

#include "service/device/plain_value.hpp"

#include <algorithm>
#include <condition_variable>

#include <fmt/format.h>

namespace zunth::device::mqtt {

using namespace ua;

namespace {

constexpr std::size_t kMostTopics = 10'000, kMostLeaves = 200;

/// Hears everything.
class Ear final : public Broker::Listener {
 public:
  void session(bool isThere, const Error& why) override {
    const std::lock_guard lock(mutex);
    if (!isThere && why.cause.empty()) return;  // it hasn't tried yet
    isConnected = isThere;
    isTold = true;
    reason = why;
    changed.notify_all();
  }
  void message(const std::string& topic, std::string_view payload, bool) override {
    const std::lock_guard lock(mutex);
    if (heard.size() < kMostTopics || heard.contains(topic)) heard[topic] = payload;
  }
  void tick() override {}
  std::mutex mutex;
  std::condition_variable changed;
  bool isConnected = false, isTold = false;
  Error reason{status::BadTimeout, "the broker does not answer", {}};
  std::map<std::string, std::string> heard;
};

/// Whether it can stand in a file as a word.
bool isWord(const std::string& text) {
  return std::ranges::all_of(text, [](char c) { return static_cast<unsigned char>(c) > 0x20 && c != 0x7F; });
}

void leavesOf(const Json& json, const std::string& path, std::vector<std::string>& out) {
  if (out.size() >= kMostLeaves) return;
  if (json.is_object()) {
    for (const auto& [key, value] : json.items())
      if (isWord(key) && key.find_first_of(".[") == std::string::npos) leavesOf(value, path + "." + key, out);
  } else if (json.is_array()) {
    for (std::size_t i = 0; i < json.size(); ++i) leavesOf(json[i], fmt::format("{}[{}]", path, i), out);
  } else if (!json.is_null()) {
    out.push_back(path);
  }
}

bool isTime(const std::string& path) {
  const std::string last = path.substr(path.find_last_of(".$") + 1);
  return last == "at" || last == "time" || last == "timestamp" || last == "ts";
}

/// A name in a model: of a stranger's text letters and digits alone.
std::string nameOf(const std::string& topic, const std::string& path) {
  std::string out;
  for (const char c : topic + path) {
    const bool isPlain = std::isalnum(static_cast<unsigned char>(c)) || c == '-';
    if (isPlain || (!out.empty() && out.back() != '_')) out += isPlain ? c : '_';
  }
  if (out.ends_with('_')) out.pop_back();
  return out.empty() ? "value" : out;
}

}  // namespace

std::vector<FoundPoint> propose(const std::string& topic, std::string_view payload) {
  std::vector<FoundPoint> out;
  const DateTime now = wallClock();
  const Message message(topic, payload, false);
  const Json* json = message.json();
  if (!json || (!json->is_object() && !json->is_array())) {
    out.push_back({nameOf(topic, {}), topic, DataValue(plainValue(payload), now)});
    return out;
  }
  std::vector<std::string> paths;
  leavesOf(*json, "$", paths);
  const auto time = std::ranges::find_if(paths, isTime);
  for (const auto& path : paths) {
    if (time != paths.end() && path == *time) continue;
    const std::string words = fmt::format("{} {}{}", topic, path, time == paths.end() ? "" : " time " + *time);
    model::Findings ignored;
    Conversion none;
    const auto point = parsePoint({{nameOf(topic, path), {}}, {words, {}}}, none, ignored);
    if (point) out.push_back({nameOf(topic, path), words, valueIn(*point, message, now)});
  }
  return out;
}

Result<std::vector<FoundPoint>> scanBroker(const DeviceText& text, const ScanWish& wish, model::Findings& findings) {
  const MqttSettings settings = readSettings(text, findings);
  if (wish.progress) wish.progress(fmt::format("listening to the broker {}", settings.broker.text()));
  Ear ear;
  const auto broker = Broker::to(settings.broker);
  broker->add(ear, {"#"});
  std::unique_lock lock(ear.mutex);
  ear.changed.wait_for(lock, std::chrono::seconds(6), [&] { return ear.isTold; });
  const bool isConnected = ear.isConnected;
  if (isConnected) ear.changed.wait_for(lock, wish.patience, [] { return false; });
  lock.unlock();
  broker->remove(ear);
  if (!isConnected) return ear.reason;
  std::vector<FoundPoint> out;
  std::set<std::string> names;
  for (const auto& [topic, payload] : ear.heard)
    if (isWord(topic))
      for (auto& point : propose(topic, payload)) {
        // Different topics may have one name.
        const std::string name = point.name;
        for (int i = 2; !names.insert(point.name).second; ++i) point.name = fmt::format("{}-{}", name, i);
        out.push_back(std::move(point));
      }
  return out;
}

}  // namespace zunth::device::mqtt
