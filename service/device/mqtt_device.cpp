#include "service/device/mqtt_device.hpp"

#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <mosquitto.h>

namespace zunth::device::mqtt {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

constexpr JsonLimits kPayload{20, 1'000, 20'000};

Instant now() { return std::chrono::steady_clock::now(); }
/// "$.a.b[2]" in its parts; nothing when it is no path.
std::optional<std::vector<std::string>> pathOf(std::string_view text) {
  if (!text.starts_with('$')) return std::nullopt;
  std::vector<std::string> out;
  for (text.remove_prefix(1); !text.empty();) {
    const bool isElement = text.front() == '[';
    if (!isElement && text.front() != '.') return std::nullopt;
    text.remove_prefix(1);
    const auto end = isElement ? text.find(']') : text.find_first_of(".[");
    if (isElement && end == std::string_view::npos) return std::nullopt;
    out.emplace_back(text.substr(0, end));
    if (out.back().empty()) return std::nullopt;
    text.remove_prefix(std::min(text.size(), isElement ? end + 1 : end));
  }
  return out;
}

/// What a path leads to; null when it leads nowhere.
const Json* follow(const Json& root, const std::vector<std::string>& path) {
  const Json* at = &root;
  for (const auto& part : path) {
    if (at->is_object()) {
      const auto found = at->find(part);
      if (found == at->end()) return nullptr;
      at = &*found;
    } else if (at->is_array()) {
      const auto index = parse(part, BuiltInType::UInt32);
      if (!index || *index->get<std::uint32_t>() >= at->size()) return nullptr;
      at = &(*at)[*index->get<std::uint32_t>()];
    } else {
      return nullptr;
    }
  }
  return at;
}

Variant variantOf(const Json& json);

/// A list of numbers, texts, or what is true or false; null for one of other things.
Variant rowOf(const Json& list) {
  const auto all = [&](auto is) { return !list.empty() && std::ranges::all_of(list, is); };
  if (all([](const Json& each) { return each.is_number(); }) &&
      !all([](const Json& each) { return each.is_number_integer(); })) {
    std::vector<double> numbers;
    for (const auto& each : list) numbers.push_back(each.get<double>());
    return Variant::array(numbers);
  }
  std::vector<Variant> elements;
  const bool hasNegative = std::ranges::any_of(list, [](const Json& each) { return each.is_number() && each < 0; });
  for (const auto& each : list) {
    if (each.is_structured()) return {};
    elements.push_back(hasNegative && each.is_number_integer() ? Variant(each.get<std::int64_t>()) : variantOf(each));
  }
  const auto row = arrayOf(elements, BuiltInType::Double);
  return row ? *row : Variant();
}

Variant variantOf(const Json& json) {
  if (json.is_array()) return rowOf(json);
  if (json.is_boolean()) return Variant(json.get<bool>());
  if (json.is_number_unsigned()) return Variant(json.get<std::uint64_t>());
  if (json.is_number_integer()) return Variant(json.get<std::int64_t>());
  if (json.is_number()) return Variant(json.get<double>());
  if (json.is_string()) return Variant(String(json.get<std::string>()));
  return Variant();
}

/// A time as devices write it: text of ISO 8601, or seconds or milliseconds since 1970.
std::optional<DateTime> timeIn(const Json& json) {
  if (json.is_string()) {
    const auto time = DateTime::parse(json.get<std::string>());
    return time ? std::optional(*time) : std::nullopt;
  }
  if (!json.is_number()) return std::nullopt;
  constexpr double kMillisecondsFrom = 1e11, kFarthest = 4e12;  // the year 2096
  double number = json.get<double>();
  if (number > kMillisecondsFrom) number /= 1000;
  if (!(number >= 0 && number < kFarthest / 1000)) return std::nullopt;
  constexpr std::int64_t kUnixEpoch = 116'444'736'000'000'000;
  return DateTime{kUnixEpoch + static_cast<std::int64_t>(number * 1e7)};
}

bool matches(const std::string& filter, const std::string& topic) {
  bool fits = false;
  return mosquitto_topic_matches_sub(filter.c_str(), topic.c_str(), &fits) == MOSQ_ERR_SUCCESS && fits;
}

}  // namespace

std::optional<MqttPoint> parsePoint(const DeviceText::PointText& text, Conversion& conversion, Findings& findings) {
  MqttPoint out;
  out.point.name = text.name.text;
  out.point.where = text.words.text;
  out.point.type = BuiltInType::Variant;
  const auto words = wordsOf(text.words);
  const auto fail = [&](const Text& at, std::string message, std::string hint) {
    findings.error(at.place, std::move(message), std::move(hint));
    return std::nullopt;
  };
  if (words.empty())
    return fail(text.words, "a point is a topic", "as in: hall1/a1/oxygen, or hall1/a1/state $.oxygen");
  out.topic = words[0].text;
  if (mosquitto_sub_topic_check(out.topic.c_str()) != MOSQ_ERR_SUCCESS)
    return fail(words[0], fmt::format("'{}' is no topic", out.topic),
                "'+' stands for one level, '#' for all that follow");
  for (std::size_t i = 1; i < words.size();) {
    const auto isConversion = readConversion(words, i, conversion, findings);
    if (!isConversion) return std::nullopt;
    if (*isConversion) continue;
    const std::string& word = words[i].text;
    const std::string next = i + 1 < words.size() ? words[i + 1].text : std::string();
    if (word.starts_with('$')) {
      const auto path = pathOf(word);
      if (!path)
        return fail(words[i], fmt::format("'{}' is no path into JSON", word), "as in: $.probe.oxygen, or $.values[2]");
      out.path = *path;
      i += 1;
    } else if (word == "time") {
      const auto path = pathOf(next);
      if (!path) return fail(words[i], "'time' needs a path into JSON", "as in: time $.at");
      out.time = *path;
      i += 2;
    } else if (word == "send") {
      if (next.empty() || mosquitto_pub_topic_check(next.c_str()) != MOSQ_ERR_SUCCESS)
        return fail(words[i], "'send' needs the topic that what is written goes to", "as in: send hall1/a1/valve/set");
      out.sendsTo = next;
      i += 2;
    } else if (word == "kept") {
      out.isKept = true;
      i += 1;
    } else {
      return fail(
          words[i], fmt::format("'{}' means nothing here", word),
          "behind the topic come a path as $.oxygen, 'time $.at', 'send TOPIC', 'kept', and what is made of the value");
    }
  }
  out.point.isWritable = !out.sendsTo.empty();
  if (!checkConversion(conversion, out.point.type, text.words, findings)) return std::nullopt;
  return out;
}

const Json* Message::json() const {
  if (!json_) json_ = parseJson(payload_, kPayload);
  return *json_ ? &**json_ : nullptr;
}

DataValue valueIn(const MqttPoint& point, const Message& message, DateTime when) {
  if (point.path.empty() && point.time.empty()) return DataValue(plainValue(message.payload()), when);
  const Json* json = message.json();
  if (!json) return DataValue(Variant(), when, status::BadDecodingError);
  if (const Json* own = point.time.empty() ? nullptr : follow(*json, point.time))
    if (const auto time = timeIn(*own)) when = *time;
  const Json* found = follow(*json, point.path);
  Variant value = found ? variantOf(*found) : Variant();
  const StatusCode code = value.isNull() ? status::BadNoData : status::Good;
  return DataValue(std::move(value), when, code);
}

MqttSettings readSettings(const DeviceText& text, Findings& findings) {
  MqttSettings settings;
  const auto word = [&](const char* key) {
    const Text* found = text.root.textOf(key);
    return found ? found->text : std::string();
  };
  if (const Text* at = text.root.textOf("broker")) {
    const auto colon = at->text.rfind(':');
    settings.broker.host = at->text.substr(0, colon);
    if (colon != std::string::npos) {
      const auto port = parse(at->text.substr(colon + 1), BuiltInType::UInt16);
      if (!port || *port->get<std::uint16_t>() == 0)
        findings.error(at->place, fmt::format("'{}' is no broker", at->text), "as in: broker: 127.0.0.1:1883");
      else
        settings.broker.port = *port->get<std::uint16_t>();
    }
  }
  settings.broker.user = word("user");
  settings.broker.password = word("password");
  if (const Text* file = text.root.textOf("password-file")) {
    if (text.root.textOf("password"))
      findings.error(file->place, "there are two passwords", "leave 'password' or 'password-file' out");
    settings.broker.password = secretOf(text, "password-file", findings);
  }
  if (const std::string authority = word("authority"); !authority.empty())
    settings.broker.authority = (text.folder / authority).string();
  if (const Text* version = text.root.textOf("version")) {
    if (version->text == "3.1.1")
      settings.broker.version = 4;
    else if (version->text != "5")
      findings.error(version->place, fmt::format("there is no version '{}' of MQTT here", version->text),
                     "write 3.1.1 or 5");
  }
  if (const Text* alive = text.root.textOf("alive")) {
    const auto equals = alive->text.find(" = ");
    settings.aliveTopic = alive->text.substr(0, equals);
    if (equals == std::string::npos)
      findings.error(alive->place, "'alive' needs a topic and what it says when the device is there",
                     "as in: alive: hall1/probes/state = online");
    else
      settings.alivePayload = alive->text.substr(equals + 3);
  }
  settings.quiet = durationOf(text.root, "quiet", 0, findings);
  if (const auto* discover = text.root.find("discover")) {
    if (discover->entries.empty())
      findings.error(discover->key.place, "'discover' has no patterns",
                     "as in: discover:, and below it: \"{tank}/oxygen\": hall/{tank}/state $.oxygen");
    for (const auto& entry : discover->entries) {
      auto pattern = TopicPattern::read(entry, findings);
      Conversion conversion;
      // The words behind the topic are the same for each.
      if (pattern && parsePoint({entry.key,
                                 {pattern->filter() + entry.value->text.substr(wordsOf(*entry.value)[0].text.size()),
                                  entry.value->place}},
                                conversion, findings))
        settings.discovers.push_back(std::move(*pattern));
    }
  }
  return settings;
}

DriverSetup readDevice(const DeviceText& text, Findings& findings) {
  const MqttSettings settings = readSettings(text, findings);
  DriverSetup setup;
  auto points = readPoints<MqttPoint>(text, setup, findings, parsePoint);
  setup.line = "";  // a session that all share
  setup.secrets = std::hash<std::string>()(settings.broker.password);
  setup.address = "broker " + settings.broker.text();
  setup.make = [settings, points = std::move(points)](const std::string&) {
    return std::make_unique<MqttDevice>(settings, points);
  };
  return setup;
}

MqttDevice::MqttDevice(MqttSettings settings, std::vector<MqttPoint> points) : settings_(std::move(settings)) {
  for (auto& point : points) add(std::move(point));
}

void MqttDevice::add(MqttPoint point) {
  const PointIndex index = points_.size();
  known_.insert(point.point.name);
  names_.push_back(point.point);
  if (point.topic.find_first_of("+#") == std::string::npos)
    byTopic_.emplace(point.topic, index);
  else
    byFilter_.push_back(index);
  points_.push_back(std::move(point));
}

std::optional<DevicePoint> MqttDevice::add(const Discovered& point) {
  Findings findings;
  Conversion conversion;
  auto made = room_ > 0 ? parsePoint({{point.name, {}}, {point.words, {}}}, conversion, findings) : std::nullopt;
  if (!made || known_.contains(point.name)) return std::nullopt;
  --room_;
  made->point.type = point.type;
  made->isDiscovered = true;
  wanted_.insert(points_.size());
  DevicePoint out{made->point, std::move(conversion)};
  add(std::move(*made));
  return out;
}

std::vector<DevicePoint> MqttDevice::remember(const std::vector<Discovered>& points) {
  const std::lock_guard lock(mutex_);
  std::vector<DevicePoint> out;
  for (const auto& point : points)
    if (auto made = add(point)) out.push_back(std::move(*made));
  return out;
}

/// Points that nobody has heard of before this message. Under the mutex.
std::vector<DevicePoint> MqttDevice::discover(const Message& message) {
  std::vector<DevicePoint> out;
  for (const auto& pattern : settings_.discovers) {
    const auto text = room_ > 0 ? pattern.pointOf(message.topic()) : std::nullopt;
    if (!text || known_.contains(text->name.text)) continue;
    Findings findings;
    Conversion conversion;
    const auto point = parsePoint(*text, conversion, findings);
    const Variant first = point ? valueIn(*point, message, wallClock()).value : Variant();
    if (first.isNull()) continue;  // it says nothing yet
    double number = 0;
    const BuiltInType type = first.isArray()          ? BuiltInType::Variant
                             : first.toDouble(number) ? BuiltInType::Double
                                                      : first.type();
    // What is a number today may have a fraction tomorrow.
    if (auto made = add({text->name.text, text->words.text, first.get<bool>() ? first.type() : type}))
      out.push_back(std::move(*made));
  }
  return out;
}

MqttDevice::~MqttDevice() {
  if (broker_) broker_->remove(*this);
}

std::vector<std::string> MqttDevice::topics() const {
  const std::lock_guard lock(mutex_);
  std::set<std::string> wanted;
  for (const PointIndex point : wanted_)
    if (!points_[point].isDiscovered) wanted.insert(points_[point].topic);
  for (const auto& pattern : settings_.discovers) wanted.insert(pattern.filter());
  if (!settings_.aliveTopic.empty()) wanted.insert(settings_.aliveTopic);
  return {wanted.begin(), wanted.end()};
}

void MqttDevice::start(Sink& sink) {
  sink_ = &sink;
  isAlive_ = settings_.aliveTopic.empty();
  heardAt_ = now();
  broker_ = Broker::to(settings_.broker);
  broker_->add(*this, topics());
}

void MqttDevice::stop(std::function<void()> done) {
  if (broker_) broker_->remove(*this);
  done();
}

void MqttDevice::want(std::vector<Wish> wishes) {
  {
    const std::lock_guard lock(mutex_);
    wanted_.clear();
    for (const auto& wish : wishes) wanted_.insert(wish.point);
  }
  if (broker_) broker_->add(*this, topics());
}

void MqttDevice::refresh(std::vector<PointIndex> points, Instant, std::function<void()> done) {
  std::vector<Sample> again;
  {
    const std::lock_guard lock(mutex_);
    for (const PointIndex point : points)
      if (const auto last = last_.find(point); last != last_.end() && sink_->isTraced(point))
        again.push_back(sampleOf(point, *last->second));
  }
  if (!again.empty()) (void)sink_->samples(std::move(again));
  done();
}

void MqttDevice::write(std::vector<PointWrite> writes, Instant deadline, WritesDone done) {
  struct Outcomes {
    std::mutex mutex;
    std::vector<Error> errors;
    std::size_t left;
    WritesDone done;
  };
  const auto outcomes = std::make_shared<Outcomes>();
  outcomes->errors.assign(writes.size(), Error{status::Good, {}, {}});
  outcomes->left = writes.size();
  outcomes->done = std::move(done);
  const auto settle = [outcomes](std::size_t i, Error error) {
    bool isLast = false;
    {
      const std::lock_guard lock(outcomes->mutex);
      outcomes->errors[i] = std::move(error);
      isLast = --outcomes->left == 0;
    }
    if (isLast) outcomes->done(std::move(outcomes->errors));
  };
  for (std::size_t i = 0; i < writes.size(); ++i) {
    const MqttPoint point = [&] {
      const std::lock_guard lock(mutex_);
      return points_[writes[i].point];
    }();
    if (point.sendsTo.empty() || writes[i].bit >= 0)
      settle(i, {status::BadNotWritable, fmt::format("the point {} sends nothing", point.point.name),
                 "write 'send TOPIC' behind it"});
    else if (now() > deadline || !broker_)
      settle(i, {status::BadTimeout, "nothing was sent in time", {}});
    else
      broker_->publish(point.sendsTo, plainText(writes[i].value), point.isKept,
                       [settle, i](Error error) { settle(i, std::move(error)); });
  }
  if (writes.empty()) outcomes->done({});
}

void MqttDevice::act(std::vector<Step> steps, Instant deadline, ActDone done) {
  std::vector<PointWrite> writes;
  std::vector<Variant> outputs;
  for (const auto& step : steps) {
    if (step.kind == Step::Kind::Write) {
      writes.push_back({step.point, step.value, step.bit});
      continue;
    }
    const std::lock_guard lock(mutex_);
    const auto last = last_.find(step.point);
    outputs.push_back(last == last_.end() ? Variant() : valueIn(points_[step.point], *last->second, wallClock()).value);
  }
  write(std::move(writes), deadline, [outputs = std::move(outputs), done = std::move(done)](std::vector<Error> told) {
    for (const auto& error : told)
      if (error.code.isBad()) return done(error);
    done(outputs);
  });
}

Figures MqttDevice::figures() const {
  const std::lock_guard lock(mutex_);
  return figures_;
}

void MqttDevice::session(bool isThere, const Error& why) {
  hasSession_ = isThere;
  heardAt_ = sessionAt_ = now();
  why_ = why;
  judge();
}

/// Tells when the device has come or gone.
void MqttDevice::judge() {
  Error why = why_;
  const bool isQuiet = settings_.quiet > 0 && now() - heardAt_ > milliseconds(settings_.quiet);
  if (hasSession_ && !isAlive_)
    why = {status::BadNoCommunication,
           fmt::format("{} does not say '{}'", settings_.aliveTopic, settings_.alivePayload),
           "look whether the device is on"};
  else if (hasSession_ && isQuiet)
    why = {status::BadNoCommunication, fmt::format("nothing has come for {:g} s", settings_.quiet / 1000), {}};
  const bool isConnected = hasSession_ && isAlive_ && !isQuiet;
  // What it says of itself needs a moment to come, and the first connection, too.
  const bool isNew = hasSession_ ? !isAlive_ && now() - sessionAt_ < std::chrono::seconds(1) : why.cause.empty();
  if (isNew && !wasConnected_) return;
  if (isConnected != wasConnected_ || (!isConnected && toldWhy_ != why.cause)) {
    if (!isConnected) {
      const std::lock_guard lock(mutex_);
      ++figures_.failures;
    }
    wasConnected_ = isConnected;
    toldWhy_ = isConnected ? std::string() : why.cause;
    sink_->link(isConnected, isConnected ? Error{status::Good, {}, {}} : why);
  }
  if (isConnected) bring();
}

/// Hands on what waits. While there is no room, only the last of each point waits, and is tried again with the next
/// tick.
void MqttDevice::bring() {
  std::vector<Sample> batch;
  {
    const std::lock_guard lock(mutex_);
    batch = std::exchange(waiting_, {});
  }
  isFull_ = !batch.empty() && !sink_->samples(std::move(batch));
}

Sample MqttDevice::sampleOf(PointIndex point, const Message& message) const {
  Sample sample{point, valueIn(points_[point], message, wallClock())};
  // What the broker kept is as old as nobody knows, unless it says so or the device is known to be there.
  const bool isTold = !points_[point].time.empty() || !settings_.aliveTopic.empty();
  if (message.isOld() && !isTold && !sample.value.status.isBad())
    sample.value.status = status::UncertainLastUsableValue;
  if (sink_->isTraced(point)) {
    constexpr std::size_t kShown = 200;
    Trace trace{{"message", fmt::format("{}{}", shown(message.topic()), message.isOld() ? ", kept by the broker" : "")},
                {"payload", shown(message.payload(), kShown)}};
    trace.push_back({fmt::format("as {}", nameOf(sample.value.value.type())), format(sample.value.value)});
    sample.trace = std::make_shared<const Trace>(std::move(trace));
  }
  return sample;
}

/// Whether it was held up on its way, while ones with later times have come: what a gateway kept and sends when it is
/// back. When none has come for a while, or what came is from the future, the device's clock was set.
bool MqttDevice::isLate(PointIndex point, DateTime time) {
  constexpr auto kAWhile = std::chrono::minutes(1);
  constexpr std::int64_t kApart = 50'000'000;  // ticks, that clocks may be
  if (points_[point].time.empty()) return false;
  Newest& newest = newest_[point];
  const bool isTrusted = newest.time.ticks <= wallClock().ticks + kApart && now() - newest.came < kAWhile;
  if (time < newest.time && isTrusted) return true;
  newest = {time, now()};
  return false;
}

/// Under the mutex.
void MqttDevice::take(PointIndex point, const std::shared_ptr<const Message>& message) {
  if (!wanted_.contains(point)) return;
  Sample sample = sampleOf(point, *message);
  const auto isSame = [&](const Sample& each) { return each.point == point && each.kind == Sample::Kind::Current; };
  if (isLate(point, sample.value.sourceTimestamp))
    sample.kind = Sample::Kind::Past;
  else
    last_[point] = message;
  const bool replaces = isFull_ && sample.kind == Sample::Kind::Current;
  const auto same = replaces ? std::ranges::find_if(waiting_, isSame) : waiting_.end();
  if (same != waiting_.end())
    *same = std::move(sample);
  else if (constexpr std::size_t kMostWaiting = 10'000; waiting_.size() < kMostWaiting)
    waiting_.push_back(std::move(sample));
}

void MqttDevice::message(const std::string& topic, std::string_view payload, bool isOld) {
  heardAt_ = now();
  if (topic == settings_.aliveTopic) isAlive_ = trimmed(payload) == settings_.alivePayload;
  std::vector<DevicePoint> made;
  {
    const std::lock_guard lock(mutex_);
    ++figures_.polls;
    const auto message = std::make_shared<const Message>(topic, payload, isOld);
    made = discover(*message);
    const auto [from, to] = byTopic_.equal_range(topic);
    for (auto each = from; each != to; ++each) take(each->second, message);
    for (const PointIndex point : byFilter_)
      if (matches(points_[point].topic, topic)) take(point, message);
  }
  if (!made.empty()) sink_->discovered(std::move(made));
  if (!isFull_) judge();
}

void MqttDevice::tick() { judge(); }

}  // namespace zunth::device::mqtt
