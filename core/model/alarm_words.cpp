#include "core/model/alarm_words.hpp"

#include "core/model/outline.hpp"
#include "core/model/words.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

using AlarmKind = AlarmWords::Kind;

struct KindRow {
  AlarmKind kind;
  std::string_view word;
  StandardId exclusive, nonExclusive;
};
constexpr KindRow kKinds[] = {
    {AlarmKind::Limit, "limit", id::ExclusiveLevelAlarmType, id::NonExclusiveLevelAlarmType},
    {AlarmKind::Deviation, "deviation", id::ExclusiveDeviationAlarmType, id::NonExclusiveDeviationAlarmType},
    {AlarmKind::Rate, "rate", id::ExclusiveRateOfChangeAlarmType, id::NonExclusiveRateOfChangeAlarmType},
    {AlarmKind::Discrete, "discrete", id::DiscreteAlarmType, id::DiscreteAlarmType},
    {AlarmKind::OffNormal, "off-normal", id::OffNormalAlarmType, id::OffNormalAlarmType},
    {AlarmKind::Trip, "trip", id::TripAlarmType, id::TripAlarmType},
    {AlarmKind::Instrument, "instrument", id::InstrumentDiagnosticAlarmType, id::InstrumentDiagnosticAlarmType},
    {AlarmKind::System, "system", id::SystemDiagnosticAlarmType, id::SystemDiagnosticAlarmType},
    {AlarmKind::Discrepancy, "discrepancy", id::DiscrepancyAlarmType, id::DiscrepancyAlarmType},
    {AlarmKind::Condition, "condition", id::AcknowledgeableConditionType, id::AcknowledgeableConditionType},
    {AlarmKind::Dialog, "dialog", id::DialogConditionType, id::DialogConditionType},
    {AlarmKind::Metrics, "metrics", id::AlarmMetricsType, id::AlarmMetricsType},
};
constexpr std::string_view kLevelWords[kLimitLevels] = {"highhigh", "high", "low", "lowlow"};

bool readNumber(std::string_view text, double& out) {
  const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), out);
  return failure == std::errc() && end == text.data() + text.size() && std::isfinite(out);
}

class AlarmParser {
 public:
  AlarmParser(const Text& text, Findings& findings) : text_(text), words_(splitWords(text)), findings_(findings) {}

  std::optional<AlarmWords> run() {
    if (words_.empty()) return fail(text_, "an alarm says what it watches", "as in: limit pressure high 30");
    const auto row = std::ranges::find(kKinds, words_[0].text, &KindRow::word);
    if (row != std::end(kKinds)) {
      out_.kind = row->kind;
      at_ = 1;
      if (out_.watches() && words_.size() < 2)
        return fail(words_[0], fmt::format("'{}' is followed by a variable", words_[0].text),
                    "as in: limit pressure high 30");
      if (out_.watches()) out_.input = words_[at_++];
    }
    while (at_ < words_.size() && !failed_) readWord();
    if (failed_) return std::nullopt;
    return isWhole() ? std::optional(out_) : std::nullopt;
  }

 private:
  std::nullopt_t fail(const Text& where, std::string message, std::string hint = {}) {
    findings_.error(where.place, std::move(message), std::move(hint));
    failed_ = true;
    return std::nullopt;
  }
  const Text* next() { return at_ < words_.size() ? &words_[at_++] : nullptr; }

  void readWord() {
    const Text& word = words_[at_++];
    const auto level = std::ranges::find(kLevelWords, word.text);
    if (level != std::end(kLevelWords)) {
      readNumberAfter(word, out_.limits[static_cast<std::size_t>(level - std::begin(kLevelWords))]);
    } else if (word.text == "deadband") {
      readNumberAfter(word, out_.deadband);
    } else if (word.text == "severity") {
      readSeverity(word, out_.severity, true);
      readSeverity(word, out_.outermost, false);
    } else if (word.text == "delay") {
      readDelay(word, out_.onDelay, true);
      readDelay(word, out_.offDelay, false);
    } else if (word.text == "nonexclusive") {
      out_.isNonExclusive = true;
    } else if (word.text == "confirm") {
      out_.isConfirmed = true;
    } else if (word.text == "from" && out_.hasSetpoint()) {
      if (const Text* path = next())
        out_.setpoint = *path;
      else
        fail(word, "'from' is followed by the variable that says what should be", "as in: deviation speed from goal");
    } else if (word.text == "tolerance" && (!out_.kind || out_.kind == AlarmKind::Discrepancy)) {
      readNumberAfter(word, out_.tolerance);
    } else if (word.text == "within" && (!out_.kind || out_.kind == AlarmKind::Discrepancy)) {
      readDelay(word, out_.expected, true);
    } else if (word.text == "over" && out_.kind == AlarmKind::Metrics) {
      readMinutes(word);
    } else if ((word.text == "when" && (!out_.kind || out_.comesAtValue())) ||
               (word.text == "normal" && (!out_.kind || out_.isOffNormal()))) {
      readValue(word);
    } else {
      const auto outcome = CareReader(out_.care, words_, at_, findings_).read(word);
      if (outcome == CareReader::Outcome::Unknown) return nothing(word);
      failed_ |= outcome == CareReader::Outcome::Wrong;
    }
  }

  void readNumberAfter(const Text& word, std::optional<double>& out) {
    const Text* number = next();
    double value = 0;
    if (!number)
      fail(word, fmt::format("'{}' is followed by a number", word.text));
    else if (!readNumber(number->text, value))
      fail(*number, fmt::format("'{}' is no number", number->text), fmt::format("as in: {} 30", word.text));
    else
      out = value;
  }
  void readSeverity(const Text& word, std::optional<std::uint16_t>& out, bool isNeeded) {
    double value = 0;
    if (at_ < words_.size() && readNumber(words_[at_].text, value)) {
      const Text& number = words_[at_++];
      if (value < 1 || value > 1000 || value != std::floor(value))
        fail(number, fmt::format("'{}' is no severity", number.text), "severities go from 1 to 1000");
      else
        out = static_cast<std::uint16_t>(value);
    } else if (isNeeded) {
      fail(word, "'severity' is followed by a number from 1 to 1000");
    }
  }
  void readDelay(const Text& word, std::optional<double>& out, bool isNeeded) {
    const auto time = at_ < words_.size() ? readTime(words_[at_].text) : std::nullopt;
    if (time) {
      out = *time;
      ++at_;
    } else if (isNeeded) {
      fail(at_ < words_.size() ? words_[at_] : word, fmt::format("'{}' is followed by a time", word.text),
           word.text == "delay" ? "as in: delay 5s" : "as in: within 10s");
    }
  }
  void readMinutes(const Text& word) {
    const auto time = at_ < words_.size() ? readTime(words_[at_].text) : std::nullopt;
    if (!time || *time < 60'000 || *time > 60'000.0 * UINT16_MAX || std::fmod(*time, 60'000) != 0)
      return void(fail(at_ < words_.size() ? words_[at_] : word, "'over' is followed by minutes", "as in: over 10min"));
    out_.rateMinutes = static_cast<std::uint16_t>(*time / 60'000);
    ++at_;
  }
  /// One word, or several with bars between: "Clogged | Overheated".
  void readValue(const Text& word) {
    const Text* first = next();
    if (!first) return void(fail(word, fmt::format("'{}' is followed by a value", word.text)));
    Text value = *first;
    while (at_ + 1 < words_.size() && words_[at_].text == "|") {
      value.text += " | " + words_[at_ + 1].text;
      at_ += 2;
    }
    out_.value = std::move(value);
  }
  void nothing(const Text& word) {
    std::vector<std::string> known = {"high",     "highhigh", "low",       "lowlow",       "deadband",
                                      "severity", "delay",    "confirm",   "nonexclusive", "from",
                                      "when",     "normal",   "tolerance", "within",       "over"};
    known.insert(known.end(), CareReader::words().begin(), CareReader::words().end());
    if (at_ == 1 && !out_.kind) {
      std::vector<std::string> kinds;
      for (const auto& row : kKinds) kinds.emplace_back(row.word);
      const std::string near = ua::nearest(word.text, kinds);
      fail(word, fmt::format("there is no kind of alarm '{}'", word.text),
           near.empty() ? "an alarm begins with limit, deviation, rate, discrete, off-normal, trip, discrepancy, "
                          "instrument, system, condition, dialog or metrics"
                        : fmt::format("did you mean '{}'?", near));
      return;
    }
    const std::string near = ua::nearest(word.text, known);
    fail(word, fmt::format("'{}' means nothing here", word.text),
         near.empty() ? "after the variable come limits (high 30), severity, delay, deadband"
                      : fmt::format("did you mean '{}'?", near));
  }

  bool isWhole() {
    if (!out_.kind) return true;
    const auto& limits = out_.limits;
    const bool hasAnyLimit = std::ranges::any_of(limits, [](const auto& limit) { return limit.has_value(); });
    const bool isOther = out_.kind == AlarmKind::Dialog || out_.kind == AlarmKind::Metrics || out_.repeats();
    if (isOther && (out_.onDelay || (out_.isConfirmed && !out_.repeats()) || !careWords(out_.care).empty())) {
      fail(words_[0], fmt::format("'{}' is no alarm: it can't be delayed, confirmed or put aside", words_[0].text),
           out_.kind == AlarmKind::Dialog ? "as in: dialog empty when true severity 300"
           : out_.repeats()               ? "as in: condition note severity 300 confirm"
                                          : "as in: metrics over 10min");
    } else if (out_.hasLimits() && !hasAnyLimit) {
      fail(words_[0], "the alarm has no limit", "as in: limit pressure high 30 highhigh 38");
    } else if (!out_.hasLimits() && (hasAnyLimit || out_.deadband || out_.isNonExclusive)) {
      fail(words_[0], fmt::format("an alarm '{}' has no limits", words_[0].text),
           "limits go with limit, deviation, rate");
    } else if (out_.hasSetpoint() && !out_.setpoint) {
      fail(words_[0], "the alarm doesn't say from what the variable deviates",
           out_.kind == AlarmKind::Deviation ? "as in: deviation speed from goal high 5"
                                             : "as in: discrepancy gate from wanted within 10s");
    } else if (out_.kind == AlarmKind::Discrepancy && !out_.expected) {
      fail(words_[0], "the alarm doesn't say how long it may take", "as in: discrepancy gate from wanted within 10s");
    } else if (out_.watches() && !out_.hasLimits() && !out_.hasSetpoint() && !out_.repeats() && !out_.value) {
      fail(words_[0], "the alarm doesn't say at which value it comes",
           out_.kind == AlarmKind::Discrete ? "as in: discrete faults when Clogged"
           : out_.kind == AlarmKind::Dialog ? "as in: dialog empty when true"
                                            : "as in: off-normal mode normal Auto");
    } else {
      double last = HUGE_VAL;
      for (std::size_t i = 0; i < kLimitLevels; ++i) {
        if (!limits[i]) continue;
        if (*limits[i] >= last)
          fail(words_[0], fmt::format("the limit '{}' is not below the one before it", kLevelWords[i]),
               "they go down from highhigh by high and low to lowlow");
        last = *limits[i];
      }
    }
    return !failed_;
  }

  const Text& text_;
  std::vector<Text> words_;
  Findings& findings_;
  AlarmWords out_;
  std::size_t at_ = 0;
  bool failed_ = false;
};

template <class T>
std::optional<T> propertyOf(const Space& space, NodeIndex alarm, std::string_view name) {
  const NodeIndex property = space.child(alarm, {0, String(name)}, id::HasProperty);
  if (property == kNoNode) return std::nullopt;
  const DataValue held = space.value(property);
  const auto* value = held.value.get<T>();
  return value ? std::optional<T>(*value) : std::nullopt;
}

/// A node's path from the object above it, when it is below that and can be written as one word.
std::optional<Text> pathBelow(const Space& space, NodeIndex owner, const std::optional<NodeId>& id) {
  if (!id || id->isNull()) return std::nullopt;
  std::string path;
  NodeIndex at = space.find(*id);
  for (int depth = 0; at != kNoNode && depth < 100; ++depth) {
    path = std::string(space.name(at)) + (path.empty() ? "" : "/" + path);
    const NodeIndex above = space.parent(at);
    // In a type, the variable may be one that a type above declares.
    const bool isInherited = above != kNoNode && space.nodeClass(above) == NodeClass::ObjectType &&
                             space.nodeClass(owner) == NodeClass::ObjectType && space.isSubtype(owner, above);
    if (above == owner || isInherited)
      return path.find(' ') == std::string::npos ? std::optional(Text{path, {}}) : std::nullopt;
    at = above;
  }
  return std::nullopt;
}

/// The value of a property of the model's own, in words.
std::optional<Text> valueText(const Space& space, NodeIndex alarm, std::string_view name) {
  const NodeIndex property = space::ownProperty(space, alarm, name);
  if (property == kNoNode) return std::nullopt;
  const Variant value = space.value(property).value;
  if (const auto name = space::enumerationName(space, space.traits(property).dataType, value))
    return Text{name->str(), {}};
  const std::string words = format(value);
  if (words.empty() || value.isArray() || words.find(' ') != std::string::npos) return std::nullopt;
  return Text{words, {}};
}

/// Whether all that an alarm has is what its words make.
bool isPlain(const Space& space, NodeIndex alarm) {
  static constexpr std::string_view said[] = {
      "HighHighLimit", "HighLimit",      "LowLimit",         "LowLowLimit",  "HighHighDeadband", "HighDeadband",
      "LowDeadband",   "LowLowDeadband", "SeverityHighHigh", "SeverityHigh", "SeverityLow",      "SeverityLowLow",
      "OnDelay",       "OffDelay",       "ConfirmedState",   "Confirm",      "HighHighState",    "HighState",
      "LowState",      "LowLowState",    "Tolerance",        "Respond2"};
  const auto isMandatory = [&](const QualifiedName& name) {
    for (NodeIndex type = space.typeDefinition(alarm); type != kNoNode; type = space.supertype(type))
      if (const NodeIndex declared = space.child(type, name); declared != kNoNode)
        return modellingRule(space, declared) == "Mandatory";
    return false;
  };
  return std::ranges::all_of(space.references(alarm), [&](const space::Reference& reference) {
    if (!reference.isForward() || !space.isSubtype(reference.type(), id::HierarchicalReferences)) return true;
    if (space.nodeId(reference.type()).is(id::HasAlarmSuppressionGroup)) return true;
    const auto name = space.browseName(reference.target());
    const auto text = name.name.view();
    if (name.namespaceIndex != 0)
      return text == space::kActiveValue || text == space::kNormalValue || text == space::kActiveMessage ||
             text == space::kAskedBy || text == space::kSaidBy || isCareMember(text);
    return std::ranges::find(said, text) != std::end(said) || isCareMember(text) || isMandatory(name);
  });
}

}  // namespace

std::uint16_t AlarmWords::severityOf(LimitLevel level) const {
  const bool isOutermost = level == LimitLevel::HighHigh || level == LimitLevel::LowLow;
  return isOutermost && outermost ? *outermost : severity.value_or(0);
}

std::optional<AlarmWords> parseAlarm(const Text& text, Findings& findings) { return AlarmParser(text, findings).run(); }

std::string text(const AlarmWords& words) {
  std::string out;
  const auto add = [&](std::string_view word) { out += (out.empty() ? "" : " ") + std::string(word); };
  if (words.kind) {
    add(std::ranges::find(kKinds, *words.kind, &KindRow::kind)->word);
    if (words.input) add(words.input->text);
  }
  if (words.rateMinutes) add("over " + timeText(*words.rateMinutes * 60'000.0));
  if (words.setpoint) add("from " + words.setpoint->text);
  if (words.value) add((words.isOffNormal() ? "normal " : "when ") + words.value->text);
  if (words.tolerance) add(fmt::format("tolerance {}", *words.tolerance));
  if (words.expected) add("within " + timeText(*words.expected));
  // From the middle outwards, as people say it.
  for (const std::size_t at : {1, 0, 2, 3})
    if (words.limits[at]) add(fmt::format("{} {}", kLevelWords[at], *words.limits[at]));
  if (words.deadband) add(fmt::format("deadband {}", *words.deadband));
  if (words.severity) add(fmt::format("severity {}", *words.severity));
  if (words.outermost) add(std::to_string(*words.outermost));
  if (words.onDelay) add("delay " + timeText(*words.onDelay));
  if (words.offDelay) add(timeText(*words.offDelay));
  if (words.isNonExclusive) add("nonexclusive");
  if (words.isConfirmed) add("confirm");
  for (const auto& word : careWords(words.care)) add(word);
  return out;
}

StandardId alarmTypeOf(const AlarmWords& words) {
  const auto row = std::ranges::find(kKinds, *words.kind, &KindRow::kind);
  return words.isNonExclusive ? row->nonExclusive : row->exclusive;
}

std::optional<AlarmWords> alarmWordsOf(const Space& space, NodeIndex alarm) {
  const NodeIndex type = space.typeDefinition(alarm), owner = space.parent(alarm);
  if (type == kNoNode || owner == kNoNode) return std::nullopt;
  const auto row = std::ranges::find_if(kKinds, [&](const KindRow& each) {
    return space.nodeId(type) == NodeId(each.exclusive) || space.nodeId(type) == NodeId(each.nonExclusive);
  });
  if (row == std::end(kKinds) || !isPlain(space, alarm)) return std::nullopt;
  AlarmWords out;
  out.kind = row->kind;
  out.isNonExclusive = out.hasLimits() && space.nodeId(type) == NodeId(row->nonExclusive);
  if (out.kind == AlarmKind::Metrics) {
    const NodeIndex rate = space.child(alarm, {0, "CurrentAlarmRate"});
    const auto minutes = rate == kNoNode ? std::nullopt : propertyOf<std::uint16_t>(space, rate, "Rate");
    if (minutes && *minutes != kUsualRateMinutes) out.rateMinutes = minutes;
    return out;
  }
  if (out.kind == AlarmKind::Dialog || out.repeats()) {
    const NodeIndex by = space::ownProperty(space, alarm, out.repeats() ? space::kSaidBy : space::kAskedBy);
    const DataValue held = by == kNoNode ? DataValue() : space.value(by);
    const auto* input = held.value.get<NodeId>();
    out.input = pathBelow(space, owner, input ? std::optional(*input) : std::nullopt);
  } else {
    out.input = pathBelow(space, owner, propertyOf<NodeId>(space, alarm, "InputNode"));
  }
  if (!out.input) return std::nullopt;
  if (out.hasSetpoint()) {
    const char* other = out.kind == AlarmKind::Deviation ? "SetpointNode" : "TargetValueNode";
    out.setpoint = pathBelow(space, owner, propertyOf<NodeId>(space, alarm, other));
    if (!out.setpoint) return std::nullopt;
    out.tolerance = propertyOf<double>(space, alarm, "Tolerance");
    out.expected = propertyOf<double>(space, alarm, "ExpectedTime");
  }
  auto care = careOf(space, alarm);
  if (!care) return std::nullopt;
  out.care = std::move(*care);
  if (!out.hasLimits() && !out.hasSetpoint() && !out.repeats()) {
    out.value = valueText(space, alarm, out.comesAtValue() ? space::kActiveValue : space::kNormalValue);
    if (!out.value) return std::nullopt;
  }
  if (!out.hasLimits()) {
    if (const auto severity = propertyOf<std::uint16_t>(space, alarm, "Severity");
        severity && *severity != kUsualSeverity)
      out.severity = severity;
  }
  for (std::size_t i = 0; i < kLimitLevels; ++i) {
    const std::string level(nameOf(static_cast<LimitLevel>(i)));
    out.limits[i] = propertyOf<double>(space, alarm, level + "Limit");
    if (const auto deadband = propertyOf<double>(space, alarm, level + "Deadband")) out.deadband = deadband;
    const bool isOutermost = i == 0 || i == 3;
    if (const auto severity = propertyOf<std::uint16_t>(space, alarm, "Severity" + level))
      (isOutermost ? out.outermost : out.severity) = severity;
  }
  if (out.outermost && !out.severity) out.severity = out.outermost;
  if (out.outermost == out.severity) out.outermost.reset();
  out.onDelay = propertyOf<double>(space, alarm, "OnDelay");
  out.offDelay = propertyOf<double>(space, alarm, "OffDelay");
  if (out.offDelay && !out.onDelay) out.onDelay = 0;
  out.isConfirmed = space.child(alarm, {0, "ConfirmedState"}) != kNoNode;
  return out;
}

}  // namespace zunth::model
