// add, remove, link: changing a server's address space by hand.
#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct AddOptions {
  std::string path, type = "BaseObjectType", id, value;
  bool isWritable = false;
};

std::vector<NodeId> typeFolders() {
  return {ua::id::ObjectTypesFolder, ua::id::VariableTypesFolder, ua::id::DataTypesFolder};
}

Awaitable<int> addNode(SessionPtr session, Options options, AddOptions asked) {
  const auto slash = asked.path.rfind('/');
  const std::string parentPath = slash == std::string::npos ? "" : asked.path.substr(0, slash);
  const std::string name = slash == std::string::npos ? asked.path : asked.path.substr(slash + 1);
  AddNodesItem item;
  item.parentNodeId = ua::id::ObjectsFolder;
  item.referenceTypeId = ua::id::Organizes;
  std::uint16_t ns = 1;
  if (!parentPath.empty()) {
    auto parent = co_await findNode(session, parentPath);
    if (!parent) co_return fail(parent.error());
    item.parentNodeId = parent->nodeId;
    ns = std::max<std::uint16_t>(1, parent->nodeId.namespaceIndex());
    // As below the parent's type: folders organize, other things consist.
    const bool isFolder = parent->typeDefinition.is(ua::id::FolderType);
    item.referenceTypeId = isFolder ? ua::id::Organizes : ua::id::HasComponent;
  }
  item.browseName = name.find(':') == std::string::npos ? QualifiedName{ns, String(name)} : QualifiedName::parse(name);
  if (!asked.id.empty()) {
    auto parsed = NodeId::parse(asked.id);
    if (!parsed) co_return fail(parsed.error());
    item.requestedNewNodeId = *parsed;
  }
  auto type = co_await findType(session, asked.type, typeFolders());
  if (!type) co_return fail(type.error());
  if (type->nodeClass == NodeClass::ObjectType) {
    item.nodeClass = NodeClass::Object;
    item.typeDefinition = type->nodeId;
    if (!asked.value.empty())
      co_return fail({status::BadSyntaxError, asked.type + " is an object type: it has no value", "leave out --value"});
  } else {
    item.nodeClass = NodeClass::Variable;
    item.typeDefinition =
        type->nodeClass == NodeClass::VariableType ? type->nodeId : NodeId(ua::id::BaseDataVariableType);
    VariableAttributes attributes;
    attributes.specifiedAttributes = NodeAttributesMask::AccessLevel;
    attributes.accessLevel = static_cast<std::uint8_t>(AccessLevelType::CurrentRead |
                                                       (asked.isWritable ? AccessLevelType::CurrentWrite : 0));
    if (type->nodeClass == NodeClass::DataType) {
      attributes.specifiedAttributes |= NodeAttributesMask::DataType;
      attributes.dataType = type->nodeId;
    }
    if (!asked.value.empty()) {
      NodeId dataType = type->nodeId;
      if (type->nodeClass == NodeClass::VariableType) {
        auto read = co_await session->readAttributes(type->nodeId, std::vector<AttributeId>(1, AttributeId::DataType));
        if (!read) co_return fail(read.error());
        if (const auto* held = read->front().value.get<NodeId>()) dataType = *held;
      }
      auto facts = co_await factsOfType(session, dataType, -1);
      if (!facts) co_return fail(facts.error());
      auto value = typedValue(asked.value, *facts);
      if (!value) co_return fail(value.error());
      attributes.specifiedAttributes |= NodeAttributesMask::Value;
      attributes.value = *value;
    }
    item.nodeAttributes = ExtensionObject::of(attributes);
  }
  auto added = co_await session->addNode(std::move(item));
  if (!added) co_return fail(added.error());
  if (!options.quiet) {
    Records records({"path", "node"});
    records.add({asked.path, added->text()});
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  }
  co_return kDone;
}

Awaitable<int> removeNodes(SessionPtr session, Options options, std::vector<std::string> patterns) {
  auto nodes = co_await findNodes(session, patterns);
  if (!nodes) co_return fail(nodes.error());
  Records records({"removed"});
  int code = kDone;
  for (const auto& node : *nodes) {
    auto removed = co_await session->deleteNode(node.nodeId);
    if (removed)
      records.add({node.path});
    else
      code = fail(removed.error());
  }
  if (!options.quiet && !records.empty()) std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return code;
}

struct LinkOptions {
  std::string from, by = "Organizes", to;
  bool undo = false;
};

Awaitable<int> linkNodes(SessionPtr session, LinkOptions asked) {
  auto from = co_await findNode(session, asked.from);
  if (!from) co_return fail(from.error());
  auto to = co_await findNode(session, asked.to);
  if (!to) co_return fail(to.error());
  auto type = co_await findType(session, asked.by, std::vector<NodeId>(1, ua::id::ReferenceTypesFolder));
  if (!type) co_return fail(type.error());
  Result<void> outcome;
  if (asked.undo) {
    DeleteReferencesItem item{from->nodeId, type->nodeId, true, to->nodeId, true};
    outcome = co_await session->deleteReference(std::move(item));
  } else {
    AddReferencesItem item{from->nodeId, type->nodeId, true, {}, to->nodeId, to->nodeClass};
    outcome = co_await session->addReference(std::move(item));
  }
  co_return outcome ? int{kDone} : fail(outcome.error());
}

}  // namespace

void addAdd(Program program) {
  const auto verb = addVerb(program, "add", "Add a node to a running server, where it lets you.",
                            "zunth add Hatchery/Store/feed --type Double --value 120 --writable");
  auto asked = std::make_shared<AddOptions>();
  verb.option("PATH", asked->path, "Where it goes: an existing path and a new name").required();
  verb.option("--type", asked->type, "Of an object, a variable, or its data; objects need none");
  verb.option("--value", asked->value, "A variable's first value");
  verb.flag("--writable", asked->isWritable, "Lets clients write it");
  verb.option("--id", asked->id, "Its NodeId; else the server makes one");
  verb.runs([program, asked] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return addNode(session, program.options, *asked);
    });
  });
}

void addRemove(Program program) {
  const auto verb = addVerb(program, "remove", "Delete nodes of a running server, with what hangs on them alone.",
                            "zunth remove Hatchery/Store/feed");
  auto patterns = std::make_shared<std::vector<std::string>>();
  verb.option("NODE", *patterns, "Paths (with * and **) or NodeIds").required();
  verb.runs([program, patterns] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return removeNodes(session, program.options, *patterns);
    });
  });
}

void addLink(Program program) {
  const auto verb = addVerb(program, "link", "Add a reference between two nodes, or take it away.",
                            "zunth link Hatchery/Store --by Organizes --to Hatchery/Intake/DF1");
  auto asked = std::make_shared<LinkOptions>();
  verb.option("NODE", asked->from, "Where the reference starts").required();
  verb.option("--by", asked->by, "Its type").showsDefault();
  verb.option("--to", asked->to, "Where it leads").required();
  verb.flag("--undo", asked->undo, "Takes the reference away");
  verb.runs([program, asked] {
    program.exitCode =
        withSession(program.options, false, [&](SessionPtr session, Interrupt&) { return linkNodes(session, *asked); });
  });
}

}  // namespace zunth::cli
