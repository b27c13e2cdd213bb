#include "core/model/cards.hpp"

#include "core/model/markup.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::model {

namespace {

constexpr double kTitleHeight = 22, kRowHeight = 17, kPadding = 8, kGapX = 46, kGapY = 12, kMargin = 24;
constexpr double kTitleLetter = 7.4, kRowLetter = 6.3;  // widths in the fonts below, on the safe side
constexpr std::size_t kMostRows = 14;

/// Letters as they are seen: octets that continue one are none.
double letters(std::string_view text) {
  return static_cast<double>(std::ranges::count_if(text, [](unsigned char c) { return (c & 0xC0) != 0x80; }));
}

/// Puts the cards of one tree in columns by depth; a parent stands in the middle of its children.
class TreeLayout {
 public:
  explicit TreeLayout(Card& root) : root_(root) {
    measure(root, 0);
    height = arrange(root, 0, 0);
    for (const double column : columns_) width += column + kGapX;
    width -= kGapX;
  }
  void moveTo(double x, double y) { move(root_, x, y); }
  double width = 0, height = 0;

 private:
  void measure(Card& card, std::size_t depth) {
    card.width = std::max(letters(card.title) * kTitleLetter, letters(card.kind) * kRowLetter) + kPadding * 3;
    for (const CardRow& row : card.rows)
      card.width = std::max(card.width, (letters(row.name) + letters(row.facts) + 3) * kRowLetter + kPadding * 3);
    card.width = std::max(card.width, letters(card.note) * kRowLetter + kPadding * 3);
    card.height = kTitleHeight + (card.kind.empty() ? 0 : kRowHeight) +
                  static_cast<double>(card.rows.size()) * kRowHeight + (card.note.empty() ? 0 : kRowHeight) + kPadding;
    if (columns_.size() <= depth) columns_.resize(depth + 1);
    columns_[depth] = std::max(columns_[depth], card.width);
    for (Card& child : card.children) measure(child, depth + 1);
  }
  /// Returns where the next may begin.
  double arrange(Card& card, std::size_t depth, double top) {
    card.x = 0;
    for (std::size_t i = 0; i < depth; ++i) card.x += columns_[i] + kGapX;
    double bottom = top;
    for (Card& child : card.children) bottom = arrange(child, depth + 1, bottom) + kGapY;
    if (!card.children.empty()) bottom -= kGapY;
    const double below = card.children.empty() ? card.height : bottom - top;
    card.y = top + std::max(0.0, (below - card.height) / 2);
    // A card that is taller than all that is below it.
    if (card.height > below)
      for (Card& child : card.children) move(child, 0, (card.height - below) / 2);
    return top + std::max(card.height, below);
  }
  static void move(Card& card, double x, double y) {
    card.x += x;
    card.y += y;
    for (Card& child : card.children) move(child, x, y);
  }

  Card& root_;
  std::vector<double> columns_;
};

/// Puts trees one below the other, and beside one another where that would be too tall.
struct Layout {
  explicit Layout(std::vector<Card>& roots) {
    std::vector<TreeLayout> trees;
    double area = 0, tallest = 0;
    for (Card& root : roots) {
      const auto& tree = trees.emplace_back(root);
      area += (tree.width + kGapX) * (tree.height + kGapY * 1.5);
      tallest = std::max(tallest, tree.height);
    }
    const double most = std::max(tallest, std::sqrt(area / 1.5));
    double x = kMargin, y = kMargin, columnWidth = 0;
    for (TreeLayout& tree : trees) {
      if (y > kMargin && y - kMargin + tree.height > most) {
        x += columnWidth + kGapX / 2;
        y = kMargin;
        columnWidth = 0;
      }
      tree.moveTo(x, y);
      y += tree.height + kGapY * 1.5;
      columnWidth = std::max(columnWidth, tree.width);
      width = std::max(width, x + columnWidth + kMargin);
      height = std::max(height, y - kGapY * 1.5 + kMargin);
    }
  }
  double width = kMargin * 2, height = kMargin * 2;
};

/// Writes the placed cards.
class Painter {
 public:
  std::string paint(const std::vector<Card>& roots, double width, double height, const std::string& title) {
    out_ = fmt::format(
        R"(<svg xmlns="http://www.w3.org/2000/svg" width="{0:.0f}" height="{1:.0f}" viewBox="0 0 {0:.0f} {1:.0f}" font-family="'DejaVu Sans', Verdana, sans-serif">
<title>{2}</title>
<style>
.paper {{ fill: #fbfaf5 }} .card {{ fill: #ffffff; stroke: #a9b8bc; stroke-width: 1 }}
.object {{ fill: #1f7a78 }} .type {{ fill: #7a4b6d }} .wire {{ fill: none; stroke: #8fa3a8; stroke-width: 1.3 }}
.title {{ font-size: 12.5px; font-weight: bold; fill: #16252c }} .kind {{ font-size: 10.5px; fill: #7a4b6d }}
.name {{ font-size: 10.5px; fill: #16252c }} .facts {{ font-size: 10.5px; fill: #5b6e75 }}
.note {{ font-size: 10.5px; fill: #8a5a12; font-style: italic }}
</style>
<defs><marker id="up" viewBox="0 0 10 10" refX="1" refY="5" markerWidth="9" markerHeight="9" orient="auto"><path d="M9 1 L1 5 L9 9 Z" fill="#fbfaf5" stroke="#7a4b6d"/></marker></defs>
<rect class="paper" width="100%" height="100%"/>
)",
        width, height, escaped(title));
    for (const Card& root : roots) wires(root);
    for (const Card& root : roots) card(root);
    return std::move(out_) + "</svg>\n";
  }

 private:
  void wires(const Card& from) {
    for (const Card& to : from.children) {
      const double x1 = from.x + from.width, y1 = from.y + from.height / 2, x2 = to.x, y2 = to.y + to.height / 2;
      const double middle = x2 - kGapX / 2;
      out_ += fmt::format(R"(<path class="wire"{} d="M{:.1f} {:.1f} H{:.1f} V{:.1f} H{:.1f}"/>)",
                          from.isType ? R"x( marker-start="url(#up)")x" : "", x1, y1, middle, y2, x2) +
              "\n";
      wires(to);
    }
  }
  void text(const char* style, double x, double y, const std::string& words, bool atEnd = false) {
    out_ += fmt::format(R"(<text class="{}" x="{:.1f}" y="{:.1f}"{}>{}</text>)", style, x, y,
                        atEnd ? R"( text-anchor="end")" : "", escaped(words)) +
            "\n";
  }
  void card(const Card& card) {
    const bool isLink = !card.link.empty();
    if (isLink) out_ += fmt::format("<a href=\"{}\">\n", escaped(card.link));
    out_ += fmt::format(R"(<rect class="card" x="{:.1f}" y="{:.1f}" width="{:.1f}" height="{:.1f}" rx="3"/>)", card.x,
                        card.y, card.width, card.height) +
            "\n";
    out_ += fmt::format(R"(<rect class="{}" x="{:.1f}" y="{:.1f}" width="4" height="{:.1f}" rx="2"/>)",
                        card.isType ? "type" : "object", card.x, card.y, card.height) +
            "\n";
    const double left = card.x + kPadding * 1.5, right = card.x + card.width - kPadding;
    double y = card.y + 16;
    text("title", left, y, card.title);
    if (!card.kind.empty()) text("kind", left, y += kRowHeight, card.kind);
    y += 2;
    for (const CardRow& row : card.rows) {
      y += kRowHeight;
      if (row.isMethod) {
        out_ += fmt::format(R"(<text class="name" x="{:.1f}" y="{:.1f}">{}<tspan class="facts">{}</tspan></text>)",
                            left, y, escaped(row.name), escaped(row.facts)) +
                "\n";
        continue;
      }
      text("name", left, y, row.name);
      text("facts", right, y, row.facts, true);
    }
    if (!card.note.empty()) text("note", left, y + kRowHeight, card.note);
    if (isLink) out_ += "</a>\n";
    for (const Card& child : card.children) this->card(child);
  }

  std::string out_;
};

}  // namespace

void limitRows(Card& card) {
  if (card.rows.size() <= kMostRows) return;
  card.note = fmt::format("… and {} more", card.rows.size() - kMostRows + 1);
  card.rows.resize(kMostRows - 1);
}

std::string paintCards(std::vector<Card> roots, const std::string& title) {
  const Layout layout(roots);
  return Painter().paint(roots, layout.width, layout.height, title);
}

}  // namespace zunth::model
