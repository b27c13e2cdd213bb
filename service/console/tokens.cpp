#include "service/console/tokens.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/json_type.hpp"
#include "service/admin/state_list.hpp"
#include "service/server/random.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <openssl/sha.h>

namespace zunth::console {

using namespace ua;

namespace {

std::string hashOf(const std::string& word) {
  unsigned char digest[SHA256_DIGEST_LENGTH];
  SHA256(reinterpret_cast<const unsigned char*>(word.data()), word.size(), digest);
  std::string out;
  for (const auto octet : digest) out += fmt::format("{:02x}", octet);
  return out;
}

admin::StateList listIn(const std::filesystem::path& file) {
  return {file, "tokens", "move it away, and make tokens anew"};
}

/// The file's entries; a damaged one opens nothing, and is not written over.
Result<Json> entriesOf(const std::filesystem::path& file) {
  auto entries = listIn(file).load();
  if (!entries) return entries;
  const auto isWhole = [](const Json& entry) {
    return entry.is_object() && entry.contains("hash") && entry.contains("user") && entry["user"].is_string() &&
           entry.contains("nodes") && entry["nodes"].is_array();
  };
  if (!std::ranges::all_of(*entries, isWhole)) return listIn(file).damaged("an entry is not whole");
  return entries;
}

Token tokenOf(const Json& entry) {
  Token token;
  token.name = entry.value("name", "");
  token.user = entry.value("user", "");
  for (const auto& node : entry["nodes"])
    if (node.is_string()) token.nodes.push_back(node.get<std::string>());
  if (const auto made = DateTime::parse(entry.value("made", ""))) token.made = *made;
  return token;
}

}  // namespace

Result<std::string> Tokens::make(const Token& token) {
  constexpr std::size_t kMost = 200, kMostNodes = 1'000;
  auto entries = entriesOf(file_);
  if (!entries) return entries.error();
  if (token.name.empty() || token.name.size() > 80 || token.nodes.empty() || token.nodes.size() > kMostNodes)
    return Error{status::BadInvalidArgument, "a token has a name, and 1 to 1,000 nodes", {}};
  for (const auto& entry : *entries)
    if (entry.value("name", "") == token.name)
      return Error{status::BadEntryExists, fmt::format("there is a token '{}' already", shown(token.name)),
                   "take another name, or remove that one"};
  if (entries->size() >= kMost) return Error{status::BadTooManyOperations, "there are 200 tokens", "remove some"};
  std::string word = toBase64(server::randomOctets(24).bytes());
  std::ranges::replace(word, '+', '-');
  std::ranges::replace(word, '/', '_');
  entries->push_back({{"name", token.name},
                      {"hash", hashOf(word)},
                      {"user", token.user},
                      {"nodes", token.nodes},
                      {"made", token.made.text()}});
  if (auto written = listIn(file_).save(std::move(*entries)); !written) return written.error();
  return word;
}

Result<void> Tokens::remove(const std::string& name) {
  auto entries = entriesOf(file_);
  if (!entries) return entries.error();
  for (auto entry = entries->begin(); entry != entries->end(); ++entry) {
    if (entry->value("name", "") != name) continue;
    entries->erase(entry);
    return listIn(file_).save(std::move(*entries));
  }
  return Error{status::BadNotFound, fmt::format("there is no token '{}'", shown(name)), {}};
}

Result<std::vector<Token>> Tokens::all() const {
  const auto entries = entriesOf(file_);
  if (!entries) return entries.error();
  std::vector<Token> out;
  for (const auto& entry : *entries) out.push_back(tokenOf(entry));
  return out;
}

Result<Token> Tokens::find(const std::string& word) const {
  const auto entries = entriesOf(file_);
  if (!entries) return entries.error();
  const std::string hash = hashOf(word);
  for (const auto& entry : *entries)
    if (entry.value("hash", "") == hash) return tokenOf(entry);
  return Error{status::BadUserAccessDenied, "the token is none, or no longer", "make another at the console"};
}

}  // namespace zunth::console
