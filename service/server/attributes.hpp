#pragma once

#include "service/server/server_object.hpp"

namespace zunth::server {

/// The Attribute Service Set (Part 4, 5.10), but for history.
class Attributes : Service {
 public:
  /// `grantAll` is called when permissions were written.
  Attributes(Core& core, ServerObject& object, std::function<void()> grantAll)
      : Service(core), object_(object), grantAll_(std::move(grantAll)) {}

  Job read(ua::ReadRequest request, Context context);
  Job write(ua::WriteRequest request, Context context);

 private:
  class WaitingRead;
  using Written = Gathering<ua::WriteResponse, ua::StatusCode>;
  Job readNow(ua::ReadRequest request, Context context);
  ua::DataValue readOne(const ua::ReadValueId& what, ua::TimestampsToReturn timestamps, const space::Rights& rights,
                        ua::DateTime wallClock) const;
  struct Writing;
  void writeOne(const std::shared_ptr<Writing>& writing, std::size_t i, const ua::WriteValue& one,
                const Context& context);
  void writeToOwners(const std::shared_ptr<Writing>& writing, const Context& context);
  void writeAttribute(Writing& writing, std::size_t i, const ua::WriteValue& one, space::NodeIndex node,
                      const Context& context);

  ServerObject& object_;
  std::function<void()> grantAll_;
};

}  // namespace zunth::server
