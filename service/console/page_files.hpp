#pragma once

#include <string>
#include <string_view>

namespace zunth::console {

/// A file of the console's page, as it travels inside the program.
struct PageFile {
  std::string_view path;    // "/assets/index-4f2a.js"
  std::string type;         // of its content
  std::string_view octets;  // compressed with gzip
  std::string_view tag;     // of this version
  bool isImmutable;         // its path has the version in it
};

/// nullptr when there is none.
const PageFile* pageFile(std::string_view path);

}  // namespace zunth::console
