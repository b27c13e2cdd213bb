#pragma once

#include "core/secure/channel_keys.hpp"
#include "core/ua/instant.hpp"

#include <memory>

namespace zunth::channel {

/// A security token (Part 4, 5.5.2) and the keys that came with it; without keys for policy None.
struct ChannelToken {
  std::uint32_t id = 0;
  ua::Instant expires{};
  std::unique_ptr<secure::ChannelKeys> sending, receiving;
};

}  // namespace zunth::channel
