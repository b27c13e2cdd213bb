#pragma once

#include "core/space/type_catalog.hpp"

#include <map>

/// A variable whose value is put together out of several points: elements of a row, or fields of a structure
/// (docs/devices.md, Bindings).
namespace zunth::device {

/// An element or a field.
struct Part {
  std::uint32_t number = 0;  // of the element, or of the field in wire order
  std::string text;          // "[2]", ".grams"
  ua::BuiltInType type = ua::BuiltInType::Null;
  bool isRow = false;  // it takes a row of these itself
  bool operator==(const Part&) const = default;
};

/// The elements of a row of fixed length, or the fields of a structure, in order. BadTypeMismatch for a variable that
/// has no parts that could be bound each by itself.
ua::Result<std::vector<Part>> partsOf(const space::Space& space, const ua::TypeCatalog& types,
                                      space::NodeIndex variable);

/// The value of one such variable, as its parts come. What no point brings stays as the variable had it, or as it was
/// written last.
class Composition {
 public:
  /// The variable has parts.
  Composition(const space::Space& space, std::shared_ptr<const ua::TypeCatalog> types, space::NodeIndex variable);

  const Part& part(std::uint32_t number) const { return parts_[number]; }
  /// Whether the variable still has the same parts, as its type may have changed.
  bool fits(const space::Space& space, const ua::TypeCatalog& types, space::NodeIndex variable) const;
  /// A point brings this part; nothing has come of it yet.
  void expect(std::uint32_t number);
  /// What has come of a part, converted to what it takes.
  void take(std::uint32_t number, ua::DataValue value);
  /// The whole: Bad for the reason of the first part that is, BadWaitingForInitialData while one hasn't come, else with
  /// the worst status and the newest time.
  ua::DataValue value() const;
  /// What is to be written to which parts so that the whole becomes this: those that differ from what they are, or all
  /// that points bring where none does. BadTypeMismatch.
  ua::Result<std::vector<std::pair<std::uint32_t, ua::Variant>>> split(const ua::Variant& whole);
  /// For people: "[2]" with its value, of each part that a point brings.
  std::vector<std::pair<std::string, ua::DataValue>> came() const;

 private:
  ua::Result<std::vector<ua::Variant>> apart(const ua::Variant& whole) const;
  ua::Variant together(const std::vector<ua::Variant>& values) const;

  const ua::StructureSchema* schema_ = nullptr;  // null for a row
  std::shared_ptr<const ua::TypeCatalog> types_;
  std::vector<Part> parts_;
  std::vector<ua::Variant> rest_;                // of each part, where no point brings it
  std::map<std::uint32_t, ua::DataValue> came_;  // of those that points bring
};

}  // namespace zunth::device
