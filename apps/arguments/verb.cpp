#include "apps/arguments/verb.hpp"

#include "core/ua/generated/version.hpp"
#include "core/ua/letters.hpp"

#include <algorithm>
#include <charconv>

#include <CLI/CLI.hpp>
#include <fmt/format.h>

namespace zunth::cli {

Verb::Option& Verb::Option::required() { return option_->required(), *this; }
Verb::Option& Verb::Option::range(double least, double most) {
  const auto judge = [least, most](const std::string& text) {
    double number = 0;
    const auto [end, failed] = std::from_chars(text.data(), text.data() + text.size(), number);
    const bool isNumber = failed == std::errc() && end == text.data() + text.size();
    return isNumber && number >= least && number <= most
               ? std::string()
               : fmt::format("'{}' is no number from {} to {}", text, least, most);
  };
  option_->check(judge, fmt::format("{} to {}", least, most));
  return *this;
}
Verb::Option& Verb::Option::called(const std::string& word) { return option_->type_name(word), *this; }
Verb::Option& Verb::Option::showsDefault() { return option_->capture_default_str(), *this; }
Verb::Option& Verb::Option::splitAt(char delimiter) { return option_->delimiter(delimiter), *this; }

Verb Verb::verb(const std::string& name, const std::string& about) const {
  return Verb(*app_->add_subcommand(name, about));
}
void Verb::example(const std::string& text) const { app_->footer("Example: " + text); }
void Verb::runs(std::function<void()> work) const { app_->callback(std::move(work)); }

Verb::Option Verb::option(const std::string& names, std::string& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::option(const std::string& names, std::vector<std::string>& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::option(const std::string& names, double& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::option(const std::string& names, int& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::option(const std::string& names, std::uint32_t& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::option(const std::string& names, std::size_t& value, const std::string& about) const {
  return Option(app_->add_option(names, value, about));
}
Verb::Option Verb::flag(const std::string& names, bool& value, const std::string& about) const {
  return Option(app_->add_flag(names, value, about));
}

Verb::Option Verb::oneOfThese(const std::string& names, const std::vector<std::pair<std::string, int>>& words,
                              std::function<void(int)> take, const std::string& about) const {
  const auto judge = [words](const std::string& text) {
    std::string all;
    for (const auto& [word, number] : words) all += (all.empty() ? "" : ", ") + word;
    const bool isKnown =
        std::ranges::any_of(words, [&](const auto& word) { return ua::isSameButCase(word.first, text); });
    return isKnown ? std::string() : fmt::format("'{}' is none of {}", text, all);
  };
  auto* option = app_->add_option_function<std::string>(
      names,
      [words, take = std::move(take)](const std::string& text) {
        for (const auto& [word, number] : words)
          if (ua::isSameButCase(word, text)) take(number);
      },
      about);
  option->check(judge);
  return Option(option);
}

bool Verb::isGiven() const { return app_->parsed(); }
std::string Verb::name() const { return app_->get_name(); }

std::string Verb::about() const { return app_->get_description(); }

void Verb::inGroup(const std::string& heading) const { app_->group(heading); }

std::vector<Verb> Verb::verbs() const {
  std::vector<Verb> out;
  for (auto* verb : app_->get_subcommands({})) out.emplace_back(*verb);
  return out;
}

std::vector<std::string> Verb::optionNames() const {
  std::vector<std::string> out;
  for (const auto* option : app_->get_options())
    for (const auto& name : option->get_lnames()) out.push_back("--" + name);
  return out;
}

CommandLine::CommandLine(const std::string& about, const std::string& name, const std::string& footer)
    : app_(std::make_unique<CLI::App>(about, name)) {
  app_->footer(footer);
  app_->set_version_flag("--version", fmt::format("{} {}", name, kVersion));
}
CommandLine::~CommandLine() = default;

Verb CommandLine::top() const { return Verb(*app_); }

void CommandLine::showHelp() const { std::fputs(app_->help().c_str(), stdout); }

Reading CommandLine::read(int argc, char** argv) const {
  if (!top().verbs().empty()) {
    app_->require_subcommand(1);
    app_->set_help_all_flag("--help-all", "Help of every verb");
  }
  try {
    app_->parse(argc, argv);
  } catch (const CLI::ParseError& problem) {
    if (problem.get_exit_code() != 0) return {false, problem.what()};
    app_->exit(problem);  // shows the help
  }
  return {true, {}};
}

}  // namespace zunth::cli
