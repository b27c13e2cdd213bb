#pragma once

#include "core/model/draft.hpp"

namespace zunth::model {

/// What leads from one node to another beside the tree: references that nodes say they have, and views. Their targets
/// may stand anywhere in the site's files, so they are added when all nodes are there.
class Links {
 public:
  explicit Links(Draft& draft) : draft_(draft), space_(draft.space) {}

  /// Keeps an entry's `refers: {TYPE: PATH}` for later.
  void remember(space::NodeIndex node, const Entry& entry);
  /// Adds what was kept.
  void addAll();
  /// Adds a view and what it shows.
  void addView(const Entry& entry);

  /// A node by its path from Objects, by one from `from` ("./speed", "../DF2"), among the types ("types/DrumFilter"),
  /// or by its id; kNoNode for an unknown one, which is reported with the name at which the path ends.
  space::NodeIndex findNode(const Text& text, space::NodeIndex from);

 private:
  struct Link {
    space::NodeIndex node;
    const Entry* refers;
    const Source* source;
  };
  void add(const Link& link);
  void error(const Place& place, std::string message, std::string hint = {}) {
    draft_.error(place, std::move(message), std::move(hint));
  }

  Draft& draft_;
  space::Space& space_;
  std::vector<Link> links_;
};

}  // namespace zunth::model
