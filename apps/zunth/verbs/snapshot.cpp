#include "apps/zunth/model_source.hpp"
#include "apps/zunth/nodes.hpp"
#include "core/ua/json.hpp"

#include <fstream>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

constexpr std::size_t kBatch = 500;

/// "nsu=URI;s=..." of an id: the same in every server.
std::string portable(const NodeId& id, const std::vector<std::string>& uris) {
  if (id.namespaceIndex() == 0 || id.namespaceIndex() >= uris.size()) return id.text();
  return fmt::format("nsu={};{}", uris[id.namespaceIndex()], id.inNamespace(0).text());
}
std::optional<NodeId> fromPortable(const std::string& text, const std::vector<std::string>& uris) {
  std::uint16_t ns = 0;
  std::string rest = text;
  if (text.starts_with("nsu=")) {
    for (std::size_t i = 0; i < uris.size(); ++i)
      if (const std::string head = "nsu=" + uris[i] + ";"; text.starts_with(head)) {
        ns = static_cast<std::uint16_t>(i);
        rest = text.substr(head.size());
      }
    if (rest == text) return std::nullopt;
  }
  auto id = NodeId::parse(rest);
  return id ? std::optional(id->inNamespace(ns)) : std::nullopt;
}

Awaitable<Result<List<DataValue>>> readAll(SessionPtr session, std::vector<ReadValueId> what) {
  List<DataValue> all;
  for (std::size_t from = 0; from < what.size(); from += kBatch) {
    std::vector<ReadValueId> part(what.begin() + static_cast<std::ptrdiff_t>(from),
                                  what.begin() + static_cast<std::ptrdiff_t>(std::min(from + kBatch, what.size())));
    auto values = co_await session->read(std::move(part));
    if (!values) co_return values.error();
    for (auto& value : *values) all.push_back(std::move(value));
  }
  co_return all;
}

Awaitable<int> save(SessionPtr session, Options options, std::string file, std::vector<std::string> patterns) {
  auto found = co_await findNodes(session, patterns);
  if (!found) co_return fail(found.error());
  auto uris = co_await session->namespaces();
  if (!uris) co_return fail(uris.error());
  std::vector<Found> variables;
  std::vector<ReadValueId> what;
  for (auto& node : *found)
    // The server's own variables are not the plant's.
    if (node.nodeClass == NodeClass::Variable && node.nodeId.namespaceIndex() >= 2) {
      what.push_back({node.nodeId, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
      variables.push_back(std::move(node));
    }
  auto values = co_await readAll(session, std::move(what));
  if (!values) co_return fail(values.error());
  Json list = Json::array();
  std::size_t left = 0;
  for (std::size_t i = 0; i < variables.size(); ++i) {
    const auto& value = (*values)[i];
    if (value.status.isBad() || value.value.isNull()) {
      ++left;
      continue;
    }
    Json one{{"path", variables[i].path}, {"node", portable(variables[i].nodeId, *uris)}};
    one["value"] = toJson(value.value, JsonOptions{});
    if (!value.sourceTimestamp.isNull()) one["time"] = value.sourceTimestamp.text();
    list.push_back(std::move(one));
  }
  const std::size_t count = list.size();
  const Json document{{"taken", DateTime::from(std::chrono::system_clock::now()).text()}, {"values", std::move(list)}};
  if (!writeFile(file, document.dump(1, ' ', false, Json::error_handler_t::replace) + "\n")) co_return kServerError;
  if (isStructured(options.format))
    std::fputs(cli::document(Json{{"file", file}, {"saved", count}, {"withoutValue", left}}, options.format).c_str(),
               stdout);
  else if (!options.quiet)
    std::printf("saved %zu values to %s%s\n", count, file.c_str(),
                left ? fmt::format("; {} variables had none", left).c_str() : "");
  co_return kDone;
}

/// A line of a snapshot, and what becomes of it.
struct Kept {
  std::string path;
  NodeId node;
  Variant value;
  std::string outcome;  // empty while it is to be written
};

Result<std::vector<Kept>> readSnapshot(const std::string& file, const std::vector<std::string>& uris) {
  std::ifstream stream(file);
  if (!stream) return Error{status::BadNotFound, file + " can't be read", {}};
  const Json document = Json::parse(stream, nullptr, false);
  if (!document.is_object() || !document.contains("values") || !document["values"].is_array())
    return Error{status::BadDecodingError, file + " is no snapshot", "zunth snapshot " + file + " makes one"};
  std::vector<Kept> out;
  for (const auto& one : document["values"]) {
    if (!one.is_object() || !one.contains("node") || !one["node"].is_string() || !one.contains("value")) continue;
    Kept kept;
    kept.path = one.value("path", one["node"].get<std::string>());
    const auto node = fromPortable(one["node"].get<std::string>(), uris);
    if (node)
      kept.node = *node;
    else
      kept.outcome = "unknown namespace";
    auto value = variantFromJson(one["value"]);
    if (value)
      kept.value = std::move(*value);
    else
      kept.outcome = "unreadable";
    out.push_back(std::move(kept));
  }
  return out;
}

/// Leaves out what is gone, changed its type, can't be written or is the same already.
Awaitable<Result<void>> judge(SessionPtr session, std::vector<Kept>& kept) {
  std::vector<ReadValueId> what;
  for (const auto& one : kept)
    for (const auto attribute : {AttributeId::Value, AttributeId::UserAccessLevel, AttributeId::DataType})
      what.push_back({one.node, static_cast<std::uint32_t>(attribute), {}, {}});
  auto values = co_await readAll(session, std::move(what));
  if (!values) co_return values.error();
  for (std::size_t i = 0; i < kept.size(); ++i) {
    if (!kept[i].outcome.empty()) continue;
    const DataValue &now = (*values)[3 * i], &level = (*values)[3 * i + 1];
    const auto* bits = level.value.get<std::uint8_t>();
    if (level.status.isBad() || !bits)
      kept[i].outcome = "gone";
    else if (!now.value.isNull() &&
             (now.value.type() != kept[i].value.type() || now.value.isArray() != kept[i].value.isArray()))
      kept[i].outcome = "changed its type";
    else if (now.value == kept[i].value)
      kept[i].outcome = "same";
    else if (!(*bits & AccessLevelType::CurrentWrite))
      kept[i].outcome = "not writable";
  }
  co_return Result<void>();
}

Awaitable<int> restore(SessionPtr session, Options options, std::string file, bool onlyShow) {
  auto uris = co_await session->namespaces();
  if (!uris) co_return fail(uris.error());
  auto kept = readSnapshot(file, *uris);
  if (!kept) co_return fail(kept.error());
  auto judged = co_await judge(session, *kept);
  if (!judged) co_return fail(judged.error());
  bool anyRefused = false;
  for (Kept& one : *kept) {
    if (!one.outcome.empty()) continue;
    if (onlyShow) {
      one.outcome = "would be written";
      continue;
    }
    auto outcome = co_await session->write(one.node, one.value);
    if (!outcome) co_return fail(outcome.error());
    anyRefused |= outcome->error.code.isBad();
    one.outcome = outcome->error.code.isBad() ? std::string(outcome->error.code.name()) : "written";
  }
  std::map<std::string, std::size_t> counts;
  Records records({"node", "outcome"});
  for (const Kept& one : *kept) {
    ++counts[one.outcome];
    // What is as it should be needs no line, and nobody writes what a device measures; a script gets all.
    if (options.format != Format::Table ||
        (one.outcome != "same" && one.outcome != "written" && one.outcome != "not writable"))
      records.add({one.path, one.outcome});
  }
  if (!records.empty()) std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (options.format == Format::Table && !options.quiet) {
    std::string told;
    for (const auto& [outcome, count] : counts)
      told += fmt::format("{}{} {}", told.empty() ? "" : ", ", count, outcome);
    std::printf("%s\n", told.empty() ? "the snapshot is empty" : told.c_str());
  }
  co_return anyRefused ? kNo : kDone;
}

}  // namespace

void addSnapshot(Program program) {
  struct Wish {
    std::string file;
    std::vector<std::string> patterns{"**"};
  };
  auto wish = std::make_shared<Wish>();
  const auto verb = addVerb(program, "snapshot", "Save the current values of variables to a file.",
                            "zunth snapshot before.json Hatchery/Hall1/**");
  verb.option("FILE", wish->file, "What to write: JSON").required();
  verb.option("NODE", wish->patterns, "Which variables; all below Objects when left out");
  verb.runs([program, wish] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return save(session, program.options, wish->file, wish->patterns);
    });
  });
}

void addRestore(Program program) {
  auto file = std::make_shared<std::string>();
  auto onlyShow = std::make_shared<bool>(false);
  const auto verb =
      addVerb(program, "restore", "Write the values of a snapshot back, but for what changed its type since.",
              "zunth restore before.json --dry-run");
  verb.option("FILE", *file, "A file that 'zunth snapshot' wrote").required();
  verb.flag("--dry-run", *onlyShow, "Show what would be written");
  verb.runs([program, file, onlyShow] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return restore(session, program.options, *file, *onlyShow);
    });
  });
}

}  // namespace zunth::cli
