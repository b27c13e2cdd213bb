#pragma once

#include "core/space/content_filter.hpp"

#include <memory>

namespace zunth::monitor {

/// An event that happened (Part 5, 6.4): its type, the node it starts from, and the values of its fields.
class Event final : public space::FilterSubject {
 public:
  using Path = std::vector<ua::QualifiedName>;

  /// Names of fields that many events have, so that they are kept once.
  using Names = std::vector<Path>;

  Event(space::NodeIndex type, space::NodeIndex source) : type_(type), source_(source) {}
  /// With a value for each of the names.
  Event(space::NodeIndex type, space::NodeIndex source, std::shared_ptr<const Names> names,
        std::vector<ua::Variant> values)
      : type_(type), source_(source), names_(std::move(names)), values_(std::move(values)) {}

  /// `path` is a name of namespace 0, or several joined by '/': "Severity", "ActiveState/Id".
  Event& set(std::string_view path, ua::Variant value);
  Event& set(Path path, ua::Variant value);
  /// Adds a field that is known not to be there yet.
  Event& add(Path path, ua::Variant value) {
    others_.emplace_back(std::move(path), std::move(value));
    return *this;
  }
  std::size_t size() const { return values_.size() + others_.size(); }
  /// visit(path, value) for each field.
  template <class Visit>
  void eachField(Visit&& visit) const {
    for (std::size_t i = 0; i < values_.size(); ++i) visit((*names_)[i], values_[i]);
    for (const auto& [path, value] : others_) visit(path, value);
  }
  /// Null when the event has no such field.
  ua::Variant field(const Path& path) const {
    const auto* found = find(path);
    return found ? *found : ua::Variant();
  }

  // FilterSubject
  ua::Variant value(const ua::SimpleAttributeOperand& operand) const override;
  ua::Variant value(const ua::AttributeOperand&) const override { return {}; }
  space::NodeIndex type() const override { return type_; }
  space::NodeIndex node() const override { return source_; }

 private:
  const ua::Variant* find(const Path& path) const;

  space::NodeIndex type_;
  space::NodeIndex source_;
  std::shared_ptr<const Names> names_;
  std::vector<ua::Variant> values_;  // of names_
  std::vector<std::pair<Path, ua::Variant>> others_;
};

/// Which events an item wants and what it wants to know of them (EventFilter; Part 4, 7.22.3).
class EventSelector {
 public:
  /// `result` tells what came of each clause; it is to be returned to the client when it isn't empty.
  /// BadEventFilterInvalid for a where clause that can't be, or a filter without a select clause that can.
  static ua::Result<EventSelector> from(const space::Space& space, const ua::EventFilter& filter,
                                        ua::EventFilterResult& result);

  bool wants(const space::Space& space, const Event& event) const;
  /// Whether there are events that it doesn't want.
  bool isFilter() const { return !where_.isEmpty(); }
  /// One value for each select clause; null for fields that the event doesn't have.
  ua::List<ua::Variant> select(const space::Space& space, const Event& event) const;

 private:
  std::vector<ua::SimpleAttributeOperand> clauses_;
  space::ContentFilter where_;
};

}  // namespace zunth::monitor
