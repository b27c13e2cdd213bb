#include "service/admin/certificate_alarm.hpp"

#include "core/alarm/own_alarm.hpp"
#include "core/ua/generated/node_ids.hpp"

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr const char* kCertificateAlarmId = "alarms/certificate";
constexpr double kExpirationLimit = 14.0 * 86'400'000;  // ms
constexpr std::uint16_t kRunsOut = 700, kRunOut = 900;  // severities

}  // namespace

NodeIndex CertificateAlarm::node() const { return server_.space().find(NodeId(1, String(kCertificateAlarmId))); }

void CertificateAlarm::add() {
  auto& space = server_.space();
  const NodeIndex group = space.find(NodeId(id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup));
  if (group == kNoNode) return;
  alarm::OwnAlarm made;
  made.id = kCertificateAlarmId;
  made.name = {0, "CertificateExpired"};
  made.type = id::CertificateExpirationAlarmType;
  made.severity = kRunsOut;
  made.about = LocalizedText("comes two weeks before a certificate of this server runs out", "en");
  alarm::addOwnAlarm(space, group, made);
}

void CertificateAlarm::show(const secure::Certificate& certificate, secure::KeyKind kind) {
  if (shown_ == certificate.der()) return;
  shown_ = certificate.der();
  auto& space = server_.space();
  const auto set = [&](const char* name, Variant value) {
    if (const NodeIndex field = space.child(node(), {0, name}); field != kNoNode)
      space.setValue(field, DataValue(std::move(value)));
  };
  const StandardId type = kind == secure::KeyKind::Rsa        ? id::RsaSha256ApplicationCertificateType
                          : kind == secure::KeyKind::NistP256 ? id::EccNistP256ApplicationCertificateType
                                                              : id::EccNistP384ApplicationCertificateType;
  set("ExpirationDate", Variant(certificate.validTo()));
  set("CertificateType", Variant(NodeId(type)));
  set("Certificate", Variant(certificate.der()));
}

void CertificateAlarm::look(const secure::Identities& identities, DateTime now) {
  const secure::Certificate* first = nullptr;
  secure::KeyKind firstKind = secure::KeyKind::Rsa;
  for (const auto kind : {secure::KeyKind::Rsa, secure::KeyKind::NistP256, secure::KeyKind::NistP384})
    if (const auto identity = identities.of(kind))
      if (!first || identity->certificate.validTo() < first->validTo()) {
        first = &identity->certificate;
        firstKind = kind;
      }
  if (!first || node() == kNoNode) return;
  show(*first, firstKind);
  const double left = static_cast<double>(first->validTo().ticks - now.ticks) / 1e4;  // ms
  const std::string_view kind = secure::nameOf(firstKind);
  if (left <= 0)
    server_.alarms().set(
        node(), true, kRunOut,
        fmt::format("the server's {} certificate has run out at {}: clients refuse it", kind, first->validTo().text()));
  else if (left <= kExpirationLimit)
    server_.alarms().set(node(), true, kRunsOut,
                         fmt::format("the server's {} certificate runs out at {}: zunth certificate renew", kind,
                                     first->validTo().text()));
  else
    server_.alarms().set(node(), false, kRunsOut,
                         fmt::format("the server's {} certificate lasts until {}", kind, first->validTo().text()));
}

}  // namespace zunth::admin
