#include "service/device/mqtt_broker.hpp"

#include "core/ua/foreign.hpp"
#include "service/device/octet_link.hpp"
#include "service/device/shared_by_name.hpp"

#include <algorithm>
#include <condition_variable>

#include <fmt/format.h>
#include <mosquitto.h>

namespace zunth::device::mqtt {

using namespace ua;

namespace {

constexpr int kKeepAlive = 10;  // s
constexpr auto kFirstPause = std::chrono::milliseconds(500), kLongestPause = std::chrono::milliseconds(30'000);
constexpr int kTurn = 100;  // ms
constexpr auto kPatience = std::chrono::seconds(5);
constexpr std::size_t kMostSending = 1'000;

const Error kWell{status::Good, {}, {}};

}  // namespace

std::string BrokerSettings::text() const { return fmt::format("{}:{}", host, port); }

std::shared_ptr<Broker> Broker::to(const BrokerSettings& settings) {
  static SharedByName<BrokerSettings, Broker> brokers;
  return brokers.get(settings, [&] { return std::shared_ptr<Broker>(new Broker(settings)); });
}

Broker::Broker(BrokerSettings settings)
    : settings_(std::move(settings)), log_(WireLog::of("broker " + settings_.text())) {
  static const bool isReady = mosquitto_lib_init() == MOSQ_ERR_SUCCESS;
  (void)isReady;
  client_ = mosquitto_new(nullptr, true, this);
  mosquitto_threaded_set(client_, true);
  mosquitto_int_option(client_, MOSQ_OPT_PROTOCOL_VERSION, settings_.version);
  if (!settings_.user.empty()) mosquitto_username_pw_set(client_, settings_.user.c_str(), settings_.password.c_str());
  mosquitto_connect_callback_set(client_, connected);
  mosquitto_message_callback_set(client_, arrived);
  mosquitto_publish_callback_set(client_, published);
  mosquitto_subscribe_callback_set(client_, subscribed);
  thread_ = std::jthread([this](const std::stop_token& stop) { run(stop); });
}

Broker::~Broker() {
  thread_.request_stop();
  thread_.join();
  mosquitto_destroy(client_);
}

std::set<std::string> Broker::wanted() const {
  std::set<std::string> out;
  for (const auto& [listener, topics] : listeners_) out.insert(topics.begin(), topics.end());
  return out;
}

/// What somebody wanted before goes on without a gap.
void Broker::subscribeTo(const std::set<std::string>& before) {
  if (!isThere_) return;
  constexpr int kAtLeastOnce = 1;
  const auto now = wanted();
  for (const auto& topic : now) {
    int number = 0;
    if (!before.contains(topic) &&
        mosquitto_subscribe(client_, &number, topic.c_str(), kAtLeastOnce) == MOSQ_ERR_SUCCESS)
      subscribing_.insert(number);
  }
  for (const auto& topic : before)
    if (!now.contains(topic)) mosquitto_unsubscribe(client_, nullptr, topic.c_str());
}

void Broker::add(Listener& listener, std::vector<std::string> topics) {
  const std::lock_guard lock(mutex_);
  const auto before = wanted();
  const bool isNew = !listeners_.contains(&listener);
  listeners_[&listener] = std::move(topics);
  subscribeTo(before);
  if (!isNew) return;
  if (!isThere_) return listener.session(false, why_);
  newcomers_.insert(&listener);
  if (subscribing_.empty()) welcome();
}

void Broker::remove(Listener& listener) {
  const std::lock_guard lock(mutex_);
  const auto before = wanted();
  newcomers_.erase(&listener);
  if (listeners_.erase(&listener)) subscribeTo(before);
}

void Broker::publish(const std::string& topic, const std::string& payload, bool isKept, Done done) {
  const std::lock_guard lock(mutex_);
  if (!isThere_) return done(why_);
  if (sending_.size() >= kMostSending)
    return done({status::BadTooManyOperations,
                 fmt::format("{} messages wait for the broker {} already", kMostSending, settings_.text()),
                 "write less often, or look why it is slow"});
  int number = 0;
  constexpr int kAtLeastOnce = 1;
  const int code = mosquitto_publish(client_, &number, topic.c_str(), static_cast<int>(payload.size()), payload.data(),
                                     kAtLeastOnce, isKept);
  if (code != MOSQ_ERR_SUCCESS) return done(lost(code));
  if (log_->isOn())
    log_->note(true, std::as_bytes(std::span(payload)), fmt::format("{}: {}", shown(topic), shown(payload)));
  sending_[number] = std::move(done);
}

Error Broker::lost(int code) const {
  const std::string why = code == MOSQ_ERR_ERRNO ? std::strerror(errno) : mosquitto_strerror(code);
  return {status::BadNoCommunication, fmt::format("the broker {}: {}", settings_.text(), why),
          "look whether the broker runs and its address is right"};
}

void Broker::connected(mosquitto*, void* self, int code) { static_cast<Broker*>(self)->refusal_ = code; }

void Broker::arrived(mosquitto*, void* self, const mosquitto_message* message) {
  constexpr int kMostOctets = 1 << 20;  // of a payload
  auto& broker = *static_cast<Broker*>(self);
  const std::string topic = message->topic;
  const std::string_view payload(static_cast<const char*>(message->payload),
                                 static_cast<std::size_t>(std::clamp(message->payloadlen, 0, kMostOctets)));
  if (broker.log_->isOn())
    broker.log_->note(false, std::as_bytes(std::span(payload)), fmt::format("{}: {}", shown(topic), shown(payload)));
  const std::lock_guard lock(broker.mutex_);
  // A copy: one may leave while another is told.
  const auto listeners = broker.listeners_;
  for (const auto& [listener, topics] : listeners) {
    const bool isTheirs = std::ranges::any_of(topics, [&](const std::string& wanted) {
      bool fits = false;
      return mosquitto_topic_matches_sub(wanted.c_str(), topic.c_str(), &fits) == MOSQ_ERR_SUCCESS && fits;
    });
    if (isTheirs && broker.listeners_.contains(listener)) listener->message(topic, payload, message->retain);
  }
}

void Broker::published(mosquitto*, void* self, int number) {
  auto& broker = *static_cast<Broker*>(self);
  const std::lock_guard lock(broker.mutex_);
  if (auto sent = broker.sending_.extract(number); !sent.empty()) sent.mapped()(kWell);
}

/// Until the broker has confirmed what was asked for, messages pass by.
void Broker::subscribed(mosquitto*, void* self, int number, int, const int*) {
  auto& broker = *static_cast<Broker*>(self);
  const std::lock_guard lock(broker.mutex_);
  if (broker.subscribing_.erase(number) > 0 && broker.subscribing_.empty()) broker.welcome();
}

void Broker::welcome() {
  for (Listener* const listener : std::exchange(newcomers_, {}))
    if (listeners_.contains(listener)) listener->session(true, kWell);
}

void Broker::tell(bool isThere, const Error& why) {
  const std::lock_guard lock(mutex_);
  const bool isNews = isThere_ != isThere || why_.cause != why.cause;
  isThere_ = isThere;
  why_ = why;
  subscribing_.clear();
  newcomers_.clear();
  subscribeTo({});
  const auto listeners = listeners_;
  if (isThere) {
    for (const auto& [listener, topics] : listeners) newcomers_.insert(listener);
    if (subscribing_.empty()) welcome();
    return;
  }
  if (!isNews) return;
  for (const auto& [listener, topics] : listeners)
    if (listeners_.contains(listener)) listener->session(false, why);
}

void Broker::failAll(const Error& why) {
  const std::lock_guard lock(mutex_);
  for (auto& [number, done] : std::exchange(sending_, {})) done(why);
}

Result<void> Broker::connect() {
  if (!settings_.authority.empty()) {
    const int code = mosquitto_tls_set(client_, settings_.authority.c_str(), nullptr, nullptr, nullptr, nullptr);
    if (code != MOSQ_ERR_SUCCESS)
      return Error{status::BadConfigurationError,
                   fmt::format("the file {} can't be used for TLS: {}", settings_.authority, mosquitto_strerror(code)),
                   "name the certificate of the broker's authority under 'authority'"};
  }
  // The library waits as long as the system does; who isn't there is found out first, within bounds.
  OctetLink there({settings_.host, settings_.port, {}});
  if (auto reached = there.open(std::chrono::steady_clock::now() + kPatience); !reached) return reached;
  there.close();
  refusal_ = -1;
  const int code = mosquitto_connect(client_, settings_.host.c_str(), settings_.port, kKeepAlive);
  if (code != MOSQ_ERR_SUCCESS) return lost(code);
  // The connection stands; whether the broker takes it, it says itself.
  const auto deadline = std::chrono::steady_clock::now() + kPatience;
  while (refusal_ < 0 && std::chrono::steady_clock::now() < deadline)
    if (const int failed = mosquitto_loop(client_, kTurn, 1); failed != MOSQ_ERR_SUCCESS && refusal_ <= 0)
      return lost(failed);
  if (refusal_ == 0) return {};
  if (refusal_ < 0)
    return Error{status::BadTimeout, fmt::format("the broker {} does not answer", settings_.text()), {}};
  const char* const why =
      settings_.version >= 5 ? mosquitto_reason_string(refusal_) : mosquitto_connack_string(refusal_);
  return Error{status::BadUserAccessDenied, fmt::format("the broker {} refuses: {}", settings_.text(), why),
               "look at 'user' and 'password' of the device's file"};
}

void Broker::serve(const std::stop_token& stop) {
  auto ticked = std::chrono::steady_clock::now();
  while (!stop.stop_requested()) {
    const int code = mosquitto_loop(client_, kTurn, 1);
    if (code != MOSQ_ERR_SUCCESS) {
      tell(false, lost(code));
      return failAll(lost(code));
    }
    // The library comes back for each message, too.
    const auto now = std::chrono::steady_clock::now();
    if (now - ticked < std::chrono::milliseconds(kTurn)) continue;
    ticked = now;
    const std::lock_guard lock(mutex_);
    const auto listeners = listeners_;
    for (const auto& [listener, topics] : listeners)
      if (listeners_.contains(listener)) listener->tick();
  }
}

void Broker::run(const std::stop_token& stop) {
  Duration pause = kFirstPause;
  std::mutex sleeping;
  std::condition_variable_any wake;
  while (!stop.stop_requested()) {
    const auto outcome = connect();
    if (outcome) {
      pause = kFirstPause;
      tell(true, kWell);
      serve(stop);
    } else {
      tell(false, outcome.error());
    }
    mosquitto_disconnect(client_);
    std::unique_lock lock(sleeping);
    wake.wait_for(lock, stop, pause, [] { return false; });
    pause = std::min<Duration>(pause * 2, kLongestPause);
  }
  failAll({status::BadNoCommunication, "the device is let go", {}});
}

}  // namespace zunth::device::mqtt
