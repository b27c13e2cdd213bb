#pragma once

#include "core/ua/generated/structures.hpp"

#include <algorithm>

namespace zunth::client {

/// Requests that are lists of operations, with one result for each: what is larger than a server takes can be asked for
/// in parts.
template <class Request>
struct Parts {
  static constexpr bool exist = false;
};

#define ZUNTH_PARTS(Request, list, resultList)                                            \
  template <>                                                                             \
  struct Parts<ua::Request> {                                                             \
    static constexpr bool exist = true;                                                   \
    static auto& operations(ua::Request& request) { return request.list; }                \
    static auto& results(ua::Request::Response& response) { return response.resultList; } \
  }
ZUNTH_PARTS(ReadRequest, nodesToRead, results);
ZUNTH_PARTS(WriteRequest, nodesToWrite, results);
ZUNTH_PARTS(CallRequest, methodsToCall, results);
ZUNTH_PARTS(BrowseRequest, nodesToBrowse, results);
ZUNTH_PARTS(BrowseNextRequest, continuationPoints, results);
ZUNTH_PARTS(TranslateBrowsePathsToNodeIdsRequest, browsePaths, results);
ZUNTH_PARTS(RegisterNodesRequest, nodesToRegister, registeredNodeIds);
ZUNTH_PARTS(CreateMonitoredItemsRequest, itemsToCreate, results);
ZUNTH_PARTS(ModifyMonitoredItemsRequest, itemsToModify, results);
ZUNTH_PARTS(SetMonitoringModeRequest, monitoredItemIds, results);
ZUNTH_PARTS(DeleteMonitoredItemsRequest, monitoredItemIds, results);
ZUNTH_PARTS(DeleteSubscriptionsRequest, subscriptionIds, results);
ZUNTH_PARTS(SetPublishingModeRequest, subscriptionIds, results);
ZUNTH_PARTS(AddNodesRequest, nodesToAdd, results);
ZUNTH_PARTS(DeleteNodesRequest, nodesToDelete, results);
ZUNTH_PARTS(AddReferencesRequest, referencesToAdd, results);
ZUNTH_PARTS(DeleteReferencesRequest, referencesToDelete, results);
#undef ZUNTH_PARTS

/// Operations that are asked for at once, to begin with; a server that takes fewer says so.
inline constexpr std::size_t kUsualPart = 1'000;

/// Whether a refusal means that nothing was done as there was too much of it.
inline bool isTooMuch(ua::StatusCode code) {
  return code == ua::status::BadTooManyOperations || code == ua::status::BadRequestTooLarge ||
         code == ua::status::BadEncodingLimitsExceeded || code == ua::status::BadTcpMessageTooLarge;
}

/// Whether a refusal of what only looks means that there was too much to tell.
template <class Request>
bool isTooMuchToTell(ua::StatusCode code) {
  constexpr bool onlyLooks = std::is_same_v<Request, ua::ReadRequest> || std::is_same_v<Request, ua::BrowseRequest> ||
                             std::is_same_v<Request, ua::TranslateBrowsePathsToNodeIdsRequest>;
  return onlyLooks && code == ua::status::BadResponseTooLarge;
}

}  // namespace zunth::client
