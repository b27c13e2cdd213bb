#pragma once

#include "service/server/server.hpp"

namespace zunth::admin {

/// The alarm that comes when nobody has looked at the list of trusted certificates for longer than the site says
/// (TrustListOutOfDateAlarmType; Part 12, 7.8.2.10). Without such a word there is none.
class TrustListAlarm {
 public:
  explicit TrustListAlarm(server::Server& server) : server_(server) {}
  /// Adds its node where there is a word of it, and takes it away where there is none any more. Whether alarms are to
  /// be bound anew. `every` in ms, 0 for none.
  bool expect(double every);
  /// Looks whether it has come to that; each second is often enough.
  void look(ua::DateTime updated, ua::DateTime now);

 private:
  void show(const char* field, ua::Variant value);
  space::NodeIndex node() const;

  server::Server& server_;
  double every_ = 0;
  ua::DateTime shown_;  // when the list was updated, as its field says
};

}  // namespace zunth::admin
