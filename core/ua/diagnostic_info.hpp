#pragma once

#include "core/ua/basic_types.hpp"

#include <memory>
#include <optional>

namespace zunth::ua {

/// DiagnosticInfo (Part 4, 7.12). Numbers are indexes into the response's string table.
struct DiagnosticInfo {
  std::optional<std::int32_t> symbolicId;
  std::optional<std::int32_t> namespaceUri;
  std::optional<std::int32_t> locale;
  std::optional<std::int32_t> localizedText;
  std::optional<String> additionalInfo;
  std::optional<StatusCode> innerStatusCode;
  std::shared_ptr<const DiagnosticInfo> inner;

  bool operator==(const DiagnosticInfo& other) const {
    return symbolicId == other.symbolicId && namespaceUri == other.namespaceUri && locale == other.locale &&
           localizedText == other.localizedText && additionalInfo == other.additionalInfo &&
           innerStatusCode == other.innerStatusCode &&
           (inner == other.inner || (inner && other.inner && *inner == *other.inner));
  }
};

}  // namespace zunth::ua
