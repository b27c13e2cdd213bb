#include "apps/zunth/nodes.hpp"

#include <set>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

constexpr const char* kNotAsked = "\n";
constexpr double kPatience = 0.3;  // s that whoever types waits for a server

std::string optionsOf(const Verb& verb) {
  std::string out;
  for (const auto& name : verb.optionNames()) out += name + " ";
  return out;
}

std::string verbsOf(const Verb& top) {
  std::string out;
  for (const auto& verb : top.verbs()) out += verb.name() + " ";
  return out;
}

/// A text in single quotes of fish.
std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : text) out += c == '\'' || c == '\\' ? std::string("\\") + c : std::string(1, c);
  return out + "'";
}

/// A function of bash made from the verbs and options that there are, so that it can't fall behind them. Nodes and
/// saved places are asked for.
std::string bashScript(const Verb& top) {
  std::string cases;
  for (const auto& verb : top.verbs())
    cases += fmt::format("    {}) words=\"{}{}\" ;;\n", verb.name(), verbsOf(verb), optionsOf(verb));
  return fmt::format(R"bash(_zunth() {{
  local word=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD-1]}} words at= i
  for ((i = 1; i < COMP_CWORD; i++)); do
    case ${{COMP_WORDS[i]}} in --at|--server) at=${{COMP_WORDS[i+1]}} ;; esac
  done
  case $before in
    --output) COMPREPLY=($(compgen -W "table json csv" -- "$word")); return ;;
    --security) COMPREPLY=($(compgen -W "auto none sign encrypt" -- "$word")); return ;;
    --at|--server) COMPREPLY=($(compgen -W "$(zunth completion --places 2>/dev/null)" -- "$word")); return ;;
    --site) COMPREPLY=($(compgen -d -- "$word")); return ;;
  esac
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W "{}{}" -- "$word")); return
  fi
  case ${{COMP_WORDS[1]}} in
{}  esac
  case ${{COMP_WORDS[1]}}/$word in
    */-*) ;;
    tree/*|watch/*|read/*|write/*|show/*|call/*|events/*|remove/*|link/*|snapshot/*|explain/*)
      local IFS=$'\n'
      COMPREPLY=($(zunth completion --nodes "${{word//\\/}}" ${{at:+--at="$at"}} 2>/dev/null |
        while read -r path; do printf '%q\n' "$path"; done))
      compopt -o nospace 2>/dev/null
      return ;;
  esac
  COMPREPLY=($(compgen -W "$words" -- "$word"))
}}
complete -o default -F _zunth zunth
)bash",
                     verbsOf(top), optionsOf(top), cases);
}

/// Zsh takes bash's function.
std::string zshScript(const Verb& top) {
  return "autoload -Uz compinit bashcompinit\ncompinit -u\nbashcompinit\n" + bashScript(top);
}

std::string fishScript(const Verb& top) {
  std::string out = "complete -c zunth -f\n";
  for (const auto& verb : top.verbs()) {
    out += fmt::format("complete -c zunth -n __fish_use_subcommand -a {} -d {}\n", verb.name(), quoted(verb.about()));
    const std::string seen = fmt::format("complete -c zunth -n '__fish_seen_subcommand_from {}'", verb.name());
    for (const auto& name : verb.optionNames()) out += fmt::format("{} -l {}\n", seen, name.substr(2));
    for (const auto& below : verb.verbs()) out += fmt::format("{} -a {}\n", seen, below.name());
  }
  for (const char* verb : {"tree", "watch", "read", "write", "show", "call", "explain"})
    out += fmt::format(
        "complete -c zunth -n '__fish_seen_subcommand_from {}' -a "
        "'(zunth completion --nodes (commandline -ct) 2>/dev/null)'\n",
        verb);
  return out + "complete -c zunth -l at -x -a '(zunth completion --places 2>/dev/null)'\n";
}

/// Paths that begin as somebody has typed; folders end with a slash, to be typed on.
Awaitable<int> printNodes(SessionPtr session, std::string begun) {
  auto found = co_await findNodes(session, begun + "*");
  if (!found) co_return kNo;
  std::set<std::string> paths;
  for (const auto& node : *found) paths.insert(node.path + (node.nodeClass == NodeClass::Object ? "/" : ""));
  for (const auto& path : paths) std::printf("%s\n", path.c_str());
  co_return kDone;
}

int printPlaces() {
  for (const auto& [name, url] : Places::load().urls) std::printf("%s\n", name.c_str());
  return kDone;
}

}  // namespace

void addCompletion(Program program) {
  struct Wish {
    std::string shell = "bash", nodes = kNotAsked;
    bool places = false;
  };
  auto wish = std::make_shared<Wish>();
  const auto verb =
      addVerb(program, "completion", "Print what makes a shell complete verbs, options, nodes and places.",
              "source <(zunth completion)\nzunth completion zsh > ~/.zunth.zsh\nzunth completion fish | "
              "source");
  verb.option("SHELL", wish->shell, "bash, zsh or fish");
  verb.option("--nodes", wish->nodes, "Print the paths that begin so, as the server has them").called("BEGIN");
  verb.flag("--places", wish->places, "Print the names of saved places");
  verb.runs([program, wish] {
    if (wish->places) {
      program.exitCode = printPlaces();
    } else if (wish->nodes != kNotAsked) {
      program.options.timeout = std::min(program.options.timeout, kPatience);
      program.exitCode = withSession(
          program.options, false, [wish](SessionPtr session, Interrupt&) { return printNodes(session, wish->nodes); });
    } else if (wish->shell == "bash" || wish->shell == "zsh" || wish->shell == "fish") {
      const auto script = wish->shell == "bash" ? bashScript : wish->shell == "zsh" ? zshScript : fishScript;
      std::fputs(script(program.top).c_str(), stdout);
    } else {
      program.exitCode = wrongUse("there is no script for the shell '" + wish->shell + "'", "zunth completion bash");
    }
  });
}

}  // namespace zunth::cli
