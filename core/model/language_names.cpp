#include "core/model/language_names.hpp"

#include "core/ua/letters.hpp"

#include <algorithm>

namespace zunth::model {

using namespace ua;
using space::isType;
using space::NodeIndex;
using space::Space;

LanguageNames::LanguageNames(const Space& space, std::uint16_t ns) : space_(space), ns_(ns) {
  for (NodeIndex node = 0; node < space_.rows(); ++node)
    if (space_.exists(node))
      if (isType(space_.nodeClass(node))) namespacesOf_[plain(node)].insert(space_.nodeId(node).namespaceIndex());
}

std::string LanguageNames::prefixOf(std::uint16_t ns) {
  const auto found = prefixes_.find(ns);
  if (found != prefixes_.end()) return found->second;
  // The last part of the URI that is a word: ".../devices/" gives "devices".
  std::string uri(space_.namespaces()[ns].view()), word;
  std::ranges::replace_if(
      uri, [](unsigned char c) { return !std::isalnum(c); }, ' ');
  while (!uri.empty() && uri.back() == ' ') uri.pop_back();
  word = lower(uri.substr(uri.rfind(' ') + 1));
  if (word.empty() || std::isdigit(static_cast<unsigned char>(word[0]))) word = "m" + word;
  for (const auto& [other, used] : prefixes_)
    if (used == word) word += std::to_string(ns);
  return prefixes_[ns] = word;
}

std::string LanguageNames::ofType(NodeIndex type) {
  const std::string own = plain(type);
  const auto ns = space_.nodeId(type).namespaceIndex();
  const auto& all = namespacesOf_[own];
  bool isAmbiguous = ns != ns_ && all.contains(ns_);
  for (const auto other : all)
    if (ns != ns_ && other != ns && (other >= 2 || ns == 0)) isAmbiguous |= other != 0;
  return isAmbiguous ? prefixOf(ns) + ":" + own : own;
}

}  // namespace zunth::model
