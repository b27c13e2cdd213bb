#pragma once

#include <cstddef>
#include <string>

namespace zunth::cli {

/// Leaves so many lines of a text; how many were taken away.
std::size_t cutToLines(std::string& text, std::size_t lines);

/// A text on a terminal that is drawn again and again in its place, whatever happens to the terminal's size.
class Redrawn {
 public:
  /// How many lines there is room for now, the last one left free; many where nobody knows.
  std::size_t room() const;
  /// Draws over what was drawn last. A text of more lines than there is room for scrolls away, and can't be drawn over.
  void draw(const std::string& text);

 private:
  struct Size {
    std::size_t columns = 0, lines = 0;
    bool operator==(const Size&) const = default;
  };
  static Size size();
  std::size_t lines_ = 0;  // drawn last
  Size drawnAt_;
};

}  // namespace zunth::cli
