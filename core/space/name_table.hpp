#pragma once

#include "core/ua/strings.hpp"

#include <deque>
#include <string_view>
#include <unordered_map>

namespace zunth::space {

/// Each distinct name once; rows hold its number.
class NameTable {
 public:
  std::uint32_t intern(std::string_view name) {
    if (auto found = numbers_.find(name); found != numbers_.end()) return found->second;
    const auto& kept = names_.emplace_back(name);
    return numbers_.emplace(kept.view(), static_cast<std::uint32_t>(names_.size() - 1)).first->second;
  }
  const ua::String& name(std::uint32_t number) const { return names_[number]; }

 private:
  std::deque<ua::String> names_;
  std::unordered_map<std::string_view, std::uint32_t> numbers_;
};

}  // namespace zunth::space
