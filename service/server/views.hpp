#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// The View Service Set (Part 4, 5.8).
class Views : Service {
 public:
  explicit Views(Core& core) : Service(core) {}

  Job browse(ua::BrowseRequest request, Context context);
  Job browseNext(ua::BrowseNextRequest request, Context context);
  Job translate(ua::TranslateBrowsePathsToNodeIdsRequest request, Context context);
  ua::Result<ua::RegisterNodesResponse> registerNodes(const ua::RegisterNodesRequest&, Context&);
  ua::Result<ua::UnregisterNodesResponse> unregisterNodes(const ua::UnregisterNodesRequest&, Context&);

 private:
  ua::BrowseResult browseOne(Session& session, Session::BrowseRest work, Room& room);
};

/// The View node that a request names, or kNoNode for the whole space. BadViewIdUnknown, BadViewParameterMismatch,
/// BadViewTimestampInvalid, BadViewVersionInvalid.
ua::Result<space::NodeIndex> viewOf(const space::Space& space, const ua::ViewDescription& view);

}  // namespace zunth::server
