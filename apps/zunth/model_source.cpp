#include "apps/zunth/model_source.hpp"

#include "core/model/words.hpp"
#include "core/ua/text.hpp"
#include "service/admin/site.hpp"
#include "service/client/model_reader.hpp"

#include <filesystem>
#include <fstream>

#include <fmt/format.h>
#include <unistd.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

bool isServer(const std::string& from) {
  return from.find("://") != std::string::npos || (!fs::exists(from) && Places::load().urls.contains(from));
}

ModelSource fromServer(Options options, const std::string& from, bool withValues) {
  ModelSource out;
  out.isServer = true;
  options.at = from;
  const bool showsProgress = ::isatty(STDERR_FILENO) && !options.quiet;
  out.exitCode = withSession(options, false, [&](SessionPtr session, Interrupt&) -> Awaitable<int> {
    client::ModelReadOptions reading;
    reading.allValues = withValues;
    if (showsProgress) reading.progress = [](std::size_t nodes) { std::fprintf(stderr, "\r%zu nodes ", nodes); };
    auto space = co_await client::readModel(session, std::move(reading));
    if (showsProgress) std::fputs("\r                    \r", stderr);
    if (!space) co_return fail(space.error());
    out.space = std::move(*space);
    co_return kDone;
  });
  return out;
}

/// A model's own before one of the standard; kNoNode when there is none.
space::NodeIndex typeNamed(const space::Space& space, const std::string& name) {
  for (auto node = static_cast<space::NodeIndex>(space.rows()); node-- > 0;)
    if (space.exists(node) && space::isType(space.nodeClass(node)) && space.name(node) == name) return node;
  return space::kNoNode;
}

}  // namespace

std::vector<std::uint16_t> ModelSource::namespaces() const {
  std::vector<std::uint16_t> out;
  for (std::size_t i = 2; i < space->namespaces().size(); ++i) out.push_back(static_cast<std::uint16_t>(i));
  return out;
}

std::size_t ModelSource::nodes() const {
  std::size_t count = 0;
  for (space::NodeIndex node = 0; node < space->rows(); ++node)
    count += space->exists(node) && space->nodeId(node).namespaceIndex() >= 2;
  return count;
}

ModelSource modelFrom(const Options& options, const std::string& from, bool withValues) {
  if (isServer(from)) return fromServer(options, from, withValues);
  ModelSource out;
  if (!fs::exists(from)) {
    out.exitCode = wrongUse(fmt::format("there is no {}", from), "name a site's folder, a model file, or a server");
    return out;
  }
  auto site = fs::is_directory(from) ? admin::loadSite(from) : admin::loadModel(from);
  for (const auto& line : site.report()) std::fprintf(stderr, "%s\n", line.c_str());
  if (site.isSound())
    out.space = std::move(site.space);
  else
    out.exitCode = kNo;
  return out;
}

space::NodeIndex nodeIn(const space::Space& space, const std::string& path) {
  if (const auto id = NodeId::parse(path); id && space.find(*id) != space::kNoNode) return space.find(*id);
  space::NodeIndex at = space.at(id::ObjectsFolder);
  model::Findings unused;
  for (const auto& segment : model::splitPath({path, {}})) {
    std::vector<std::string> names;
    space::NodeIndex next = space::kNoNode;
    for (const auto& reference : space.references(at)) {
      if (!reference.isForward() || !space.isSubtype(reference.type(), id::HierarchicalReferences)) continue;
      names.emplace_back(space.name(reference.target()));
      if (names.back() == segment.text) next = reference.target();
    }
    if (next == space::kNoNode && segment.text == path) next = typeNamed(space, path);
    if (next == space::kNoNode) {
      const std::string near = nearest(segment.text, names);
      fail({status::BadNodeIdUnknown, fmt::format("the model has no '{}' at {}", segment.text, path),
            near.empty() ? std::string() : fmt::format("did you mean '{}'?", near)});
      return next;
    }
    at = next;
  }
  return at;
}

bool writeFile(const std::string& name, const std::string& text) {
  std::ofstream out(name, std::ios::binary);
  out << text;
  out.close();
  if (!out) fail({status::BadConfigurationError, name + " can't be written", {}});
  return static_cast<bool>(out);
}

}  // namespace zunth::cli
