#include "apps/zunth/command.hpp"

#include <filesystem>
#include <fstream>

#include <fmt/format.h>

namespace zunth::cli {

namespace fs = std::filesystem;

namespace {

constexpr const char* kSite = R"(name: {name}
uri: urn:{name}                       # no other server may have the same
endpoint: opc.tcp://127.0.0.1:4840
security:
  unsecured: on                       # neither signed nor encrypted: fine on this machine, not on a network
  anonymous: on
)";
constexpr const char* kModel = R"(namespace: http://{name}.example/plant

types:
  Pump:
    flow:     Double L/min 0..600
    speed:    Float Hz 0..50 = 20 writable
    running:  Boolean = false

objects:
  Plant:
    P1: Pump
    P2: Pump
)";
constexpr const char* kDevice =
    R"(# Rename this file to pump.yaml when the device is there, and bind its points in bindings/.
driver: modbus-tcp
host: 127.0.0.1
port: 502
every: 500 ms
points:
  flow:   input 0 Float
  speed:  holding 0 Float
)";
constexpr const char* kBindings = R"(bindings:
#  Plant/P1/flow:   pump/flow
#  Plant/P1/speed:  pump/speed
)";

bool put(const fs::path& file, std::string text, const std::string& name) {
  for (auto at = text.find("{name}"); at != std::string::npos; at = text.find("{name}")) text.replace(at, 6, name);
  fs::create_directories(file.parent_path());
  std::ofstream out(file);
  out << text;
  return static_cast<bool>(out);
}

int makeSite(const Options& options, const std::string& folder) {
  const fs::path root(folder);
  if (fs::exists(root) && !fs::is_empty(root))
    return wrongUse(fmt::format("{} is there already and not empty", folder), "zunth new OTHER-FOLDER");
  std::string name = fs::absolute(root).lexically_normal().filename().string();
  if (name.empty()) name = fs::absolute(root).lexically_normal().parent_path().filename().string();
  try {
    const bool made = put(root / "site.yaml", kSite, name) && put(root / "model/plant.yaml", kModel, name) &&
                      put(root / "devices/pump.yaml.example", kDevice, name) &&
                      put(root / "bindings/plant.yaml", kBindings, name) && put(root / ".gitignore", "state/\n", name);
    if (!made) return wrongUse(fmt::format("{} can't be written", folder), "look whether the folder is yours");
  } catch (const fs::filesystem_error& e) {
    return wrongUse(fmt::format("{} can't be made: {}", folder, e.code().message()),
                    "look whether the folder is yours");
  }
  if (!options.quiet)
    std::printf("made %s\n  start it:    zunthd %s\n  look at it:  zunth tree --values\n", folder.c_str(),
                folder.c_str());
  return kDone;
}

}  // namespace

void addNew(Program program) {
  auto* verb = program.app.add_subcommand("new", "Make a site to begin with.");
  verb->footer("Example: zunth new my-plant");
  auto folder = std::make_shared<std::string>();
  verb->add_option("SITE", *folder, "Folder to make")->required();
  verb->add_flag("--quiet", program.options.quiet, "Print errors only");
  verb->callback([program, folder] { program.exitCode = makeSite(program.options, *folder); });
}

}  // namespace zunth::cli
