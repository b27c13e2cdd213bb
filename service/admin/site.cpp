#include "service/admin/site.hpp"

#include "core/space/namespace0.hpp"
#include "core/ua/text.hpp"
#include "service/net/url.hpp"

#include <algorithm>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace zunth::admin {

namespace fs = std::filesystem;
using model::Entry;
using model::Findings;
using model::Text;
using namespace ua;

namespace {

std::string readFile(const fs::path& path, const std::string& name, Findings& findings) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  if (!file) findings.error({name, 1, 1, 1}, "the file can't be read");
  return std::move(text).str();
}

/// The files of a kind in a folder by name, in order.
std::vector<std::pair<std::string, fs::path>> filesOf(const fs::path& folder, const std::string& part,
                                                      const char* extension = ".yaml") {
  std::vector<std::pair<std::string, fs::path>> out;
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder / part, ignored))
    if (entry.path().extension() == extension)
      out.emplace_back(part + "/" + entry.path().filename().string(), entry.path());
  std::ranges::sort(out);
  return out;
}

bool readSwitch(const Entry& root, std::string_view key, Findings& findings, bool byDefault) {
  const Text* text = root.textOf(key);
  if (!text) return byDefault;
  if (text->text != "on" && text->text != "off")
    findings.error(text->place, fmt::format("'{}' is neither on nor off", text->text));
  return text->text == "on";
}

/// One text, or a list of them.
std::vector<Text> textsOf(const Entry& root, std::string_view key) {
  const Entry* entry = root.find(key);
  if (!entry) return {};
  std::vector<Text> texts = entry->items;
  if (entry->value) texts.push_back(*entry->value);
  return texts;
}

std::vector<std::string> readUrls(const Entry& root, std::string_view key, Findings& findings) {
  std::vector<std::string> out;
  for (const Text& text : textsOf(root, key)) {
    if (auto url = net::Url::parse(text.text); !url)
      findings.error(text.place, url.error().cause, url.error().next);
    else if (url->isAwaited || (key == "clients" && url->isOverTls()))
      findings.error(text.place, fmt::format("'{}' is no URL for a server to go to", text.text),
                     "write opc.tcp://HOST:PORT");
    out.push_back(text.text);
  }
  return out;
}

/// What a server grants at most, by the names of site.yaml.
void readLimits(const Entry& entry, server::Settings& settings, Findings& findings) {
  server::Limits& limits = settings.limits;
  struct Limit {
    const char* key;
    std::uint32_t* value;
    std::uint32_t least, most;
  };
  const Limit known[] = {
      {"sessions", &limits.maxSessions, 1, 10'000},
      {"subscriptions", &limits.maxSubscriptions, 1, 1'000'000},
      {"subscriptions-per-session", &limits.maxSubscriptionsPerSession, 1, 100'000},
      {"monitored-items", &limits.maxMonitoredItems, 1, 100'000'000},
      {"monitored-items-per-subscription", &limits.maxMonitoredItemsPerSubscription, 1, 100'000'000},
      {"queue-size", &limits.maxQueueSize, 1, 10'000'000},
      {"publish-requests-per-session", &limits.maxPublishRequestsPerSession, 1, 10'000},
      {"continuation-points-per-session", &limits.maxContinuationPointsPerSession, 1, 100'000},
      {"references-per-node", &limits.maxReferencesPerNode, 1, 10'000'000},
      {"operations-per-request", &limits.maxOperationsPerRequest, 1, 10'000'000},
      {"durable-hours", &limits.mostDurableHours, 1, 24 * 366},
      {"message-octets", &settings.maxMessageSize, 8'192, 1u << 30},
  };
  std::vector<std::string> keys;
  for (const auto& limit : known) keys.emplace_back(limit.key);
  checkKeys(entry, keys, findings);
  for (const auto& limit : known) {
    const Text* text = entry.textOf(limit.key);
    if (!text) continue;
    const auto number = ua::parse(text->text, ua::BuiltInType::UInt32);
    const auto value = number ? *number->get<std::uint32_t>() : 0;
    if (!number || value < limit.least || value > limit.most)
      findings.error(text->place, fmt::format("'{}' is no number from {} to {}", text->text, limit.least, limit.most));
    else
      *limit.value = value;
  }
}

List<IdentityMappingRuleType> identitiesOf(const Entry& role, std::string_view key, IdentityCriteriaType type) {
  List<IdentityMappingRuleType> out;
  for (const Text& text : textsOf(role, key)) out.push_back({type, String(text.text)});
  return out;
}

std::vector<std::string> plain(const std::vector<Text>& texts) {
  std::vector<std::string> out;
  for (const auto& text : texts) out.push_back(text.text);
  return out;
}

/// Faults of clients' certificates that the standard lets a site overlook (Part 4, 6.1.3), each by name.
void readTolerated(const Entry& root, Site& site) {
  struct Fault {
    const char* name;
    std::vector<StatusCode> codes;
  };
  static const Fault faults[] = {
      {"time", {status::BadCertificateTimeInvalid, status::BadCertificateIssuerTimeInvalid}},
      {"use", {status::BadCertificateUseNotAllowed, status::BadCertificateIssuerUseNotAllowed}},
      {"revocation-unknown", {status::BadCertificateRevocationUnknown, status::BadCertificateIssuerRevocationUnknown}}};
  const Entry* security = root.find("security");
  if (!security) return;
  for (const Text& text : textsOf(*security, "tolerate")) {
    const auto* fault = std::ranges::find(faults, text.text, &Fault::name);
    if (fault == std::end(faults))
      site.findings.error(text.place, fmt::format("'{}' is no fault that may be tolerated", text.text),
                          "write time, use or revocation-unknown");
    else
      site.toleratedFaults.insert(site.toleratedFaults.end(), fault->codes.begin(), fault->codes.end());
  }
}

/// The rules of `roles:`, and who an anonymous user is.
void readRoles(const Entry& root, Site& site) {
  auto& settings = site.settings;
  settings.roles.clear();
  if (const Entry* roles = root.find("roles"))
    for (const Entry& role : roles->entries) {
      checkKeys(role, {"users", "certificates", "subjects", "applications", "endpoints"}, site.findings);
      secure::RoleRule rule;
      if (const auto known = space::roleNamed(role.key.text)) {
        rule.role = NodeId(*known);
      } else {
        rule.role = NodeId(1, String("roles/" + role.key.text));
        site.ownRoles[role.key.text] = rule.role;
      }
      for (const auto& [key, type] : {std::pair{"users", IdentityCriteriaType::UserName},
                                      std::pair{"certificates", IdentityCriteriaType::Thumbprint},
                                      std::pair{"subjects", IdentityCriteriaType::X509Subject}})
        for (auto& identity : identitiesOf(role, key, type)) rule.identities.push_back(std::move(identity));
      rule.applications = plain(textsOf(role, "applications"));
      rule.endpoints = plain(textsOf(role, "endpoints"));
      settings.roles.push_back(std::move(rule));
    }
  const Entry* security = root.find("security");
  const Text* anonymous = security ? security->textOf("anonymous") : nullptr;
  if (!anonymous || anonymous->text == "off") return;
  settings.allowAnonymous = true;
  const auto role = roleNamed(site, anonymous->text == "on" ? "Engineer" : anonymous->text);
  if (!role)
    return site.findings.error(
        anonymous->place, fmt::format("'{}' is neither off nor on nor a role", anonymous->text),
        fmt::format("write off, or what anyone may be: {}", fmt::join(space::roleNames(), ", ")));
  secure::RoleRule rule;
  rule.role = *role;
  rule.identities.push_back({IdentityCriteriaType::Anonymous, {}});
  settings.roles.push_back(std::move(rule));
}

void readSettings(const Entry& root, server::Settings& settings, Findings& findings) {
  checkKeys(root,
            {"name", "uri", "endpoint", "clients", "security", "roles", "limits", "node-management", "directory",
             "diagnostics"},
            findings);
  if (const Text* name = root.textOf("name")) settings.applicationName = name->text;
  if (const Text* uri = root.textOf("uri"))
    settings.applicationUri = uri->text;
  else
    findings.error(root.key.place, "the site names no application URI",
                   "write one that no other server has: uri: urn:my-company:my-site");
  settings.endpointUrls = readUrls(root, "endpoint", findings);
  if (settings.endpointUrls.empty()) settings.endpointUrls = {"opc.tcp://127.0.0.1:4840"};
  settings.clientUrls = readUrls(root, "clients", findings);
  if (const Entry* limits = root.find("limits")) readLimits(*limits, settings, findings);
  settings.allowNodeManagement = readSwitch(root, "node-management", findings, false);
  settings.acceptRegistrations = readSwitch(root, "directory", findings, false);
  settings.diagnostics = readSwitch(root, "diagnostics", findings, true);
  if (const Entry* security = root.find("security")) {
    checkKeys(*security, {"unsecured", "anonymous", "tolerate"}, findings);
    settings.allowUnsecured = readSwitch(*security, "unsecured", findings, false);
  }
}

}  // namespace

std::optional<NodeId> roleNamed(const Site& site, const std::string& name) {
  if (const auto known = space::roleNamed(name)) return NodeId(*known);
  const auto own = site.ownRoles.find(name);
  return own == site.ownRoles.end() ? std::nullopt : std::optional(own->second);
}

std::vector<std::string> Site::report() const {
  std::vector<std::string> out;
  for (const auto& finding : findings.list()) {
    const auto source = sources.find(finding.place.file);
    out.push_back(model::format(finding, source == sources.end() ? std::string_view() : source->second));
  }
  return out;
}

Site loadSite(const fs::path& folder) {
  Site site;
  site.folder = folder;
  auto load = [&site](const std::string& name, const fs::path& path) -> const std::string& {
    return site.sources[name] = readFile(path, name, site.findings);
  };
  if (!fs::exists(folder / "site.yaml")) {
    site.findings.error({"site.yaml", 1, 1, 1}, fmt::format("{} is no site: it has no site.yaml", folder.string()),
                        fmt::format("make one with: zunth new {}", folder.string()));
    return site;
  }
  const Entry root = model::readYaml("site.yaml", load("site.yaml", folder / "site.yaml"), site.findings);
  readSettings(root, site.settings, site.findings);
  readRoles(root, site);
  readTolerated(root, site);

  site.space = std::make_unique<space::Space>(ua::String(site.settings.applicationUri));
  space::loadNamespace0(*site.space);
  // Node sets first: the site's own models build upon them.
  for (const auto& [name, path] : filesOf(folder, "model", ".xml"))
    model::readNodeSet(*site.space, {name, load(name, path)}, site.findings);
  std::vector<model::ModelFile> models;
  for (const auto& [name, path] : filesOf(folder, "model")) models.push_back({name, load(name, path)});
  model::build(*site.space, models, site.findings, site.ownRoles);
  for (const auto& [name, path] : filesOf(folder, "devices"))
    site.devices.push_back(device::readDeviceFile(path.stem().string(), name, load(name, path), site.findings));
  // Bindings make sense only against a sound model and sound devices.
  if (site.isSound())
    for (const auto& [name, path] : filesOf(folder, "bindings"))
      device::readBindings(name, load(name, path), *site.space, site.devices, site.bindings, site.findings);
  site.findings.sort();
  return site;
}

}  // namespace zunth::admin
