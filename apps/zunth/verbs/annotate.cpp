// Remarks about moments in the history of variables.
#include "apps/zunth/past.hpp"
#include "apps/zunth/when.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/structure_codec.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct AnnotateWish {
  std::string node, text, moment, from = "-1d", to = "now";
  bool remove = false;
};

/// The property Annotations of a variable.
Awaitable<Result<NodeId>> annotationsOf(SessionPtr session, Found variable) {
  BrowsePath path;
  path.startingNode = variable.nodeId;
  RelativePathElement step;
  step.referenceTypeId = NodeId(ua::id::HasProperty);
  step.targetName = {0, String("Annotations")};
  path.relativePath.elements.push_back(step);
  auto targets = co_await session->translate(std::move(path));
  if (!targets || targets->empty())
    co_return Error{status::BadHistoryOperationUnsupported, variable.path + " takes no annotations",
                    "variables with the word 'history' in the model do"};
  co_return targets->front().targetId.nodeId;
}

Awaitable<int> list(SessionPtr session, Options options, AnnotateWish asked) {
  const auto now = std::chrono::system_clock::now();
  const auto from = momentOf(asked.from, now), to = momentOf(asked.to, now);
  if (!from || !to) co_return fail(from ? to.error() : from.error());
  auto found = co_await findNodes(session, asked.node);
  if (!found) co_return fail(found.error());
  std::vector<NodeId> ids;
  std::vector<std::string> paths;
  std::optional<Error> refusal;
  for (const auto& node : *found) {
    auto property = co_await annotationsOf(session, node);
    if (!property) refusal = property.error();
    if (!property) continue;
    ids.push_back(*property);
    paths.push_back(node.path);
  }
  if (ids.empty()) co_return fail(refusal ? *refusal : Error{status::BadNodeIdUnknown, asked.node + " is no node", {}});
  PastWish wish;
  wish.from = *from;
  wish.to = *to;
  auto pasts = co_await readPast(session, ids, wish, {});
  if (!pasts) co_return fail(pasts.error());
  Records records({"node", "moment", "annotation", "user", "made"});
  for (std::size_t i = 0; i < ids.size(); ++i)
    for (const auto& value : (*pasts)[i].values) {
      const auto* object = value.value.get<ExtensionObject>();
      const auto remark = object ? object->as<Annotation>() : Result<Annotation>(status::BadTypeMismatch);
      if (!remark) continue;
      records.add({paths[i], Cell(localTime(value.sourceTimestamp.time()), value.sourceTimestamp.text()),
                   remark->message.str(), remark->userName.str(),
                   Cell(localTime(remark->annotationTime.time()), remark->annotationTime.text())});
    }
  if (records.empty() && !isStructured(options.format)) {
    if (!options.quiet) std::fputs("nobody remarked on anything in that time\n", stderr);
    co_return kNo;
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return kDone;
}

Awaitable<int> annotate(SessionPtr session, Options options, AnnotateWish asked) {
  auto moment = momentOf(asked.moment.empty() ? "now" : asked.moment, std::chrono::system_clock::now());
  if (!moment) co_return fail(moment.error());
  // A whole second, unless one says otherwise, so that what the list shows finds it again.
  constexpr std::int64_t kSecond = 10'000'000;
  if (asked.moment.find('.') == std::string::npos) moment->ticks -= moment->ticks % kSecond;
  auto node = co_await findNode(session, asked.node);
  if (!node) co_return fail(node.error());
  auto property = co_await annotationsOf(session, *node);
  if (!property) co_return fail(property.error());
  const std::string remark = asked.remove ? std::string() : asked.text, when = localTime(moment->time());
  const auto done = co_await annotatePast(session, *property, *moment, remark);
  if (!done)
    co_return fail({done.code(), fmt::format("the annotation of {} at {}: {}", node->path, when, done.error().cause),
                    asked.remove ? "list them: zunth annotate '" + node->path + "'" : done.error().next});
  if (!options.quiet)
    std::printf("%s at %s: %s\n", node->path.c_str(), when.c_str(), asked.remove ? "removed" : "annotated");
  co_return kDone;
}

}  // namespace

void addAnnotate(Program program) {
  const auto verb =
      addVerb(program, "annotate", "Remark on a moment in the history of a variable; without a text: list the remarks.",
              "zunth annotate 'Hatchery/Hall1/Tank A2/oxygen' 'blower off for cleaning' --moment 03:20");
  auto wish = std::make_shared<AnnotateWish>();
  verb.option("NODE", wish->node, "A variable with a history: its path, or its NodeId").required();
  verb.option("TEXT", wish->text, "The remark");
  verb.option("--moment", wish->moment, "What it is about (now): 03:20, yesterday 06:00, -2h").called("WHEN");
  verb.flag("--remove", wish->remove, "Take the remark at --moment away");
  verb.option("--from", wish->from, "Those from here").called("WHEN").showsDefault();
  verb.option("--to", wish->to, "Those before").called("WHEN").showsDefault();
  verb.runs([program, wish] {
    if (wish->remove && wish->moment.empty()) {
      program.exitCode = wrongUse("which one is to be removed is not said", "--moment WHEN, as the list shows it");
      return;
    }
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return wish->text.empty() && !wish->remove ? list(session, program.options, *wish)
                                                 : annotate(session, program.options, *wish);
    });
  });
}

}  // namespace zunth::cli
