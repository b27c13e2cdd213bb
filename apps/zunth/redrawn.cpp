#include "apps/zunth/redrawn.hpp"

#include <algorithm>
#include <cstdio>
#include <string_view>

#include <sys/ioctl.h>
#include <unistd.h>

namespace zunth::cli {

std::size_t cutToLines(std::string& text, std::size_t lines) {
  std::size_t end = 0;
  for (; lines > 0 && end < text.size(); --lines) end = std::min(text.find('\n', end), text.size() - 1) + 1;
  const auto left = static_cast<std::size_t>(std::ranges::count(std::string_view(text).substr(end), '\n'));
  text.resize(end);
  return left;
}

Redrawn::Size Redrawn::size() {
  winsize size{};
  if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0) return {};
  return {size.ws_col, size.ws_row};
}

std::size_t Redrawn::room() const {
  constexpr std::size_t kMany = 10'000;
  const std::size_t lines = size().lines;
  return lines == 0 ? kMany : std::max<std::size_t>(lines, 2) - 1;
}

void Redrawn::draw(const std::string& text) {
  const Size now = size();
  // Lines that were wrapped anew can't be counted: the screen begins from its top.
  if (lines_ && now != drawnAt_)
    std::fputs("\x1b[H\x1b[2J", stdout);
  else if (lines_)
    std::printf("\x1b[%zuA\x1b[J", lines_);
  drawnAt_ = now;
  lines_ = static_cast<std::size_t>(std::ranges::count(text, '\n'));
  std::fputs(text.c_str(), stdout);
  std::fflush(stdout);
}

}  // namespace zunth::cli
