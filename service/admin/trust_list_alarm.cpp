#include "service/admin/trust_list_alarm.hpp"

#include "core/alarm/own_alarm.hpp"
#include "core/ua/generated/node_ids.hpp"

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr const char* kTrustListAlarmId = "alarms/trust-list";
constexpr std::uint16_t kOutOfDate = 400;  // severity

}  // namespace

NodeIndex TrustListAlarm::node() const { return server_.space().find(NodeId(1, String(kTrustListAlarmId))); }

void TrustListAlarm::show(const char* field, Variant value) {
  auto& space = server_.space();
  if (const NodeIndex at = space.child(node(), {0, String(field)}); at != kNoNode)
    space.setValue(at, DataValue(std::move(value)));
}

bool TrustListAlarm::expect(double every) {
  auto& space = server_.space();
  const bool isNew = node() == kNoNode;
  every_ = every;
  if (every == 0) {
    alarm::removeOwnAlarm(space, node());
    return !isNew;
  }
  const NodeIndex group = space.find(NodeId(id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup));
  if (group == kNoNode) return false;
  alarm::OwnAlarm made;
  made.id = kTrustListAlarmId;
  made.name = {0, "TrustListOutOfDate"};
  made.type = id::TrustListOutOfDateAlarmType;
  made.severity = kOutOfDate;
  made.about = LocalizedText("comes when nobody has renewed the list of trusted certificates in time", "en");
  if (alarm::addOwnAlarm(space, group, made) == kNoNode) return false;
  show("TrustListId", Variant(NodeId(id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup_TrustList)));
  show("UpdateFrequency", Variant(every));
  shown_ = {};
  return isNew;
}

void TrustListAlarm::look(DateTime updated, DateTime now) {
  if (every_ == 0 || node() == kNoNode) return;
  if (shown_ != updated) show("LastUpdateTime", Variant(shown_ = updated));
  constexpr double kTicksPerMs = 10'000, kDay = 86'400'000;
  const double age = static_cast<double>(now.ticks - updated.ticks) / kTicksPerMs;
  const bool isOld = age > every_;
  const std::string since = updated.isNull() ? "yet" : fmt::format("for {:.0f} days", age / kDay);
  server_.alarms().set(node(), isOld, kOutOfDate,
                       isOld ? fmt::format("nobody has changed the list of trusted certificates {}: look through it "
                                           "with zunth trust, then zunth trust reviewed",
                                           since)
                             : std::string("the list of trusted certificates was looked through in time"));
}

}  // namespace zunth::admin
