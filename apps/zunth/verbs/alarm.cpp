#include "apps/zunth/conditions.hpp"
#include "core/model/alarm_care.hpp"
#include "service/client/deeds.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct Asked {
  client::DeedWish wish;
  std::vector<std::string> alarms;
  std::string time;
};

Awaitable<int> doAll(SessionPtr session, Interrupt& interrupt, Options options, Asked asked) {
  auto found = co_await findNodes(session, asked.alarms);
  if (!found) co_return fail(found.error());
  int code = kDone;
  std::vector<Condition> standing;
  if (asked.wish.deed->takes == client::Deed::Takes::Event) {
    auto feed = co_await ConditionFeed::open(session, interrupt, code);
    if (!feed) co_return fail(feed.error());
    auto told = co_await (*feed)->standing(milliseconds(options.timeout * 1000));
    co_await (*feed)->close();
    if (!told) co_return fail(told.error());
    standing = std::move(*told);
  }
  std::vector<NodeId> ids;
  for (const auto& alarm : *found) ids.push_back(alarm.nodeId);
  auto outcomes = co_await client::doDeed(session, asked.wish, std::move(ids), std::move(standing));
  if (!outcomes) co_return fail(outcomes.error());
  Records records({"alarm", "now"});
  for (std::size_t i = 0; i < found->size(); ++i) {
    const Error& error = (*outcomes)[i];
    const std::string& path = (*found)[i].path;
    if (error.code.isBad())
      code = fail({error.code, path + (error.cause.empty() ? std::string() : ": " + error.cause), error.next});
    else
      records.add({path, std::string(asked.wish.deed->done)});
  }
  if (!options.quiet && (!records.empty() || options.format != Format::Table))
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  co_return code;
}

void run(Program program, std::shared_ptr<Asked> asked) {
  program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt& interrupt) {
    return doAll(session, interrupt, program.options, *asked);
  });
}

}  // namespace

void addAlarm(Program program) {
  const auto verb =
      addVerb(program, "alarm", "Shelve, suppress, silence, reset, answer or comment alarms, many at once.",
              "zunth alarm shelve 'Hatchery/**/clogged' --for 2h --comment \"new screen\"");
  auto asked = std::make_shared<Asked>();
  auto which = std::make_shared<int>(0);
  std::vector<std::pair<std::string, int>> words;
  std::string about = "One of:";
  for (const auto& deed : client::deeds()) {
    words.emplace_back(deed.word, static_cast<int>(words.size()));
    about += fmt::format(" {},", deed.word);
  }
  about.pop_back();
  verb.oneOf("WHAT", *which, words, about).required();
  verb.option("ALARM", asked->alarms, "Paths (with * and **) or NodeIds, as 'zunth alarms' lists them").required();
  verb.option("--for", asked->time, "How long to shelve: 30min, 8h, 2d");
  verb.flag("--once", asked->wish.isOnce, "Shelve until it goes");
  verb.option("--answer", asked->wish.answer, "To a dialog: one of its options");
  verb.option("--comment", asked->wish.comment, "What others should know");
  verb.runs([program, asked, which] {
    auto& wish = asked->wish;
    wish.deed = &client::deeds()[static_cast<std::size_t>(*which)];
    const std::string word = wish.deed->word;
    const bool isTimed = word == "shelve";
    if (!isTimed && (asked->wish.isOnce || !asked->time.empty()))
      return void(program.exitCode = wrongUse("--for and --once go with shelve"));
    if (isTimed && asked->wish.isOnce == !asked->time.empty())
      return void(program.exitCode = wrongUse("an alarm is shelved for a time, or once", "--for 2h, or --once"));
    const auto time = model::readTime(asked->time);
    if (isTimed && !asked->wish.isOnce && !time)
      return void(program.exitCode = wrongUse(fmt::format("'{}' is no time", asked->time), "as in: --for 2h"));
    if ((word == "respond") == asked->wish.answer.empty())
      return void(program.exitCode = wrongUse("--answer goes with respond, and respond needs one", "--answer Yes"));
    if (word == "comment" && asked->wish.comment.empty())
      return void(program.exitCode = wrongUse("there is nothing to say", "--comment \"washing it\""));
    wish.time = time.value_or(0);
    run(program, asked);
  });
}

void addAcknowledge(Program program) {
  const auto verb = addVerb(program, "acknowledge", "Acknowledge alarms, or confirm them.",
                            "zunth acknowledge Hatchery/Intake/DF1/clogged --comment \"washing it\"");
  auto asked = std::make_shared<Asked>();
  auto confirms = std::make_shared<bool>(false);
  verb.option("ALARM", asked->alarms, "Paths (with * and **) or NodeIds, as 'zunth alarms' lists them").required();
  verb.option("--comment", asked->wish.comment, "What others should know");
  verb.flag("--confirm", *confirms, "Confirm what was acknowledged");
  verb.runs([program, asked, confirms] {
    asked->wish.deed = client::deedNamed(*confirms ? "confirm" : "acknowledge");
    run(program, asked);
  });
}

}  // namespace zunth::cli
