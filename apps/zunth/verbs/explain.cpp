#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

namespace zunth::cli {

using namespace ua;

void addExplain(Program program) {
  auto site = std::make_shared<std::string>(), node = std::make_shared<std::string>();
  const auto verb = addLocalVerb(program, program.top, "explain",
                                 "The whole way of a value from the device's octets to the node, read anew.",
                                 "zunth explain Hatchery/Intake/DF1/pressure --site my-plant", *site);
  verb.option("NODE", *node, "A variable: its path from Objects, or its NodeId").required();
  verb.runs([program, site, node] {
    const auto folder = siteFolder(*site, "zunth explain NODE --site FOLDER");
    if (!folder) return void(program.exitCode = fail(folder.error()));
    const auto told = admin::Control::ask(*folder, {{"verb", "explain"}, {"node", *node}},
                                          milliseconds(program.options.timeout * 1000));
    if (!told) return void(program.exitCode = fail(told.error()));
    Records records({"stage", "shows"});
    for (const auto& stage : told->value("stages", Json::array()))
      records.add({stage.value("stage", ""), stage.value("shows", "")});
    std::fputs(records.text(program.options.format, isTerminal()).c_str(), stdout);
  });
}

}  // namespace zunth::cli
