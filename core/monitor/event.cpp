#include "core/monitor/event.hpp"

#include "core/ua/index_range.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;
using space::Space;

Event& Event::set(std::string_view path, Variant value) {
  Path names;
  for (std::size_t from = 0; from <= path.size();) {
    const auto slash = std::min(path.find('/', from), path.size());
    names.push_back({0, String(path.substr(from, slash - from))});
    from = slash + 1;
  }
  return set(std::move(names), std::move(value));
}

Event& Event::set(Path path, Variant value) {
  if (const auto* found = find(path))
    *const_cast<Variant*>(found) = std::move(value);
  else
    add(std::move(path), std::move(value));
  return *this;
}

const Variant* Event::find(const Path& path) const {
  for (std::size_t i = 0; i < values_.size(); ++i)
    if ((*names_)[i] == path) return &values_[i];
  const auto found = std::ranges::find(others_, path, &std::pair<Path, Variant>::first);
  return found == others_.end() ? nullptr : &found->second;
}

Variant Event::value(const SimpleAttributeOperand& operand) const {
  // Without a path, the NodeId of the event itself: the ConditionId (Part 9, 5.5.2). Plain events have none.
  if (operand.attributeId != static_cast<std::uint32_t>(AttributeId::Value)) {
    if (!operand.browsePath.empty()) return {};
    return field({{0, "ConditionId"}});
  }
  Variant found = field(operand.browsePath);
  if (operand.indexRange.empty() || found.isNull()) return found;
  auto range = IndexRange::parse(operand.indexRange.view());
  auto part = range ? range->of(found) : Result<Variant>(range.error());
  return part ? *part : Variant();
}

Result<EventSelector> EventSelector::from(const Space& space, const EventFilter& filter, EventFilterResult& result) {
  EventSelector out;
  bool anyBad = false, anyGood = false;
  List<StatusCode> codes;
  for (const auto& clause : filter.selectClauses) {
    const StatusCode code = space::checkOperand(space, clause);
    codes.push_back(code);
    (code.isBad() ? anyBad : anyGood) = true;
    // A field that isn't known stays null in each event; clients ask for more than a server has.
    out.clauses_.push_back(clause);
  }
  if (anyBad) result.selectClauseResults = codes;
  auto where = space::ContentFilter::from(space, filter.whereClause, space::ContentFilter::Purpose::Event,
                                          result.whereClauseResult);
  if (!where) return Error{status::BadEventFilterInvalid, "the where clause asks what can't be asked of events", {}};
  if (!anyGood)
    return Error{status::BadEventFilterInvalid, "no select clause of the filter names a field of an event", {}};
  out.where_ = std::move(*where);
  return out;
}

bool EventSelector::wants(const Space& space, const Event& event) const { return where_.passes(space, event); }

List<Variant> EventSelector::select(const Space& space, const Event& event) const {
  auto out = List<Variant>::emptyNotNull();
  out.reserve(clauses_.size());
  for (const auto& clause : clauses_) {
    // A clause speaks of events of its type only (Part 4, 7.4.4.5); the base type's speak of all.
    const auto type =
        clause.typeDefinitionId.isNull() ? space.at(id::BaseEventType) : space.find(clause.typeDefinitionId);
    out.push_back(space.isSubtype(event.type(), type) ? event.value(clause) : Variant());
  }
  return out;
}

}  // namespace zunth::monitor
