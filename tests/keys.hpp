#pragma once

#include "core/secure/certificate.hpp"

#include <filesystem>
#include <fstream>
#include <functional>
#include <iterator>
#include <string>

#include <unistd.h>

namespace zunth::test {

/// An RSA key of that name, made by the first test that asks for it and kept beside the programs: making one takes
/// longer than most tests do.
inline secure::PrivateKey rsaKey(const std::string& name, int bits = 2048) {
  const auto folder = std::filesystem::path(ZUNTH_BINARY_DIR) / "test-keys";
  const auto file = folder / (std::to_string(std::hash<std::string>{}(name)) + "-" + std::to_string(bits) + ".pem");
  std::ifstream in(file);
  if (auto kept = secure::PrivateKey::fromPem(std::string{std::istreambuf_iterator<char>(in), {}})) return *kept;
  const auto made = secure::PrivateKey::generate(bits);
  std::filesystem::create_directories(folder);
  // Whole or not at all, as tests run beside each other.
  const auto own = file.string() + "." + std::to_string(getpid());
  std::ofstream(own) << made.pem();
  std::filesystem::rename(own, file);
  return made;
}

/// A key that a site or a person finds there, instead of making one at the first start.
inline void placeKey(const std::filesystem::path& trust, const std::string& name) {
  std::filesystem::create_directories(trust / "own");
  std::ofstream(trust / "own/key.pem") << rsaKey(name).pem();
}

}  // namespace zunth::test
