#include "apps/zunth/command.hpp"

#include <fmt/format.h>

namespace zunth::cli {

namespace {

std::string optionsOf(const CLI::App& app) {
  std::string out;
  for (const auto* option : app.get_options())
    for (const auto& name : option->get_lnames()) out += "--" + name + " ";
  return out;
}

std::string verbsOf(const CLI::App& app) {
  std::string out;
  for (const auto* verb : app.get_subcommands({})) out += verb->get_name() + " ";
  return out;
}

/// A bash function made from the verbs and options that there are, so that it can't fall behind them.
std::string script(const CLI::App& app) {
  std::string cases;
  for (const auto* verb : app.get_subcommands({}))
    cases += fmt::format("    {}) words=\"{}{}\" ;;\n", verb->get_name(), verbsOf(*verb), optionsOf(*verb));
  return fmt::format(R"(_zunth() {{
  local word=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD-1]}} words
  if [ "$before" = --output ]; then
    words="table json csv"
  elif [ "$COMP_CWORD" -eq 1 ]; then
    words="{}{}"
  else
    case ${{COMP_WORDS[1]}} in
{}    esac
  fi
  COMPREPLY=($(compgen -W "$words" -- "$word"))
}}
complete -o default -F _zunth zunth
)",
                     verbsOf(app), optionsOf(app), cases);
}

}  // namespace

void addCompletion(Program program) {
  auto* verb = program.app.add_subcommand("completion", "Print what makes bash complete verbs and options.");
  verb->footer("Example: source <(zunth completion)");
  verb->callback([program] { std::fputs(script(program.app).c_str(), stdout); });
}

}  // namespace zunth::cli
