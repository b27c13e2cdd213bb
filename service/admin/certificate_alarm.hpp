#pragma once

#include "service/server/server.hpp"

namespace zunth::admin {

/// The alarm that comes when a certificate of the server's own is about to run out (CertificateExpirationAlarmType;
/// Part 9, 5.8.24): of the one that runs out first, two weeks ahead.
class CertificateAlarm {
 public:
  explicit CertificateAlarm(server::Server& server) : server_(server) {}
  /// Adds its node; before alarms are bound.
  void add();
  /// Looks whether it has come to that; each second is often enough.
  void look(const secure::Identities& identities, ua::DateTime now);

 private:
  void show(const secure::Certificate& certificate, secure::KeyKind kind);
  server::Server& server_;
  space::NodeIndex node() const;
  ua::ByteString shown_;  // the certificate that its fields are about
};

}  // namespace zunth::admin
