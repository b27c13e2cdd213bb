#pragma once

#include "core/space/space.hpp"

#include <string>
#include <vector>

/// Cards in columns, painted as SVG: what a drawing is made of.
namespace zunth::model {

struct CardRow {
  std::string name, facts;
  bool isMethod = false;
};

/// One object or type. Where it stands is up to the painter.
struct Card {
  space::NodeIndex node = space::kNoNode;
  std::string title, kind, note;  // the kind is a type's name; the note stands below all
  std::string link;
  std::vector<CardRow> rows;
  bool isType = false;
  std::vector<Card> children;
  // Placed by the layout.
  double x = 0, y = 0, width = 0, height = 0;

  std::size_t count() const {
    std::size_t all = 1;
    for (const Card& child : children) all += child.count();
    return all;
  }
};

/// What has too many rows for one card gets a note instead of the last ones.
void limitRows(Card& card);

/// All trees of cards on one sheet: each tree in columns by depth, the trees one below the other, and beside one
/// another where that would be too tall.
std::string paintCards(std::vector<Card> roots, const std::string& title);

}  // namespace zunth::model
