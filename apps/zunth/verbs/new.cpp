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
console: http://127.0.0.1:8046        # in a browser on this machine
{security})";
constexpr const char* kSecure =
    R"(# Connections are signed or encrypted, clients trusted one by one (zunth trust), users log in (zunth user).
# For a first look on this machine only:
# security:
#   unsecured: on
#   anonymous: Operator
)";
constexpr const char* kOpen = R"(security:
  unsecured: on                       # neither signed nor encrypted: fine on this machine, not on a network
  anonymous: on                       # whoever comes may do what an engineer may
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

void fill(std::string& text, const std::string& gap, const std::string& with) {
  for (auto at = text.find(gap); at != std::string::npos; at = text.find(gap)) text.replace(at, gap.size(), with);
}

bool put(const fs::path& file, std::string text, const std::string& name, bool isOpen = false) {
  fill(text, "{security}", isOpen ? kOpen : kSecure);
  fill(text, "{name}", name);
  fs::create_directories(file.parent_path());
  std::ofstream out(file);
  out << text;
  return static_cast<bool>(out);
}

int makeSite(const Options& options, const std::string& folder, bool isOpen) {
  const fs::path root(folder);
  if (fs::exists(root) && !fs::is_empty(root))
    return wrongUse(fmt::format("{} is there already and not empty", folder), "zunth new OTHER-FOLDER");
  std::string name = fs::absolute(root).lexically_normal().filename().string();
  if (name.empty()) name = fs::absolute(root).lexically_normal().parent_path().filename().string();
  try {
    const bool made = put(root / "site.yaml", kSite, name, isOpen) && put(root / "model/plant.yaml", kModel, name) &&
                      put(root / "devices/pump.yaml.example", kDevice, name) &&
                      put(root / "bindings/plant.yaml", kBindings, name) && put(root / ".gitignore", "state/\nsecrets/\n", name);
    if (!made) return wrongUse(fmt::format("{} can't be written", folder), "look whether the folder is yours");
  } catch (const fs::filesystem_error& e) {
    return wrongUse(fmt::format("{} can't be made: {}", folder, e.code().message()),
                    "look whether the folder is yours");
  }
  if (options.quiet) return kDone;
  std::printf("made %s\n  start it:    zunthd %s\n", folder.c_str(), folder.c_str());
  if (isOpen)
    std::printf("  look at it:  zunth tree --values\n");
  else
    std::printf("  add a user:  zunth user add NAME --site %s\n  look at it:  zunth tree --values --user NAME\n",
                folder.c_str());
  return kDone;
}

}  // namespace

void addNew(Program program) {
  const auto verb = program.top.verb("new", "Make a site to begin with.");
  verb.example("zunth new my-plant");
  auto folder = std::make_shared<std::string>();
  verb.option("SITE", *folder, "Folder to make").required();
  verb.flag("--quiet", program.options.quiet, "Print errors only");
  auto isOpen = std::make_shared<bool>(false);
  verb.flag("--open", *isOpen, "Without security, for a first look on this machine");
  verb.runs([program, folder, isOpen] { program.exitCode = makeSite(program.options, *folder, *isOpen); });
}

}  // namespace zunth::cli
