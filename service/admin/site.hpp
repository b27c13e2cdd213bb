#pragma once

#include "core/channel/url.hpp"
#include "core/model/nodeset.hpp"
#include "service/admin/history_settings.hpp"
#include "service/device/bindings.hpp"
#include "service/registers/register_file.hpp"
#include "service/server/server.hpp"

#include <filesystem>

namespace zunth::admin {

/// A site's folder, read and checked as a whole: what zunthd runs and what `zunth check` judges.
struct Site {
  std::filesystem::path folder;
  server::Settings settings;
  std::string log;  // how much the service tells; empty for what its command line says
  HistorySettings history;
  std::string console;  // where browsers find it: "http://127.0.0.1:8046"; empty for nowhere
  unsigned loops = 0;   // threads for connections and their ciphers; 0 for one a core
  std::unique_ptr<space::Space> space;
  std::map<std::string, ua::NodeId> ownRoles;   // by name: those of site.yaml that the standard doesn't have
  std::vector<ua::StatusCode> toleratedFaults;  // of clients' certificates
  double trustReview = 0;                       // ms within which the trust list is to be looked through; 0 for never
  std::vector<device::DeviceFile> devices;
  device::Bindings bindings;
  std::vector<registers::RegisterFile> registers;
  std::map<std::string, std::string> settingTexts;  // what site.yaml says, by key: "security.anonymous": "off"
  model::Findings findings;
  std::map<std::string, std::string> sources;  // texts by file name, for showing findings

  bool isSound() const { return !findings.hasErrors(); }
  /// Every finding with its line, ready to print.
  std::vector<std::string> report() const;
};

/// "http://HOST:PORT" or "https://HOST:PORT", as a URL of the transport that is below. BadTcpEndpointUrlInvalid.
ua::Result<channel::Url> consoleUrl(const std::string& text);
/// The role of this name: the standard's or one of the site's own; nothing when there is none.
std::optional<ua::NodeId> roleNamed(const Site& site, const std::string& name);

/// Reads a folder. A folder that isn't there or has no site.yaml is a finding like any other.
/// What its files name beside themselves, as units, secrets, tables and lines, lies in `home`: in the folder itself
/// where that isn't said.
Site loadSite(const std::filesystem::path& folder, const std::filesystem::path& home = {});
/// Reads one model file alone: *.yaml, a NodeSet2 file *.xml, or a table *.csv. It has no devices and no settings.
Site loadModel(const std::filesystem::path& file);

}  // namespace zunth::admin
