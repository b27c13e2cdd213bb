#include "service/admin/applying.hpp"

#include "core/model/apply.hpp"
#include "service/admin/site_changes.hpp"

#include <algorithm>

#include <boost/asio/post.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::admin {

using namespace ua;
using model::Change;
using space::NodeIndex;

namespace {

/// The nodes of registers, as another space calls them.
void moveRegisters(std::vector<registers::RegisterFile>& files, const space::Space& from, const space::Space& to) {
  for (auto& file : files)
    for (auto& one : file.registers)
      if (const auto ns = to.namespaceIndex(from.namespaces()[one.node.namespaceIndex()].view()))
        one.node = one.node.inNamespace(*ns);
}

/// The nodes that bindings lead to, found in another space by their ids.
void moveBindings(device::Bindings& bindings, const space::Space& from, const space::Space& to) {
  const auto moved = [&](NodeIndex node) {
    const NodeId& id = from.nodeId(node);
    const auto ns = to.namespaceIndex(from.namespaces()[id.namespaceIndex()].view());
    return ns ? to.find(id.inNamespace(*ns)) : space::kNoNode;
  };
  for (auto& binding : bindings.variables) binding.variable = moved(binding.variable);
  for (auto& binding : bindings.methods) binding.method = moved(binding.method);
  for (auto& binding : bindings.computed) {
    binding.variable = moved(binding.variable);
    for (auto& source : binding.sources) source = moved(source);
  }
  std::erase_if(bindings.variables, [](const auto& binding) { return binding.variable == space::kNoNode; });
  std::erase_if(bindings.computed, [](const auto& binding) {
    return binding.variable == space::kNoNode ||
           std::ranges::find(binding.sources, space::kNoNode) != binding.sources.end();
  });
  std::erase_if(bindings.methods, [](const auto& binding) { return binding.method == space::kNoNode; });
}

/// A mistake may touch every node of a large model: nobody reads more, and the loop is not held for them.
constexpr std::size_t kMostShown = 10'000;

Json jsonOf(const Change& change) {
  static const char* const kinds[] = {"added", "removed", "changed", "renamed"};
  static const char* const effects[] = {"no", "see it", "may fail"};
  return {{"change", kinds[static_cast<int>(change.kind)]},
          {"node", change.path},
          {"what", change.what},
          {"before", change.before},
          {"after", change.after},
          {"clients", effects[static_cast<int>(change.effect)]}};
}

Json refusal(StatusCode code, std::string cause, std::string next) {
  return {{"error", admin::jsonOf(Error{code, std::move(cause), std::move(next)})}};
}

}  // namespace

void Applying::apply(Wish wish, std::function<void(Json)> answer) {
  if (isBusy_)
    return answer(refusal(status::BadInvalidState, "another apply is under way", "try again when it is done"));
  isBusy_ = true;
  net::asio::post(
      reading_, [this, wish, alive = alive_, folder = parts_.site.folder, answer = std::move(answer)]() mutable {
        auto wanted = std::make_shared<Site>();
        std::string broken;
        try {
          *wanted = loadSite(folder);
        } catch (const std::exception& problem) {
          broken = problem.what();
        }
        net::asio::post(parts_.services, [this, wish, alive, wanted = std::move(wanted), broken,
                                          answer = std::move(answer)] {
          if (!*alive) return;
          isBusy_ = false;
          if (!broken.empty())
            return answer(refusal(status::BadConfigurationError, "the folder can't be read: " + broken, "zunth check"));
          answer(swap(std::move(*wanted), wish));
        });
      });
}

Json Applying::swap(Site wanted, Wish wish) {
  auto& [services, site, server, devices, settle] = parts_;
  if (!wanted.isSound()) return {{"applied", false}, {"findings", wanted.report()}};
  if (const auto emptied = model::emptied(*site.space, *wanted.space);
      !emptied.empty() && !wish.mayEmpty && !wish.onlyShow)
    return refusal(status::BadConfigurationError,
                   fmt::format("all nodes of {} would be removed", emptied.front().view()),
                   "if that is meant: zunth apply --yes");
  Json told{{"applied", !wish.onlyShow}, {"added", 0}, {"removed", 0}, {"changed", 0}};
  Json lines = Json::array(), restart = Json::array();
  const auto others = siteChanges(site, wanted);
  const auto isOwned = [&owners = server.owners()](NodeIndex node) { return owners.of(node) != nullptr; };
  if (wish.onlyShow) {
    model::CompareOptions options;
    options.initialValues = false;  // those of what runs are the plant's
    options.isOwned = isOwned;
    auto changes = model::compare(*site.space, *wanted.space, options);
    told["total"] = changes.size();
    if (changes.size() > kMostShown) changes.resize(kMostShown);
    for (const auto& change : changes) lines.push_back(jsonOf(change));
  } else {
    auto applied = model::apply(*site.space, *wanted.space, isOwned);
    moveBindings(wanted.bindings, *wanted.space, *site.space);
    moveRegisters(wanted.registers, *wanted.space, *site.space);
    devices.rebind(wanted.devices, wanted.bindings);
    site.devices = std::move(wanted.devices);
    site.bindings = std::move(wanted.bindings);
    site.settingTexts = wanted.settingTexts;
    told["added"] = applied.added;
    told["removed"] = applied.removed;
    told["changed"] = applied.changed;
    std::ranges::stable_sort(applied.lines, {}, &Change::path);
    for (const auto& change : applied.lines) lines.push_back(jsonOf(change));
    server.showModels();
    server.bindAlarms();
    server.announcer().modelChanged(std::move(applied.changes));
    server.meaningChanged(applied.properties);
    for (const auto& failed : settle(wanted)) told["failed"].push_back(admin::jsonOf(failed));
  }
  for (const auto& [change, isForRestart] : others) {
    lines.push_back(jsonOf(change));
    if (isForRestart) restart.push_back(change.what);
  }
  told["changes"] = std::move(lines);
  told["restart"] = std::move(restart);
  return told;
}

}  // namespace zunth::admin
