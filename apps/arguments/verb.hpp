#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace zunth::cli {

/// A verb on the command line, or the program itself, and what it takes. The library that reads the arguments is
/// behind it, in verb.cpp alone: it is large.
class Verb {
 public:
  explicit Verb(CLI::App& app) : app_(&app) {}

  /// Something that a verb takes; what is said of it returns itself, to say more.
  class Option {
   public:
    explicit Option(CLI::Option* option) : option_(option) {}
    Option& required();
    Option& range(double least, double most);
    /// The word that stands for the value in the help.
    Option& called(const std::string& word);
    Option& showsDefault();
    /// One text becomes several at this character.
    Option& splitAt(char delimiter);

   private:
    CLI::Option* option_;
  };

  /// A verb below this one.
  Verb verb(const std::string& name, const std::string& about) const;
  void example(const std::string& text) const;
  /// Under which heading the help lists it.
  void inGroup(const std::string& heading) const;
  /// "--name,--other" for an option, "NAME" for what stands alone. `value` must live as long as the program reads its
  /// arguments.
  Option option(const std::string& names, std::string& value, const std::string& about) const;
  Option option(const std::string& names, std::vector<std::string>& value, const std::string& about) const;
  Option option(const std::string& names, double& value, const std::string& about) const;
  Option option(const std::string& names, int& value, const std::string& about) const;
  Option option(const std::string& names, std::uint32_t& value, const std::string& about) const;
  Option option(const std::string& names, std::size_t& value, const std::string& about) const;
  Option flag(const std::string& names, bool& value, const std::string& about) const;
  /// One of several words, whatever their case.
  template <class Value>
  Option oneOf(const std::string& names, Value& value, const std::vector<std::pair<std::string, Value>>& words,
               const std::string& about) const {
    std::vector<std::pair<std::string, int>> numbered;
    for (const auto& [word, meant] : words) numbered.emplace_back(word, static_cast<int>(meant));
    return oneOfThese(
        names, numbered, [&value](int number) { value = static_cast<Value>(number); }, about);
  }
  /// What it does, once all arguments are read.
  void runs(std::function<void()> work) const;

  /// Whether it stood on the command line.
  bool isGiven() const;
  std::string name() const;
  std::string about() const;
  std::vector<Verb> verbs() const;
  /// Names of its options, with their dashes.
  std::vector<std::string> optionNames() const;

 private:
  Option oneOfThese(const std::string& names, const std::vector<std::pair<std::string, int>>& words,
                    std::function<void(int)> take, const std::string& about) const;
  CLI::App* app_;
};

/// What came of reading the arguments.
struct Reading {
  bool isDone = false;  // the verb has run, or help was shown
  std::string mistake;  // what is wrong with them
};

/// The program, by its verbs.
class CommandLine {
 public:
  CommandLine(const std::string& about, const std::string& name, const std::string& footer);
  ~CommandLine();
  Verb top() const;
  Reading read(int argc, char** argv) const;
  void showHelp() const;

 private:
  std::unique_ptr<CLI::App> app_;
};

}  // namespace zunth::cli
