#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

ServerStatusDataType Server::serverStatus() const {
  ServerStatusDataType out;
  out.startTime = startTime_;
  out.currentTime = clock_.wallClock();
  out.state = ServerState::Running;
  out.buildInfo = {"urn:zunth", "Zunth", "Zunth", "0.1.0", "1", DateTime{}};
  return out;
}

/// Gives the nodes of the Server object (Part 5, 6.3.1) their values, the live ones by computing them at each read.
void Server::fillServerObject() {
  auto set = [this](StandardId id, Variant value) {
    if (const auto node = space_.at(id); node != space::kNoNode)
      space_.setValue(node, DataValue(std::move(value), startTime_));
  };
  auto live = [this](StandardId id, std::function<Variant()> compute) {
    if (const auto node = space_.at(id); node != space::kNoNode)
      space_.setSource(node, [this, compute = std::move(compute)] { return DataValue(compute(), clock_.wallClock()); });
  };
  live(id::Server_NamespaceArray, [this] { return Variant::array(space_.namespaces()); });
  live(id::Server_ServerStatus, [this] { return Variant(ExtensionObject::of(serverStatus())); });
  live(id::Server_ServerStatus_CurrentTime, [this] { return Variant(clock_.wallClock()); });
  live(id::Server_ServerStatus_State, [this] { return Variant(static_cast<std::int32_t>(serverStatus().state)); });
  set(id::Server_ServerArray, Variant::array({String(settings_.applicationUri)}));
  set(id::Server_ServiceLevel, std::uint8_t{255});
  set(id::Server_Auditing, false);
  set(id::Server_ServerStatus_StartTime, startTime_);
  set(id::Server_ServerStatus_SecondsTillShutdown, std::uint32_t{0});
  set(id::Server_ServerStatus_ShutdownReason, LocalizedText());
  const BuildInfo build = serverStatus().buildInfo;
  set(id::Server_ServerStatus_BuildInfo, ExtensionObject::of(build));
  set(id::Server_ServerStatus_BuildInfo_ProductUri, build.productUri);
  set(id::Server_ServerStatus_BuildInfo_ManufacturerName, build.manufacturerName);
  set(id::Server_ServerStatus_BuildInfo_ProductName, build.productName);
  set(id::Server_ServerStatus_BuildInfo_SoftwareVersion, build.softwareVersion);
  set(id::Server_ServerStatus_BuildInfo_BuildNumber, build.buildNumber);
  set(id::Server_ServerStatus_BuildInfo_BuildDate, build.buildDate);
  set(id::Server_ServerRedundancy_RedundancySupport, std::int32_t{0});

  const Limits& limits = settings_.limits;
  set(id::Server_ServerCapabilities_LocaleIdArray, Variant::array({String("en")}));
  set(id::Server_ServerCapabilities_ServerProfileArray, Variant::array(std::vector<String>()));
  set(id::Server_ServerCapabilities_MinSupportedSampleRate, limits.leastSamplingInterval);
  set(id::Server_ServerCapabilities_MaxBrowseContinuationPoints,
      static_cast<std::uint16_t>(limits.maxContinuationPointsPerSession));
  set(id::Server_ServerCapabilities_MaxQueryContinuationPoints, std::uint16_t{0});
  set(id::Server_ServerCapabilities_MaxHistoryContinuationPoints, std::uint16_t{0});
  set(id::Server_ServerCapabilities_SoftwareCertificates, Variant::array(std::vector<ExtensionObject>()));
  const DecodingLimits decoding;
  set(id::Server_ServerCapabilities_MaxArrayLength, decoding.maxArrayLength);
  set(id::Server_ServerCapabilities_MaxStringLength, decoding.maxStringLength);
  set(id::Server_ServerCapabilities_MaxByteStringLength, decoding.maxStringLength);
  for (StandardId operation : {id::Server_ServerCapabilities_OperationLimits_MaxNodesPerRead,
                               id::Server_ServerCapabilities_OperationLimits_MaxNodesPerWrite,
                               id::Server_ServerCapabilities_OperationLimits_MaxNodesPerMethodCall,
                               id::Server_ServerCapabilities_OperationLimits_MaxNodesPerBrowse,
                               id::Server_ServerCapabilities_OperationLimits_MaxNodesPerTranslateBrowsePathsToNodeIds,
                               id::Server_ServerCapabilities_OperationLimits_MaxMonitoredItemsPerCall})
    set(operation, limits.maxOperationsPerRequest);
  set(id::Server_ServerDiagnostics_EnabledFlag, false);
}

}  // namespace zunth::server
