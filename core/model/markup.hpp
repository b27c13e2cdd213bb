#pragma once

#include <string>
#include <string_view>

namespace zunth::model {

/// Text as it stands in SVG and HTML, in elements and in quoted attributes.
inline std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '<': out += "&lt;"; break;
      case '>': out += "&gt;"; break;
      case '&': out += "&amp;"; break;
      case '"': out += "&quot;"; break;
      default: out += c;
    }
  }
  return out;
}

}  // namespace zunth::model
