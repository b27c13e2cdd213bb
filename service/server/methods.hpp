#pragma once

#include "service/server/object_methods.hpp"

namespace zunth::server {

/// The Method Service Set (Part 4, 5.11).
class Methods : Service {
 public:
  Methods(Core& core, ObjectMethods& objectMethods) : Service(core), objectMethods_(objectMethods) {}

  Job call(ua::CallRequest request, Context context);

 private:
  using Called = Gathering<ua::CallResponse, ua::CallMethodResult>;
  void callOne(const std::shared_ptr<Called>& results, const std::shared_ptr<const Announcer::Actor>& actor,
               std::size_t i, const ua::CallMethodRequest& call, Context& context);

  ObjectMethods& objectMethods_;
};

}  // namespace zunth::server
