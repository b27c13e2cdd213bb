#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// The Query Service Set (Part 4, 5.9).
class Queries : Service {
 public:
  explicit Queries(Core& core) : Service(core) {}

  Job queryFirst(ua::QueryFirstRequest request, Context context);
  Job queryNext(ua::QueryNextRequest request, Context context);

 private:
  ua::Result<space::Query> begin(const ua::QueryFirstRequest& request, ua::QueryFirstResponse& response) const;
  /// The continuation point for what is left of a query; none when nothing is.
  ua::ByteString keep(Session& session, Session::QueryRest rest, const space::Query::Page& page);
};

}  // namespace zunth::server
