#pragma once

#include "core/ua/strings.hpp"

#include <deque>
#include <string_view>
#include <unordered_map>
#include <vector>

namespace zunth::space {

/// Each distinct name once, as long as somebody uses it; rows hold its number.
class NameTable {
 public:
  /// Its number, new or old; one more use of it.
  std::uint32_t intern(std::string_view name) {
    if (auto found = numbers_.find(name); found != numbers_.end()) return retain(found->second);
    if (free_.empty()) {
      free_.push_back(static_cast<std::uint32_t>(names_.size()));
      names_.emplace_back();
    }
    const std::uint32_t number = free_.back();
    free_.pop_back();
    names_[number] = {ua::String(name), 1};
    numbers_.emplace(names_[number].text.view(), number);
    return number;
  }
  std::uint32_t retain(std::uint32_t number) {
    ++names_[number].uses;
    return number;
  }
  /// One use less; the last one takes the name away.
  void release(std::uint32_t number) {
    auto& name = names_[number];
    if (--name.uses > 0) return;
    numbers_.erase(name.text.view());
    name.text = {};
    free_.push_back(number);
  }
  const ua::String& name(std::uint32_t number) const { return names_[number].text; }
  std::size_t size() const { return numbers_.size(); }

 private:
  struct Name {
    ua::String text;
    std::uint32_t uses = 0;
  };
  std::deque<Name> names_;
  std::unordered_map<std::string_view, std::uint32_t> numbers_;
  std::vector<std::uint32_t> free_;
};

}  // namespace zunth::space
