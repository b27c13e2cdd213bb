#include "service/admin/site.hpp"

#include "core/channel/url.hpp"
#include "core/model/table.hpp"
#include "core/space/namespace0.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <fstream>
#include <set>
#include <sstream>

#include <fmt/format.h>

namespace zunth::admin {

namespace fs = std::filesystem;
using model::Entry;
using model::Findings;
using model::Text;
using namespace ua;

namespace {

/// What an entry says, by the path of its keys.
void flatten(const Entry& entry, const std::string& path, std::map<std::string, std::string>& out) {
  std::string text = entry.value ? entry.value->text : std::string();
  for (const auto& item : entry.items) text += (text.empty() ? "" : ", ") + item.text;
  if (!path.empty() && (entry.value || entry.isList)) out[path] = text;
  for (const auto& each : entry.entries) flatten(each, path.empty() ? each.key.text : path + "." + each.key.text, out);
}

std::string readFile(const fs::path& path, const std::string& name, Findings& findings) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  if (!file) findings.error({name, 1, 1, 1}, "the file can't be read");
  return std::move(text).str();
}

/// The files of a kind in a folder by name, in order. A folder that can't be read is none that is empty: only one that
/// a site need not have may be missing.
std::vector<std::pair<std::string, fs::path>> filesOf(const fs::path& folder, const std::string& part,
                                                      Findings& findings, const char* extension = ".yaml") {
  std::vector<std::pair<std::string, fs::path>> out;
  std::error_code failed;
  for (fs::directory_iterator at(folder / part, failed), end; !failed && at != end; at.increment(failed)) {
    const auto& path = at->path();
    const std::string name = part + "/" + path.filename().string();
    if (path.extension() == extension) out.emplace_back(name, path);
    if (path.extension() == ".yml" && std::string_view(extension) == ".yaml")
      findings.warn({name, 1, 1, 1}, "the file is not read", "call it .yaml");
  }
  const bool mayBeMissing = part != "model" && failed == std::errc::no_such_file_or_directory;
  if (failed && !mayBeMissing && std::string_view(extension) == ".yaml")
    findings.error({part, 1, 1, 1}, fmt::format("the folder {}/ can't be read: {}", part, failed.message()),
                   "put it back, or make an empty one");
  std::ranges::sort(out);
  return out;
}

/// The policies and modes of secured channels: "policies: [Basic256Sha256]", "modes: [encrypt]".
secure::Offer readOffer(const Entry& security, Findings& findings) {
  secure::Offer offer;
  if (const Entry* list = security.find("policies")) {
    std::vector<std::string> names;
    for (const auto& policy : secure::policies()) names.emplace_back(policy.name);
    for (const Text& name : security.textsOf("policies")) {
      if (const auto* policy = secure::policyNamed(name.text)) {
        offer.policies.push_back(policy);
        continue;
      }
      const auto near = nearest(name.text, names);
      findings.error(
          name.place, fmt::format("there is no policy '{}' here", name.text),
          near.empty() ? fmt::format("there are {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
    }
    if (security.textsOf("policies").empty())
      findings.error(list->key.place, "no policy is left", "name one at least, or leave 'policies' out for all");
  }
  if (const Entry* list = security.find("modes")) {
    offer.takesSigned = offer.takesEncrypted = false;
    for (const Text& mode : security.textsOf("modes")) {
      if (mode.text != "sign" && mode.text != "encrypt")
        findings.error(mode.place, fmt::format("'{}' is no mode of a secured channel", mode.text),
                       "write sign, encrypt, or both");
      offer.takesSigned |= mode.text == "sign";
      offer.takesEncrypted |= mode.text == "encrypt";
    }
    if (security.textsOf("modes").empty())
      findings.error(list->key.place, "no mode is left", "write sign, encrypt, or leave 'modes' out for both");
  }
  return offer;
}

bool readSwitch(const Entry& root, std::string_view key, Findings& findings, bool byDefault) {
  const Text* text = root.textOf(key);
  if (!text) return byDefault;
  if (text->text != "on" && text->text != "off")
    findings.error(text->place, fmt::format("'{}' is neither on nor off", text->text));
  return text->text == "on";
}

std::vector<std::string> readUrls(const Entry& root, std::string_view key, Findings& findings) {
  std::vector<std::string> out;
  for (const Text& text : root.textsOf(key)) {
    if (auto url = channel::Url::parse(text.text); !url)
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
      {"connections", &limits.maxConnections, 2, 100'000},
      {"sessions", &limits.maxSessions, 1, 10'000},
      {"sessions-per-user", &limits.maxSessionsPerUser, 1, 10'000},
      {"sessions-per-address", &limits.maxSessionsPerAddress, 1, 10'000},
      {"sessions-per-connection", &limits.maxSessionsPerConnection, 1, 10'000},
      {"subscriptions", &limits.maxSubscriptions, 1, 1'000'000},
      {"subscriptions-per-session", &limits.maxSubscriptionsPerSession, 1, 100'000},
      {"subscriptions-per-user", &limits.maxSubscriptionsPerUser, 1, 1'000'000},
      {"monitored-items-per-session", &limits.maxMonitoredItemsPerSession, 1, 100'000'000},
      {"monitored-items-per-user", &limits.maxMonitoredItemsPerUser, 1, 100'000'000},
      {"added-nodes", &limits.maxAddedNodes, 1, 10'000'000},
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
  // Shares that nobody has chosen follow what there is for all.
  const auto follow = [&](const char* key, std::uint32_t& share, std::uint32_t all, std::uint32_t quarters) {
    if (!entry.textOf(key)) share = std::max<std::uint32_t>(1, static_cast<std::uint32_t>(all / 4.0 * quarters));
  };
  follow("sessions-per-user", limits.maxSessionsPerUser, limits.maxSessions, 2);
  follow("sessions-per-address", limits.maxSessionsPerAddress, limits.maxSessions, 3);
  follow("subscriptions-per-user", limits.maxSubscriptionsPerUser, limits.maxSubscriptions, 1);
  follow("monitored-items-per-session", limits.maxMonitoredItemsPerSession, limits.maxMonitoredItems, 1);
  follow("monitored-items-per-user", limits.maxMonitoredItemsPerUser, limits.maxMonitoredItems, 3);
  follow("monitored-items-per-subscription", limits.maxMonitoredItemsPerSubscription, limits.maxMonitoredItems, 1);
}

List<IdentityMappingRuleType> identitiesOf(const Entry& role, std::string_view key, IdentityCriteriaType type) {
  List<IdentityMappingRuleType> out;
  for (const Text& text : role.textsOf(key)) out.push_back({type, String(text.text)});
  return out;
}

std::vector<std::string> plain(const std::vector<Text>& texts) {
  std::vector<std::string> out;
  for (const auto& text : texts) out.push_back(text.text);
  return out;
}

/// How often the trust list is looked through, and the faults of clients' certificates that the standard lets a site
/// overlook (Part 4, 6.1.3), each by name.
void readTrust(const Entry& root, Site& site) {
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
  site.trustReview = device::durationOf(*security, "review-trust", 0, site.findings);
  for (const Text& text : security->textsOf("tolerate")) {
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
      rule.applications = plain(role.textsOf("applications"));
      for (const Text& url : role.textsOf("endpoints"))
        rule.endpoints.push_back({String(url.text), MessageSecurityMode::Invalid, {}, {}});
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

std::string readLog(const Entry& root, Findings& findings) {
  static const std::vector<std::string> kLevels{"debug", "info", "warn", "error", "off"};
  const Text* text = root.textOf("log");
  if (!text) return {};
  if (std::ranges::find(kLevels, text->text) != kLevels.end()) return text->text;
  findings.error(text->place, fmt::format("'{}' is no level of the log", text->text),
                 fmt::format("one of {}", fmt::join(kLevels, ", ")));
  return {};
}

/// Where the console is served: without TLS on this machine only.
std::string readConsole(const Entry& root, Findings& findings) {
  const Text* text = root.textOf("console");
  if (!text || text->text == "off") return {};
  const auto url = consoleUrl(text->text);
  if (!url)
    findings.error(text->place, fmt::format("'{}' is no place for a console", text->text),
                   "write http://127.0.0.1:8046, or https://HOST:8046 for other machines");
  else if (!url->isOverTls() && url->host != "127.0.0.1" && url->host != "localhost" && url->host != "::1")
    findings.error(text->place, fmt::format("{} would send passwords over the network in the clear", text->text),
                   fmt::format("https://{}:{}", url->host, url->port));
  return text->text;
}

constexpr unsigned kMostLoops = 64;

unsigned readLoops(const Entry& root, Findings& findings) {
  const Text* text = root.textOf("loops");
  if (!text) return 0;
  const auto number = ua::parse(text->text, ua::BuiltInType::UInt32);
  const auto loops = number ? *number->get<std::uint32_t>() : 0;
  if (loops < 1 || loops > kMostLoops)
    findings.error(text->place, fmt::format("'{}' is no number from 1 to {}", text->text, kMostLoops),
                   "leave it away for one a core");
  return loops;
}

void readSettings(const Entry& root, server::Settings& settings, Findings& findings) {
  checkKeys(root,
            {"name", "uri", "endpoint", "clients", "security", "roles", "limits", "node-management", "directory",
             "diagnostics", "loops", "log", "history", "console"},
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
    checkKeys(*security, {"unsecured", "anonymous", "policies", "modes", "tolerate", "review-trust"}, findings);
    settings.allowUnsecured = readSwitch(*security, "unsecured", findings, false);
    settings.offer = readOffer(*security, findings);
  }
}

/// Reads the files of a site's model, and builds it when all are read.
class ModelLoader {
 public:
  explicit ModelLoader(Site& site) : site_(site) {
    site.space = std::make_unique<space::Space>(ua::String(site.settings.applicationUri));
    space::loadNamespace0(*site.space);
  }

  /// The units that the site adds: symbol,name,code.
  void readUnits(const fs::path& path) {
    if (!fs::exists(path)) return;
    const std::string name = path.filename().string();
    const auto rows = model::readCsv(name, load(name, path), site_.findings);
    std::vector<model::OwnUnit> own;
    for (std::size_t i = 0; i < rows.size(); ++i) {
      const auto& row = rows[i];
      const bool isHeader = i == 0 && row.front().text == "symbol";
      if (isHeader) continue;
      const std::string code = row.size() > 2 ? row[2].text : std::string();
      if (row.size() < 2 || row[0].text.empty() || code.size() > 3)
        site_.findings.error(row.front().place, "a unit has a symbol, a name and, when there is one, its UNECE code",
                             "as in: lpm,litre per minute,L2");
      else
        own.push_back({row[0].text, row[1].text, code});
    }
    units_ = model::Units(std::move(own));
  }
  void readNodeSet(const std::string& name, const fs::path& path) {
    model::readNodeSet(*site_.space, {name, load(name, path)}, site_.findings);
  }
  /// Each after those that it builds upon, whatever they are called.
  void readNodeSets(const std::vector<std::pair<std::string, fs::path>>& files) {
    std::vector<model::ModelFile> texts;
    for (const auto& [name, path] : files) texts.push_back({name, load(name, path)});
    for (const auto at : model::readingOrder(texts)) model::readNodeSet(*site_.space, texts[at], site_.findings);
  }
  void readYaml(const std::string& name, const fs::path& path) {
    roots_.push_back(model::readYaml(name, load(name, path), site_.findings));
    const Text* uri = roots_.back().textOf("namespace");
    if (uri && (uri->text == site_.settings.applicationUri || uri->text == site_.space->namespaces()[0].view()))
      site_.findings.error(uri->place,
                           fmt::format("{} is {} own namespace", uri->text,
                                       uri->text == site_.settings.applicationUri ? "the server's" : "the standard's"),
                           "give the model one of its own, as in: namespace: urn:my-company:my-plant");
    if (uri && namespace_.empty()) namespace_ = uri->text;
  }
  /// A table is of the namespace of the first model file.
  void readTable(const std::string& name, const fs::path& path) {
    auto table =
        model::readTable(name, load(name, path), namespace_.empty() ? "urn:table" : namespace_, units_, site_.findings);
    roots_.push_back(std::move(table.model));
    for (Entry& line : table.bindings.entries) bindings_.push_back(std::move(line));
  }
  void build() { places_ = model::buildEntries(*site_.space, roots_, site_.findings, {site_.ownRoles, units_}); }
  const std::vector<Entry>& tableBindings() const { return bindings_; }

  /// Writing to a variable that no device stands behind is legal, and surprising where one stands behind its
  /// neighbours.
  void warnOfUnbound() {
    std::set<space::NodeIndex> bound, boundParents;
    for (const auto& binding : site_.bindings.variables) {
      bound.insert(binding.variable);
      boundParents.insert(site_.space->parent(binding.variable));
    }
    for (const auto& binding : site_.bindings.computed) bound.insert(binding.variable);
    std::map<std::pair<const model::Place*, std::string>, std::vector<space::NodeIndex>> unbound;
    const auto& space = *site_.space;
    for (const auto parent : boundParents)
      for (const auto& reference : space.references(parent)) {
        const auto node = reference.target();
        if (!reference.isForward() || space.nodeClass(node) != NodeClass::Variable || bound.contains(node) ||
            !(space.traits(node).accessLevel & AccessLevelType::CurrentWrite) || !space.value(node).value.isNull())
          continue;
        const auto* place = node < places_.size() ? places_[node] : nullptr;
        if (place) unbound[{place, std::string(space.name(node))}].push_back(node);
      }
    for (const auto& [key, nodes] : unbound)
      site_.findings.warn(*key.first,
                          fmt::format("{}{} is writable and bound to no point", space.path(nodes.front()),
                                      nodes.size() > 1 ? fmt::format(" (and {} more)", nodes.size() - 1) : ""),
                          "what is written stays in the server; bind it, or give it a value to begin with");
  }

 private:
  const std::string& load(const std::string& name, const fs::path& path) {
    return site_.sources[name] = readFile(path, name, site_.findings);
  }

  Site& site_;
  model::Units units_;
  std::string namespace_;  // of the first model file
  std::vector<Entry> roots_, bindings_;
  std::vector<const model::Place*> places_;
};

}  // namespace

Result<channel::Url> consoleUrl(const std::string& text) {
  if (text.starts_with("https://")) return channel::Url::parse("opc." + text);
  if (text.starts_with("http://")) return channel::Url::parse("opc.tcp" + text.substr(4));
  return Error{status::BadTcpEndpointUrlInvalid, "a console is served at http://… or https://…", {}};
}

std::optional<NodeId> roleNamed(const Site& site, const std::string& name) {
  if (const auto known = space::roleNamed(name)) return NodeId(*known);
  const auto own = site.ownRoles.find(name);
  return own == site.ownRoles.end() ? std::nullopt : std::optional(own->second);
}

namespace {

/// A file whose role is one of the site's, at an address that no other has.
void addRegisters(registers::RegisterFile file, Site& site) {
  if (const auto role = roleNamed(site, file.role.text))
    file.roleId = *role;
  else
    site.findings.error(file.role.place, fmt::format("there is no role '{}'", file.role.text),
                        fmt::format("one of {}", fmt::join(space::roleNames(), ", ")));
  for (const auto& other : site.registers)
    if (other.address() == file.address() && file.port != 0)
      site.findings.error(file.role.place,
                          fmt::format("{} is the address of registers/{}, too", file.address(), other.name),
                          "give each a port of its own");
  site.registers.push_back(std::move(file));
}

}  // namespace

std::vector<std::string> Site::report() const {
  std::vector<std::string> out;
  for (const auto& finding : findings.list()) {
    const auto source = sources.find(finding.place.file);
    out.push_back(model::format(finding, source == sources.end() ? std::string_view() : source->second));
  }
  return out;
}

Site loadSite(const fs::path& folder, const fs::path& otherHome) {
  const fs::path& home = otherHome.empty() ? folder : otherHome;
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
  flatten(root, "", site.settingTexts);
  readSettings(root, site.settings, site.findings);
  site.loops = readLoops(root, site.findings);
  site.console = readConsole(root, site.findings);
  site.log = readLog(root, site.findings);
  site.history = readHistory(root, site.findings);
  readRoles(root, site);
  readTrust(root, site);

  ModelLoader loader(site);
  loader.readUnits(home / "units.csv");
  // Node sets first: the site's own models build upon them.
  loader.readNodeSets(filesOf(folder, "model", site.findings, ".xml"));
  for (const auto& [name, path] : filesOf(folder, "model", site.findings)) loader.readYaml(name, path);
  for (const auto& [name, path] : filesOf(folder, "model", site.findings, ".csv")) loader.readTable(name, path);
  loader.build();
  for (const auto& [name, path] : filesOf(folder, "devices", site.findings))
    site.devices.push_back(
        device::readDeviceFile(path.stem().string(), name, load(name, path), site.findings, home, folder));
  // Bindings make sense only against a sound model and sound devices.
  if (site.isSound()) {
    for (const auto& [name, path] : filesOf(folder, "bindings", site.findings))
      device::readBindings(name, load(name, path), *site.space, site.devices, site.bindings, site.findings);
    device::readBindings(loader.tableBindings(), *site.space, site.devices, site.bindings, site.findings);
    device::orderComputed(site.bindings.computed, *site.space, site.findings);
    loader.warnOfUnbound();
    for (const auto& [name, path] : filesOf(folder, "registers", site.findings))
      addRegisters(
          registers::readRegisterFile(path.stem().string(), name, load(name, path), *site.space, site.findings), site);
    warnOfIdleRules(root, *site.space, site.findings);
  }
  site.findings.sort();
  return site;
}

Site loadModel(const fs::path& file) {
  Site site;
  site.settings.applicationUri = "urn:zunth:model";
  ModelLoader loader(site);
  const std::string name = file.string(), kind = file.extension().string();
  if (kind == ".xml")
    loader.readNodeSet(name, file);
  else if (kind == ".csv")
    loader.readTable(name, file);
  else
    loader.readYaml(name, file);
  if (!site.findings.hasErrors() || kind != ".xml") loader.build();
  site.findings.sort();
  return site;
}

}  // namespace zunth::admin
