#pragma once

#include "core/model/draft.hpp"
#include "core/model/words.hpp"

namespace zunth::model {

/// What the words after a variable's type say of it besides: its properties, and the value it starts with.
class VariableFacts {
 public:
  VariableFacts(Draft& draft, const Units& units) : draft_(draft), space_(draft.space), units_(units) {}

  /// Unit, ranges, precision and states become properties (Part 8, 5.3); those of a declaration its instances have,
  /// too.
  void add(space::NodeIndex node, const Spec& spec, const Place& at, bool isDeclaration);
  /// "= 20", with the name of a status when it isn't Good; warns of a value outside the range.
  void setInitial(space::NodeIndex node, const Text& text, const Text* status = nullptr);
  /// What `starts:` says.
  void setInitial(space::NodeIndex node, const Entry& starts);

 private:
  using Set = std::function<void(const char* name, ua::StandardId type, ua::Variant value)>;
  void addUnit(const Text& unit, const Set& set);
  void addStateTexts(const space::ValueTraits& traits, const Spec& spec, const Set& set);

  Draft& draft_;
  space::Space& space_;
  const Units& units_;
};

/// Makes a variable an array: "" for one of any length, "8", or "2,3" for a matrix. What is none is reported.
void setDimensions(space::NewNode& node, const std::string& inside, const Place& place, Findings& findings);

}  // namespace zunth::model
