#include "service/device/mqtt_scan.hpp"

#include "core/ua/json_parser.hpp"
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

void leavesOf(const Json& json, const std::string& path, std::vector<std::string>& out) {
  if (out.size() >= kMostLeaves) return;
  if (json.is_object()) {
    for (const auto& [key, value] : json.items())
      if (key.find_first_of(".[ ") == std::string::npos) leavesOf(value, path + "." + key, out);
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

/// A name in a model, without what separates names.
std::string nameOf(const std::string& topic, const std::string& path) {
  std::string out = topic;
  for (const char c : path)
    if (c == '.' || c == '[')
      out += '/';
    else if (c != '$' && c != ']')
      out += c;
  std::ranges::replace(out, '/', '_');
  while (out.find("__") != std::string::npos) out.replace(out.find("__"), 2, "_");
  return out;
}

}  // namespace

std::vector<FoundPoint> propose(const std::string& topic, std::string_view payload) {
  std::vector<FoundPoint> out;
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  const auto json = parseJson(payload, {20, 1'000, 20'000});
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
    if (point) out.push_back({nameOf(topic, path), words, valueIn(*point, payload, now)});
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
  for (const auto& [topic, payload] : ear.heard)
    if (topic.find(' ') == std::string::npos)
      for (auto& point : propose(topic, payload)) out.push_back(std::move(point));
  return out;
}

}  // namespace zunth::device::mqtt
