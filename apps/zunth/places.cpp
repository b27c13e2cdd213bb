#include "apps/zunth/places.hpp"

#include "core/ua/text.hpp"

#include <cstdlib>
#include <filesystem>
#include <fstream>

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

namespace zunth::cli {

namespace fs = std::filesystem;
using namespace ua;

namespace {

fs::path placesFile() {
  if (const char* config = std::getenv("XDG_CONFIG_HOME"); config && *config)
    return fs::path(config) / "zunth/places.yaml";
  const char* home = std::getenv("HOME");
  return fs::path(home ? home : ".") / ".config/zunth/places.yaml";
}

std::map<std::string, std::string> textsOf(const YAML::Node& node) {
  std::map<std::string, std::string> out;
  if (node.IsMap())
    for (const auto& pair : node)
      if (pair.first.IsScalar() && pair.second.IsScalar()) out[pair.first.Scalar()] = pair.second.Scalar();
  return out;
}

}  // namespace

Places Places::load() {
  Places places;
  try {
    const YAML::Node root = YAML::LoadFile(placesFile().string());
    places.urls = textsOf(root["places"]);
    places.chosen = textsOf(root["chosen"]);
  } catch (const YAML::Exception&) {
    // No file yet, or one that somebody broke: there are no saved places.
  }
  return places;
}

Result<void> Places::save() const {
  const fs::path file = placesFile();
  std::error_code failure;
  fs::create_directories(file.parent_path(), failure);
  YAML::Node root;
  for (const auto& [name, url] : urls) root["places"][name] = url;
  for (const auto& [folder, name] : chosen) root["chosen"][folder] = name;
  std::ofstream out(file);
  out << root << '\n';
  if (!out)
    return Error{status::BadResourceUnavailable, fmt::format("can't write {}", file.string()),
                 "look whether the folder is yours"};
  return {};
}

Result<std::string> Places::resolve(const std::string& at) const {
  if (at.find("://") != std::string::npos) return at;
  std::string name = at;
  if (name.empty())
    if (const auto here = chosen.find(fs::current_path().string()); here != chosen.end()) name = here->second;
  if (!name.empty()) {
    if (const auto found = urls.find(name); found != urls.end()) return found->second;
    std::vector<std::string> names;
    for (const auto& [known, url] : urls) names.push_back(known);
    const auto near = nearest(name, names);
    return Error{
        status::BadSyntaxError, fmt::format("there is no place '{}'", name),
        near.empty() ? fmt::format("zunth at add {} opc.tcp://HOST:4840", name) : fmt::format("--at {}", near)};
  }
  try {
    if (fs::exists("site.yaml"))
      if (auto endpoint = YAML::LoadFile("site.yaml")["endpoint"]; endpoint) {
        if (endpoint.IsSequence() && endpoint.size()) endpoint = endpoint[0];
        if (endpoint.IsScalar()) return endpoint.Scalar();
      }
  } catch (const YAML::Exception&) {
    // A broken site.yaml is no reason not to reach a server.
  }
  return std::string("opc.tcp://127.0.0.1:4840");
}

}  // namespace zunth::cli
