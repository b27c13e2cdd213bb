#pragma once

#include "core/model/alarm_words.hpp"
#include "core/model/draft.hpp"

namespace zunth::model {

/// What `alarms:` says of objects and types of them (Part 9):
///   alarms:
///     clogged: limit pressure high 30 highhigh 38 severity 400 700
///     jammed:  {is: off-normal running normal true delay 5s latched, message: The screen stands still}
/// Alarms of a type are its instances' too, which may change their words: `clogged: high 25`.
class Alarms {
 public:
  Alarms(Draft& draft, space::Declarations& declarations)
      : draft_(draft), space_(draft.space), declarations_(declarations) {}

  void add(space::NodeIndex owner, const Entry& alarms, bool inType);
  /// Finds the variables that are watched by what was added since: of a type before there are instances of it.
  void connectInputs();
  /// The same for those that came from types; and lets events find their way. When all nodes are there.
  void connect();

 private:
  struct Pending {
    space::NodeIndex owner, alarm;
    AlarmWords words;
    const Entry* entry;
    const Source* source;
  };
  void addOne(space::NodeIndex owner, const Entry& entry, bool inType);
  space::NodeIndex addNode(space::NodeIndex owner, const Entry& entry, const Text& name, const AlarmWords& words,
                           bool inType, bool isOptional);
  space::NodeIndex takeFromType(space::NodeIndex owner, const Entry& entry, const std::string& name, bool inType);
  void setWords(space::NodeIndex alarm, const AlarmWords& words, const Entry& entry, bool inType);
  void setDialog(space::NodeIndex dialog, const Entry& entry, bool isNew, bool inType);
  void setField(space::NodeIndex alarm, const std::string& name, ua::Variant value, const Entry& entry, bool inType);
  space::NodeIndex setOwn(space::NodeIndex alarm, std::string_view name, space::NodeIndex dataType, ua::Variant value,
                          const Entry& entry, bool inType);
  void bring(space::NodeIndex alarm, const char* member, const Entry& entry, bool inType);
  // alarms_care.cpp: what may be done with it
  void setCare(space::NodeIndex alarm, const AlarmCare& care, bool isNew, const Entry& entry, bool inType);
  void setClass(space::NodeIndex alarm, const std::optional<Text>& word, const Entry& entry, bool inType);
  struct Taken {
    const char* name = nullptr;  // null for nothing
    ua::StandardId type{};
  };
  void addMethod(space::NodeIndex parent, const std::string& name, Taken first, bool takesComment, const Entry& entry,
                 bool inType);
  void connectCare(space::NodeIndex alarm);
  space::NodeIndex groupAt(space::NodeIndex alarm, const std::string& path);
  void connectOne(const Pending& pending);
  void connectTo(const Pending& pending);
  space::NodeIndex variableAt(space::NodeIndex owner, const Text& path);
  void checkLimits(const Pending& pending, space::NodeIndex input);
  void setComparison(const Pending& pending, space::NodeIndex input);
  void connectCopy(space::NodeIndex alarm);
  bool stands(space::NodeIndex node) const { return node != space::kNoNode && space_.exists(node); }

  Draft& draft_;
  space::Space& space_;
  space::Declarations& declarations_;
  std::vector<Pending> pending_;
  bool areThereAny_ = false;
};

}  // namespace zunth::model
