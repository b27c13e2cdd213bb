#pragma once

#include <map>
#include <mutex>

#include "tests/keys.hpp"

namespace zunth::test {

/// An application's certificate and key; each is made once, as it takes its time. From any thread.
inline std::shared_ptr<const secure::Identity> identity(const std::string& applicationUri,
                                                        secure::KeyKind kind = secure::KeyKind::Rsa) {
  static std::map<std::pair<std::string, secure::KeyKind>, std::shared_ptr<const secure::Identity>> made;
  static std::mutex mutex;
  const std::lock_guard lock(mutex);
  auto& one = made[{applicationUri, kind}];
  if (!one) {
    const auto now = ua::DateTime::from(std::chrono::system_clock::now());
    constexpr std::int64_t kDay = 864'000'000'000;
    const auto key = kind == secure::KeyKind::Rsa ? rsaKey(applicationUri) : secure::PrivateKey::generate(kind);
    const secure::Certificate::Wish wish{"Fernhollow test",  "",
                                         applicationUri,     {"localhost", "127.0.0.1"},
                                         {now.ticks - kDay}, {now.ticks + 365 * kDay}};
    one = std::make_shared<const secure::Identity>(secure::Identity{secure::Certificate::selfSigned(wish, key), key});
  }
  return one;
}

/// With a certificate for each kind of key.
inline secure::Identities identities(const std::string& applicationUri) {
  secure::Identities out;
  for (const auto kind : {secure::KeyKind::Rsa, secure::KeyKind::NistP256, secure::KeyKind::NistP384})
    out.add(identity(applicationUri, kind));
  return out;
}

}  // namespace zunth::test
