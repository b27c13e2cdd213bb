#pragma once

#include "core/ua/basic_types.hpp"
#include "core/ua/result.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace zunth::console {

/// A word that lets a spreadsheet or a script read some nodes, in the name of a user, and nothing else. Kept in
/// state/console-tokens.json, with a hash in its place.
struct Token {
  std::string name;                // what it is for
  std::string user;                // who made it: it may read what they may
  std::vector<std::string> nodes;  // paths, with * and **, or NodeIds
  ua::DateTime made;
};

/// The tokens of a site. Each call reads or writes the file: not on the services' executor.
class Tokens {
 public:
  explicit Tokens(std::filesystem::path file) : file_(std::move(file)) {}

  /// The word, which is told this once; BadEntryExists, BadTooManyOperations.
  ua::Result<std::string> make(const Token& token);
  /// BadNotFound.
  ua::Result<void> remove(const std::string& name);
  ua::Result<std::vector<Token>> all() const;
  /// The token of a word; BadUserAccessDenied when there is none.
  ua::Result<Token> find(const std::string& word) const;

 private:
  std::filesystem::path file_;
};

/// Where a site keeps them.
inline std::filesystem::path tokenFile(const std::filesystem::path& site) { return site / "state/console-tokens.json"; }

}  // namespace zunth::console
