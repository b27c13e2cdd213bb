#pragma once

#include "service/admin/control.hpp"
#include "service/admin/site.hpp"
#include "service/endpoint/listener.hpp"
#include "service/registers/register_door.hpp"
#include "service/server/audit_record.hpp"

#include <map>
#include <set>

namespace zunth::admin {

/// The ways into a site: endpoints of OPC UA, Modbus servers, the console. They are where the site's files say, and
/// each can be inhibited by itself: then nobody comes in there, and whoever has is turned out, until it is admitted
/// again. That is kept in state/inhibited.json, across restarts. On the services' executor.
class Interfaces {
 public:
  struct Parts {
    net::Loops loops;
    server::Server& server;
    endpoint::Listener& listener;
    std::filesystem::path folder;
    std::function<void(const server::AuditRecord&)> record;
    std::function<void()> consoleChanged;  // it is inhibited, or no longer
  };
  explicit Interfaces(Parts parts) : parts_(std::move(parts)) {}

  /// Opens those of a site: the endpoints' URLs, with their true ports. The error of an endpoint that can't be opened,
  /// or of a file of those inhibited that can't be read; a Modbus server that can't is only told of.
  ua::Result<std::vector<std::string>> open(const Site& site);
  /// Opens what is new in a site's files and closes what isn't there any more. What can't be opened is told; endpoints
  /// that are open stay so when none of the new ones can be.
  std::vector<ua::Error> settle(const Site& wanted);
  void close();

  /// Answers its verbs from now on: "interfaces", and "inhibit" and "admit" with a name.
  void answer(Control& control);
  bool isInhibited(const std::string& name) const { return inhibited_.contains(name); }
  static constexpr const char* kConsole = "console";

 private:
  struct Endpoint {
    std::string asked, url;  // as site.yaml has it, and with the true port; the latter empty while it is closed
  };
  struct Registers {
    std::shared_ptr<registers::RegisterServer> server;
    std::unique_ptr<registers::RegisterDoor> door;  // null while it is closed
    std::string address, why;                       // with the true port; or why it is closed
  };
  std::vector<ua::Error> settleEndpoints(const Site& wanted);
  std::vector<ua::Error> settleRegisters(const Site& wanted);
  std::optional<ua::Error> openRegisters(const std::string& name);
  void tellEndpoints();
  Json list() const;
  ua::Result<Json> change(const Actor& actor, const Json& asked, bool isInhibiting);
  std::vector<std::string> names() const;
  ua::Result<void> carryOut(const std::string& name, bool isInhibiting);

  Parts parts_;
  std::set<std::string> inhibited_;
  std::vector<Endpoint> endpoints_;
  std::vector<std::string> clientUrls_;
  std::map<std::string, registers::RegisterFile> files_;  // by name, as "registers/plc"
  std::map<std::string, Registers> registers_;
  std::string console_;
};

}  // namespace zunth::admin
