// zunth: the client, and the administrator's hand.
#include "apps/zunth/command.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

namespace {

bool verbKnown(const std::vector<std::string>& verbs, const std::string& typed) {
  return std::ranges::find(verbs, typed) != verbs.end();
}

}  // namespace

int main(int argc, char** argv) {
  using namespace zunth::cli;
  const CommandLine commandLine(
      "Finds, browses, reads, writes, calls and watches OPC UA servers; makes and checks sites.", "zunth",
      "A node is a path from Objects (Hatchery/Intake/DF1/pressure, * for any name, ** for any depth) or a NodeId "
      "(ns=2;s=...).\n"
      "Exit codes: 0 done, 1 the answer is no, 2 wrong use, 3 no connection, 4 refused, 5 the server's error, or "
      "output "
      "that can't be written.");
  Options options;
  int exitCode = kDone;
  const Program program{commandLine.top(), options, exitCode};
  for (auto add :
       {addEndpoints, addTree,        addShow,    addRead,   addWrite,     addCall,     addWatch,  addEvents,
        addAlarms,    addAcknowledge, addStatus,  addLocate, addQuery,     addAdd,      addRemove, addLink,
        addSnapshot,  addRestore,     addTrust,   addUser,   addAudit,     addTry,      addAt,     addCertificate,
        addCheck,     addSchema,      addOutline, addDraw,   addConvert,   addDocument, addDiff,   addApply,
        addDevice,    addExplain,     addNew,     addDemo,   addCompletion})
    add(program);
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
