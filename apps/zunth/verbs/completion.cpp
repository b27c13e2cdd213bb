#include "apps/zunth/command.hpp"

#include <fmt/format.h>

namespace zunth::cli {

namespace {

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

/// A bash function made from the verbs and options that there are, so that it can't fall behind them.
std::string script(const Verb& top) {
  std::string cases;
  for (const auto& verb : top.verbs())
    cases += fmt::format("    {}) words=\"{}{}\" ;;\n", verb.name(), verbsOf(verb), optionsOf(verb));
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
                     verbsOf(top), optionsOf(top), cases);
}

}  // namespace

void addCompletion(Program program) {
  const auto verb = program.top.verb("completion", "Print what makes bash complete verbs and options.");
  verb.example("source <(zunth completion)");
  verb.runs([program] { std::fputs(script(program.top).c_str(), stdout); });
}

}  // namespace zunth::cli
