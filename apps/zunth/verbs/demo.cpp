#include "apps/zunth/command.hpp"
#include "apps/zunth/night.hpp"

#include <csignal>
#include <filesystem>
#include <fstream>
#include <optional>
#include <sstream>

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

extern char** environ;

namespace zunth::cli {

namespace fs = std::filesystem;

namespace {

volatile std::sig_atomic_t asked = 0;

/// A program that runs beside this one; ended with it.
class Child {
 public:
  /// Starts it and waits for its first line of output, which says that it is ready; of one that says nothing, not.
  static std::optional<Child> start(const std::vector<std::string>& command, bool saysReady) {
    int lines[2];
    if (::pipe2(lines, O_CLOEXEC) != 0) return std::nullopt;
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, lines[1], STDOUT_FILENO);
    // Ctrl-C reaches this program alone; it ends the others in order.
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
    posix_spawnattr_setpgroup(&attributes, 0);
    std::vector<char*> arguments;
    for (const auto& word : command) arguments.push_back(const_cast<char*>(word.c_str()));
    arguments.push_back(nullptr);
    Child child;
    const int failure =
        ::posix_spawn(&child.pid_, command[0].c_str(), &actions, &attributes, arguments.data(), environ);
    posix_spawn_file_actions_destroy(&actions);
    posix_spawnattr_destroy(&attributes);
    ::close(lines[1]);
    char said[4096];
    const auto size = failure == 0 && saysReady ? ::read(lines[0], said, sizeof said) : 0;
    const bool isReady = failure == 0 && (!saysReady || size > 0);
    if (size > 0) child.said_.assign(said, static_cast<std::size_t>(size));
    ::close(lines[0]);
    if (failure == 0 && !isReady) child.stop();
    if (!isReady) return std::nullopt;
    return child;
  }
  /// What it said when it was ready.
  const std::string& said() const { return said_; }
  void stop() {
    if (pid_ <= 0) return;
    ::kill(pid_, SIGTERM);
    ::waitpid(pid_, nullptr, 0);
    pid_ = 0;
  }
  bool hasEnded() {
    if (pid_ <= 0 || ::waitpid(pid_, nullptr, WNOHANG) != pid_) return false;
    pid_ = 0;
    return true;
  }

 private:
  pid_t pid_ = 0;
  std::string said_;
};

/// The folder of this program's own file, beside which the others are installed.
fs::path programs() { return fs::read_symlink("/proc/self/exe").parent_path(); }

/// How to call this program from where the user is: by its name when the shell finds it, else by its path.
std::string howToCall() {
  const fs::path self = programs() / "zunth";
  std::istringstream folders(std::getenv("PATH") ? std::getenv("PATH") : "");
  std::error_code ignored;
  for (std::string folder; std::getline(folders, folder, ':');)
    if (fs::equivalent(fs::path(folder) / "zunth", self, ignored)) return "zunth";
  const fs::path relative = fs::relative(self, ignored);
  return relative.string().starts_with("..") || relative.empty() ? self.string() : relative.string();
}

/// The code that the service printed for the console's first start.
std::string codeIn(const std::string& said) {
  constexpr std::string_view kBefore = "the code is ";
  const auto at = said.find(kBefore);
  return at == std::string::npos ? std::string() : said.substr(at + kBefore.size(), 10);
}

/// One of the programs that make the demo.
struct Part {
  std::string what, needs;
  std::vector<std::string> command;
  bool saysReady = true;
};

/// The devices, the broker before those who need it, and the service at last.
std::vector<Part> partsOf(const fs::path& bin, const fs::path& folder) {
  const std::string sim = (bin / "zunth-sim").string();
  const fs::path broker = folder / "broker.conf";
  std::ofstream(broker) << "listener 18830 127.0.0.1\nallow_anonymous true\npersistence false\nlog_dest none\n";
  return {
      {"the broker", "port 18830", {"/usr/sbin/mosquitto", "-c", broker.string()}, false},
      {"drum filter 1", "port 5502", {sim, "drum-filter", "--port", "5502", "--serial", "FH-DF-0001"}},
      {"drum filter 2", "port 5503", {sim, "drum-filter", "--port", "5503", "--serial", "FH-DF-0002"}},
      {"the feeder", "the folder", {sim, "feeder", "--line", (folder / "feeder-line").string(), "--unit", "3"}},
      {"the intake station", "port 20000", {sim, "outstation", "--port", "20000"}},
      {"the scale", "port 4001", {sim, "scale", "--port", "4001"}},
      {"the pH meter", "port 4002", {sim, "ph-meter", "--port", "4002"}},
      {"the probes",
       "the broker",
       {sim, "probes", "--broker", "127.0.0.1:18830", "--tanks", "A1,A2,A3,A4,B1,B2,B3,B4"}},
      {"zunthd", "port 4840", {(bin / "zunthd").string(), folder.string(), "--log", "warn"}},
  };
}

int runDemo() {
  const fs::path bin = programs();
  const fs::path shipped = bin.parent_path() / "share/zunth/demo/hatchery";
  if (!fs::exists(shipped / "site.yaml"))
    return wrongUse(fmt::format("the demo's files are not at {}", shipped.string()),
                    "build the target 'demo', or install Zunth whole");
  std::string folder = (fs::temp_directory_path() / "zunth-demo-XXXXXX").string();
  if (!::mkdtemp(folder.data()))
    return wrongUse("no folder for the demo can be made",
                    "look whether there is room in " + fs::temp_directory_path().string());
  fs::copy(shipped, folder, fs::copy_options::recursive);
  if (auto night = makeUpNight(folder); !night) return fail(night.error());
  // A closed terminal ends the demo as Ctrl-C does: nothing stays behind.
  for (int signal : {SIGINT, SIGTERM, SIGHUP}) std::signal(signal, [](int) { asked = 1; });

  std::vector<Child> children;
  int code = kDone;
  const auto parts = partsOf(bin, folder);
  for (const auto& part : parts) {
    auto child = Child::start(part.command, part.saysReady);
    if (!child) {
      code = wrongUse(fmt::format("{} did not start", part.what), "stop what uses " + part.needs);
      break;
    }
    children.push_back(*child);
  }
  if (code == kDone) {
    fmt::print(
        "\nThe Fernhollow hatchery runs at opc.tcp://127.0.0.1:4840, with simulated devices behind it: two drum "
        "filters\n"
        "(Modbus TCP), a feeder (Modbus on a serial line), the station by the brook (DNP3), a scale and a pH meter "
        "(lines\n"
        "of text), probes and blowers over eight tanks (MQTT), and a day that was recorded on the roof.\n"
        "The last night is in its history, made up like all of it.\n"
        "\n"
        "See it in a browser:  http://127.0.0.1:8046\n"
        "To make the first administrator there, the code is {2}\n\n"
        "Or open another terminal and try:\n\n"
        "  {0} tree Hatchery --values\n"
        "  {0} device --site {1}\n"
        "  {0} watch 'Hatchery/*/*/oxygen' 'Hatchery/Intake/*/pressure'\n"
        "  {0} history 'Hatchery/Hall1/Tank A2/oxygen' --from -12h --chart\n"
        "  {0} call Hatchery/Intake/DF1/wash seconds=4\n"
        "  {0} write 'Hatchery/Hall1/Tank A1/air=true'\n"
        "  {0} explain Hatchery/Feed/weight --site {1}\n\n"
        "Its files, to look at: {1}\n"
        "Ctrl-C ends it and leaves nothing behind.\n",
        howToCall(), folder, codeIn(children.back().said()));
    std::fflush(stdout);
    while (!asked) {
      ::usleep(200'000);
      for (std::size_t i = 0; i < children.size(); ++i) {
        if (!children[i].hasEnded()) continue;
        if (i + 1 < children.size()) {
          // A dead device is what the service is made for; it goes on.
          std::fprintf(stderr, "%s ended; bring it back with: %s\n", parts[i].what.c_str(),
                       fmt::format("{}", fmt::join(parts[i].command, " ")).c_str());
        } else {
          std::fprintf(stderr, "zunth: the service ended by itself\n");
          code = kServerError;
          asked = 1;
        }
      }
    }
  }
  for (auto at = children.rbegin(); at != children.rend(); ++at) at->stop();
  std::error_code ignored;
  fs::remove_all(folder, ignored);
  return code;
}

}  // namespace

void addDemo(Program program) {
  const auto verb =
      program.top.verb("demo", "Run the Fernhollow trout hatchery: a service with two simulated devices.");
  verb.example("zunth demo");
  verb.runs([program] { program.exitCode = runDemo(); });
}

}  // namespace zunth::cli
