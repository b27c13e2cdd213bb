#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

/// The path's names as the standard's relative path. A name may say its namespace ("2:Hatchery"); one that doesn't
/// stays in that of the name before it, or is looked for in the model.
Awaitable<Result<std::vector<QualifiedName>>> namesOf(SessionPtr session, std::string path) {
  std::vector<QualifiedName> out;
  std::vector<std::string> plain;
  bool anyPlain = false;
  for (std::size_t from = 0; from <= path.size();) {
    const auto slash = std::min(path.find('/', from), path.size());
    const std::string segment = path.substr(from, slash - from);
    from = slash + 1;
    if (segment.empty()) continue;
    out.push_back(QualifiedName::parse(segment));
    plain.push_back(out.back().name.str());
    anyPlain |= segment.find(':') == std::string::npos;
  }
  if (!anyPlain) co_return out;
  std::string known;
  for (const auto& name : plain) known += (known.empty() ? "" : "/") + name;
  auto node = co_await findNode(session, known);
  if (!node) co_return node.error();
  // Each node along the way tells its own browse name.
  std::string soFar;
  for (std::size_t i = 0; i < plain.size(); ++i) {
    soFar += (soFar.empty() ? "" : "/") + plain[i];
    auto step = co_await findNode(session, soFar);
    if (!step) co_return step.error();
    auto names = co_await session->readAttributes(step->nodeId, std::vector<AttributeId>(1, AttributeId::BrowseName));
    if (!names) co_return names.error();
    if (const auto* name = names->front().value.get<QualifiedName>()) out[i] = *name;
  }
  co_return out;
}

Awaitable<int> locate(SessionPtr session, Options options, std::vector<std::string> paths) {
  Records records({"path", "node", "names"});
  int code = kDone;
  for (const auto& path : paths) {
    auto names = co_await namesOf(session, path);
    if (!names) co_return fail(names.error());
    BrowsePath asked;
    asked.startingNode = id::ObjectsFolder;
    std::string text;
    for (const auto& name : *names) {
      asked.relativePath.elements.push_back({id::HierarchicalReferences, false, true, name});
      text += "/" + name.text();
    }
    auto targets = co_await session->translate(std::move(asked));
    if (!targets) {
      Error error = targets.error();
      if (error.cause.empty()) error.cause = fmt::format("the server finds nothing at {}", path);
      if (error.code == status::BadNoMatch) error.next = "zunth tree";
      code = fail(error);
      continue;
    }
    for (const auto& target : *targets) records.add({path, target.targetId.text(), text});
  }
  if (!records.empty()) std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return code;
}

}  // namespace

void addLocate(Program program) {
  const auto verb = addVerb(program, "locate", "Ask the server which node is at a path of browse names.",
                            "zunth locate Hatchery/Intake/DF1/pressure");
  auto paths = std::make_shared<std::vector<std::string>>();
  verb.option("PATH", *paths, "Browse names from Objects; 2:name for a name of namespace 2").required();
  verb.runs([program, paths] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return locate(session, program.options, *paths);
    });
  });
}

}  // namespace zunth::cli
