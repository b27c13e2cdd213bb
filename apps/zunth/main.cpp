// zunth: the client, and the administrator's hand.
#include "apps/zunth/command.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

namespace {

bool verbKnown(const std::vector<std::string>& verbs, const std::string& typed) {
  return std::ranges::find(verbs, typed) != verbs.end();
}

}  // namespace

namespace zunth::cli {
namespace {

/// The verbs by what one is about, those that are used most first.
const std::vector<std::pair<std::string, std::vector<void (*)(Program)>>> kTasks{
    {"Every day", {addTree, addWatch, addRead, addWrite, addShow}},
    {"What runs",
     {addCall, addHistory, addAnnotate, addPlot, addEvents, addAlarms, addAlarm, addAcknowledge, addStatus, addSnapshot,
      addRestore}},
    {"Find and change nodes", {addLocate, addQuery, addAdd, addRemove, addLink}},
    {"Make a site", {addNew, addCheck, addApply, addDevice, addExplain, addHistoryMove, addDemo}},
    {"Look at models", {addOutline, addDiff, addDraw, addDocument, addConvert, addSchema}},
    {"Connections, certificates, users",
     {addEndpoints, addTry, addAt, addTrust, addCertificate, addUser, addClients, addInterfaces, addAudit, addLog}},
    {"The shell", {addCompletion}},
};

}  // namespace
}  // namespace zunth::cli

int main(int argc, char** argv) {
  using namespace zunth::cli;
  const CommandLine commandLine(
      "Finds, browses, reads, writes, calls and watches OPC UA servers; makes and checks sites.", "zunth",
      "A node is a path from Objects (Hatchery/Intake/DF1/pressure, * for any name, ** for any depth) or a NodeId "
      "(ns=2;s=...).\n"
      "Exit codes: 0 done, 1 the answer is no, 2 wrong use, 3 no connection, 4 refused,\n"
      "5 the server's error, or output that can't be written.\n"
      "More of a verb: zunth VERB --help. To begin with: zunth demo, or zunth new my-plant.");
  Options options;
  int exitCode = kDone;
  const Program program{commandLine.top(), options, exitCode};
  for (const auto& [task, adds] : kTasks) {
    const auto before = program.top.verbs().size();
    for (auto add : adds) add(program);
    const auto verbs = program.top.verbs();
    for (std::size_t i = before; i < verbs.size(); ++i) verbs[i].inGroup(task);
  }
  // Who types the name alone wants to know what there is.
  if (argc < 2) return commandLine.showHelp(), kDone;
  const auto reading = commandLine.read(argc, argv);
  if (reading.isDone) return outputIsWritten() ? exitCode : kServerError;
  const std::string typed = argc > 1 ? argv[1] : "";
  std::vector<std::string> verbs;
  for (const auto& verb : program.top.verbs()) verbs.push_back(verb.name());
  if (!typed.empty() && typed[0] != '-' && !verbKnown(verbs, typed)) {
    const auto near = zunth::ua::nearest(typed, verbs);
    return wrongUse("there is no verb '" + typed + "'", near.empty() ? "zunth --help" : "zunth " + near);
  }
  return wrongUse(reading.mistake, "zunth " + (verbKnown(verbs, typed) ? typed + " " : "") + "--help");
}
