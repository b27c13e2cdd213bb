#pragma once

#include "core/ua/instant.hpp"
#include "core/ua/result.hpp"
#include "service/device/wire_log.hpp"

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <set>
#include <string>
#include <thread>
#include <vector>

struct mosquitto;
struct mosquitto_message;

namespace zunth::device::mqtt {

/// Where a broker is and how it is spoken to.
struct BrokerSettings {
  std::string host = "127.0.0.1";
  std::uint16_t port = 1883;
  std::string user, password;
  std::string authority;  // file of the certificate that the broker's is signed by; empty without TLS
  int version = 5;        // of MQTT: 4 stands for 3.1.1

  /// "127.0.0.1:1883".
  std::string text() const;
  auto operator<=>(const BrokerSettings&) const = default;
};

/// A session with a broker that all devices behind it share, on a thread of its own: it connects, reconnects with a
/// growing pause, and subscribes anew to what it is asked for.
class Broker {
 public:
  /// Who is behind a broker; called on its thread, never after remove() has returned.
  class Listener {
   public:
    virtual ~Listener() = default;
    /// The session is there, and what was asked for is on its way; or not, and why. Once for each change.
    virtual void session(bool isThere, const ua::Error& why) = 0;
    /// `isOld`: the broker had kept it.
    virtual void message(const std::string& topic, std::string_view payload, bool isOld) = 0;
    /// About ten times a second.
    virtual void tick() = 0;
  };
  using Done = std::function<void(ua::Error)>;

  /// The one session with these settings, made when nobody has it.
  static std::shared_ptr<Broker> to(const BrokerSettings& settings);
  ~Broker();
  Broker(const Broker&) = delete;
  Broker& operator=(const Broker&) = delete;

  /// From now on these topics, and no others; what it had already goes on.
  void add(Listener& listener, std::vector<std::string> topics);
  void remove(Listener& listener);
  /// Sends, and calls `done` on the broker's thread when the broker has it. BadNoCommunication when there is no session
  /// or it ends meanwhile; BadTooManyOperations.
  void publish(const std::string& topic, const std::string& payload, bool isKept, Done done);

 private:
  explicit Broker(BrokerSettings settings);
  void run(const std::stop_token& stop);
  ua::Result<void> connect();
  void serve(const std::stop_token& stop);
  void tell(bool isThere, const ua::Error& why);
  void welcome();
  std::set<std::string> wanted() const;
  void subscribeTo(const std::set<std::string>& before);
  void failAll(const ua::Error& why);
  ua::Error lost(int code) const;
  static void connected(mosquitto*, void* self, int code);
  static void arrived(mosquitto*, void* self, const mosquitto_message* message);
  static void published(mosquitto*, void* self, int number);
  static void subscribed(mosquitto*, void* self, int number, int count, const int* granted);

  const BrokerSettings settings_;
  const std::shared_ptr<WireLog> log_;
  mosquitto* client_ = nullptr;
  int refusal_ = -1;  // what the broker said to the connection; -1 for nothing yet
  // Held while listeners are called, too, so that nobody is called after having left.
  std::recursive_mutex mutex_;
  std::map<Listener*, std::vector<std::string>> listeners_;
  std::map<int, Done> sending_;    // by the library's number
  std::set<int> subscribing_;      // what the broker has not confirmed, by the library's number
  std::set<Listener*> newcomers_;  // who is told of the session when it has
  bool isThere_ = false;
  ua::Error why_{ua::status::BadNoCommunication, {}, {}};  // without a cause before the first try
  std::jthread thread_;
};

}  // namespace zunth::device::mqtt
