#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct InterfacesWish {
  std::string site, inhibit, admit;
};

int changeInterface(const Options& options, const std::filesystem::path& site, const std::string& verb,
                    const std::string& name) {
  const auto told = admin::Control::ask(site, {{"verb", verb}, {"name", name}}, milliseconds(options.timeout * 1000));
  if (!told) return fail(told.error());
  if (!options.quiet)
    std::printf(
        verb == "inhibit"
            ? "%s is inhibited: nobody comes in there, and who had is turned out; zunth interfaces --admit ends it\n"
            : "%s is open again\n",
        told->value("name", name).c_str());
  return kDone;
}

int listInterfaces(const Options& options, const std::filesystem::path& site) {
  const auto told = admin::Control::ask(site, {{"verb", "interfaces"}}, milliseconds(options.timeout * 1000));
  if (!told) return fail(told.error());
  Records records({"name", "kind", "at", "state", "clients", "requests", "refused", "why"});
  for (const auto& one : told->value("interfaces", Json::array())) {
    const auto text = [&](const char* key) { return one.value(key, std::string()); };
    // Requests are counted where they are no services.
    const auto number = [&](const char* key) {
      const auto count = one.value(key, std::uint64_t{0});
      return one.contains(key) ? Cell(std::to_string(count), count) : Cell(std::string(), Json());
    };
    records.add({text("name"), text("kind"), text("at"), text("state"), number("clients"), number("requests"),
                 number("refused"), text("why")});
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

int interfaces(const Options& options, const InterfacesWish& wanted) {
  const auto folder = siteFolder(wanted.site, "zunth interfaces --site FOLDER");
  if (!folder) return fail(folder.error());
  if (!wanted.inhibit.empty()) return changeInterface(options, *folder, "inhibit", wanted.inhibit);
  if (!wanted.admit.empty()) return changeInterface(options, *folder, "admit", wanted.admit);
  return listInterfaces(options, *folder);
}

}  // namespace

void addInterfaces(Program program) {
  auto wanted = std::make_shared<InterfacesWish>();
  const auto verb = addLocalVerb(program, program.top, "interfaces",
                                 "By which ways a site is reached, and how many have come by each; or inhibit one of "
                                 "them, or admit it again.",
                                 "zunth interfaces --site my-plant", wanted->site);
  verb.option("--inhibit", wanted->inhibit, "Turn out who came by this one, and let nobody in there")
      .called("INTERFACE");
  verb.option("--admit", wanted->admit, "Let people in there again").called("INTERFACE");
  verb.runs([program, wanted] { program.exitCode = interfaces(program.options, *wanted); });
}

}  // namespace zunth::cli
