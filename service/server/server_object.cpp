#include "service/server/server_object.hpp"

#include "core/ua/generated/version.hpp"
#include "service/server/structure_nodes.hpp"

namespace zunth::server {

using namespace ua;

namespace {

constexpr DateTime kStandardPublished{133'485'408'000'000'000};  // 2024-01-01, of the tables in core/ua/standard

/// Sets a standard node's value, where the node is there.
auto setterOf(space::Space& space, DateTime time) {
  return [&space, time](StandardId id, Variant value) {
    if (const auto node = space.at(id); node != space::kNoNode) space.setValue(node, DataValue(std::move(value), time));
  };
}

}  // namespace

ServerStatusDataType ServerObject::serverStatus() const {
  ServerStatusDataType out;
  out.startTime = core_.startTime;
  out.currentTime = clock_.wallClock();
  out.state = core_.state;
  out.buildInfo = {"urn:zunth", "Zunth", "Zunth", kVersion, "1", core_.startTime};
  out.shutdownReason = core_.shutdownReason;
  if (core_.shutdownAt != Instant::max()) {
    const auto left = std::chrono::ceil<std::chrono::seconds>(core_.shutdownAt - clock_.now()).count();
    out.secondsTillShutdown = static_cast<std::uint32_t>(std::max<std::int64_t>(left, 0));
  }
  return out;
}

void ServerObject::fill() {
  auto live = [this](StandardId id, std::function<Variant()> compute) {
    if (const auto node = space_.at(id); node != space::kNoNode)
      space_.setSource(node, [this, compute = std::move(compute)] { return DataValue(compute(), clock_.wallClock()); });
  };
  const auto set = setterOf(space_, core_.startTime);
  live(id::Server_NamespaceArray, [this] { return Variant::array(space_.namespaces()); });
  set(id::Server_ServerArray, Variant::array({String(settings_.applicationUri)}));
  set(id::Server_UrisVersion, std::uint32_t{1});
  set(id::Server_ServiceLevel, std::uint8_t{255});
  set(id::Server_Auditing, settings_.auditing);
  showStructure<ServerStatusDataType>(space_, space_.at(id::Server_ServerStatus), clock_.wallClock,
                                      [this] { return serverStatus(); });
  showStructure<BuildInfo>(space_, space_.at(id::Server_ServerStatus_BuildInfo), clock_.wallClock,
                           [this] { return serverStatus().buildInfo; });
  set(id::Server_ServerRedundancy_RedundancySupport, std::int32_t{0});

  set(id::OPCUANamespaceMetadata_NamespaceUri, space_.namespaces()[0]);
  set(id::OPCUANamespaceMetadata_NamespaceVersion, String("1.05.03"));
  set(id::OPCUANamespaceMetadata_NamespacePublicationDate, kStandardPublished);
  set(id::OPCUANamespaceMetadata_IsNamespaceSubset, true);
  set(id::OPCUANamespaceMetadata_StaticNodeIdTypes, Variant::array({static_cast<std::int32_t>(IdType::Numeric)}));
  set(id::OPCUANamespaceMetadata_StaticNumericNodeIdRange, Variant::array({String("1:2147483647")}));
  set(id::OPCUANamespaceMetadata_StaticStringNodeIdPattern, String(""));
  fillCapabilities();
  fillDiagnostics();
  fillRoles();
  showModels();
}

void ServerObject::fillCapabilities() {
  const auto set = setterOf(space_, core_.startTime);
  const Limits& limits = settings_.limits;
  const DecodingLimits decoding;
  set(id::Server_ServerCapabilities_ServerProfileArray,
      Variant::array({String("http://opcfoundation.org/UA-Profile/Server/EmbeddedUA2017")}));
  set(id::Server_ServerCapabilities_MinSupportedSampleRate, limits.leastSamplingInterval);
  set(id::Server_ServerCapabilities_MaxBrowseContinuationPoints,
      static_cast<std::uint16_t>(limits.maxContinuationPointsPerSession));
  set(id::Server_ServerCapabilities_MaxQueryContinuationPoints,
      static_cast<std::uint16_t>(limits.maxContinuationPointsPerSession));
  set(id::Server_ServerCapabilities_MaxHistoryContinuationPoints, std::uint16_t{0});
  set(id::Server_ServerCapabilities_SoftwareCertificates, Variant::array(std::vector<ExtensionObject>()));
  set(id::Server_ServerCapabilities_MaxArrayLength, decoding.maxArrayLength);
  set(id::Server_ServerCapabilities_MaxStringLength, decoding.maxStringLength);
  set(id::Server_ServerCapabilities_MaxByteStringLength, decoding.maxStringLength);
  set(id::Server_ServerCapabilities_MaxSessions, limits.maxSessions);
  set(id::Server_ServerCapabilities_MaxSubscriptions, limits.maxSubscriptions);
  set(id::Server_ServerCapabilities_MaxMonitoredItems, limits.maxMonitoredItems);
  set(id::Server_ServerCapabilities_MaxSubscriptionsPerSession, limits.maxSubscriptionsPerSession);
  set(id::Server_ServerCapabilities_MaxMonitoredItemsPerSubscription, limits.maxMonitoredItemsPerSubscription);
  set(id::Server_ServerCapabilities_MaxMonitoredItemsQueueSize, limits.maxQueueSize);
  set(id::Server_ServerCapabilities_MaxSelectClauseParameters, limits.maxSelectClauses);
  set(id::Server_ServerCapabilities_MaxWhereClauseParameters, limits.maxFilterElements);
  set(id::Server_ServerCapabilities_ConformanceUnits, Variant::array(std::vector<QualifiedName>()));
  // Each of the limits is the same: what one request may ask for.
  const auto operations = space_.at(id::Server_ServerCapabilities_OperationLimits);
  for (const auto& reference : space_.references(operations))
    if (reference.isForward() && space_.nodeClass(reference.target()) == NodeClass::Variable)
      space_.setValue(reference.target(), DataValue(Variant(limits.maxOperationsPerRequest), core_.startTime));
  // Until there is an archive, nothing is offered of history.
  const auto conditions = space_.at(id::ConditionType);
  if (const auto filtered = space_.child(conditions, {0, String("SupportsFilteredRetain")}); filtered != space::kNoNode)
    space_.setValue(filtered, DataValue(Variant(true), core_.startTime));
  const auto history = space_.at(id::HistoryServerCapabilities);
  for (const auto& reference : space_.references(history)) {
    if (!reference.isForward() || space_.nodeClass(reference.target()) != NodeClass::Variable) continue;
    const bool isSwitch = space_.builtInType(space_.traits(reference.target()).dataType) == BuiltInType::Boolean;
    space_.setValue(reference.target(),
                    DataValue(isSwitch ? Variant(false) : Variant(std::uint32_t{0}), core_.startTime));
  }
}

}  // namespace zunth::server
