#include "service/server/diagnostic_texts.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

std::int32_t StringTable::number(const std::string& text) {
  const auto found = std::ranges::find(strings_, std::string_view(text), [](const String& s) { return s.view(); });
  if (found != strings_.end()) return static_cast<std::int32_t>(found - strings_.begin());
  strings_.push_back(String(text));
  return static_cast<std::int32_t>(strings_.size() - 1);
}

DiagnosticInfo describe(const Error& error, std::uint32_t wanted, StringTable& strings) {
  constexpr std::uint32_t symbolicId = 1, localizedText = 2, additionalInfo = 4, innerStatusCode = 8;
  DiagnosticInfo out;
  if (wanted & symbolicId) {
    out.symbolicId = strings.number(std::string(error.code.name()));
    out.namespaceUri = strings.number("http://opcfoundation.org/UA/");
  }
  // What to do about it goes along: the client's user may be the one who can.
  const std::string words = error.cause + (error.next.empty() ? "" : ": " + error.next);
  if ((wanted & localizedText) && !words.empty()) {
    out.localizedText = strings.number(words);
    out.locale = strings.number("en");
  }
  if ((wanted & additionalInfo) && !words.empty()) out.additionalInfo = String(words);
  if (wanted & innerStatusCode) out.innerStatusCode = error.code;
  return out;
}

void OperationDiagnostics::note(std::size_t operation, const Error& error) {
  if (!wanted_ || error.code.isGood()) return;
  if (infos_.size() <= operation) infos_.resize(operation + 1);
  infos_[operation] = describe(error, wanted_, strings_);
}

void OperationDiagnostics::give(ResponseHeader& header, List<DiagnosticInfo>& infos, std::size_t operations) {
  if (infos_.empty()) return;
  infos_.resize(operations);
  infos = std::move(infos_);
  header.stringTable = strings_.take();
}

}  // namespace zunth::server
