#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

#include <optional>

namespace zunth::model {

/// What may be done with an alarm besides acknowledging it, and what is done for it (Part 9, 5.8), as said after what
/// it watches: "shelvable for 8h latched group Pumps suppressed while Hatchery/cleaning class maintenance".
struct AlarmCare {
  bool isShelvable = false, isLatched = false, isSuppressible = false, isRemovable = false, isAudible = false;
  std::optional<double> mostShelved, reAlarm;  // ms
  std::optional<std::uint16_t> branches;       // occurrences that wait to be acknowledged beside the present one
  std::optional<Text> suppressedWhile;         // a Boolean's path
  std::optional<Text> suppressedBy;            // a group
  std::vector<Text> groups;
  std::optional<Text> conditionClass;
};

/// Reads these words one by one from among others.
class CareReader {
 public:
  /// `at` is the word after the one that is read, and goes on with it.
  CareReader(AlarmCare& out, const std::vector<Text>& words, std::size_t& at, Findings& findings)
      : out_(out), words_(words), at_(at), findings_(findings) {}
  enum class Outcome { Read, Unknown, Wrong };  // what is wrong is reported
  Outcome read(const Text& word);
  static const std::vector<std::string>& words();

 private:
  const Text* next() { return at_ < words_.size() ? &words_[at_++] : nullptr; }
  Outcome wrong(const Text& where, const std::string& message, const char* hint);
  Outcome readTime(const Text& word, std::optional<double>& out, const char* hint);

  AlarmCare& out_;
  const std::vector<Text>& words_;
  std::size_t& at_;
  Findings& findings_;
};

std::vector<std::string> careWords(const AlarmCare& care);
/// What an alarm in the address space has of it; nothing when it can't be said.
std::optional<AlarmCare> careOf(const space::Space& space, space::NodeIndex alarm);
/// What `own` has beyond `above`.
AlarmCare beyond(AlarmCare own, const AlarmCare& above);
/// Whether a child of an alarm is one that these words make: a member of the standard's types, or a property.
bool isCareMember(std::string_view name);

/// The condition class that a word stands for ("maintenance"), or nothing.
std::optional<ua::StandardId> conditionClassNamed(std::string_view word);

/// "250ms", "2s", "5min", "8h", "2d" in milliseconds.
std::optional<double> readTime(std::string_view text);
std::string timeText(double ms);

}  // namespace zunth::model
