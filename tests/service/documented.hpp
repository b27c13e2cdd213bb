#pragma once

#include <fstream>
#include <sstream>
#include <string>
#include <vector>

/// Pages of documentation, and whether what they show is so.
namespace zunth::test {

/// A fenced block: what stands behind the fence, and its lines.
struct Block {
  std::string info, text;
  int line = 0;
};

inline std::vector<Block> blocksOf(const std::string& file) {
  std::ifstream stream(file);
  std::vector<Block> blocks;
  bool isInside = false;
  int number = 0;
  for (std::string line; std::getline(stream, line);) {
    ++number;
    if (line.starts_with("```")) {
      isInside = !isInside;
      if (isInside) blocks.push_back({line.substr(3), "", number});
    } else if (isInside) {
      blocks.back().text += line + "\n";
    }
  }
  return blocks;
}

inline std::vector<std::string> linesOf(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream stream(text);
  for (std::string line; std::getline(stream, line);) {
    while (line.ends_with(' ')) line.pop_back();
    lines.push_back(line);
  }
  return lines;
}

/// Whether an output is what the page shows, where "…" stands for any end of a line, and alone for any more lines.
inline bool isShown(const std::string& output, const std::string& page) {
  const auto got = linesOf(output), wanted = linesOf(page);
  const std::string any = "…";
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    if (wanted[i] == any) return true;
    if (i >= got.size()) return false;
    const bool isOpen = wanted[i].ends_with(any);
    const std::string head = isOpen ? wanted[i].substr(0, wanted[i].size() - any.size()) : wanted[i];
    if (isOpen ? !got[i].starts_with(head) : got[i] != head) return false;
  }
  return got.size() == wanted.size();
}

}  // namespace zunth::test
