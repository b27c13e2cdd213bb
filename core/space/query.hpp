#pragma once

#include "core/space/content_filter.hpp"
#include "core/ua/slice.hpp"

namespace zunth::space {

/// A query (Part 4, 5.9 and annex B): instances of some types that pass a filter, with some of their values.
class Query {
 public:
  struct NodeTypes {
    NodeIndex type = kNoNode;
    bool withSubtypes = false;
    std::vector<ua::QueryDataDescription> data;
  };
  struct Page {
    ua::List<ua::QueryDataSet> sets;
    std::optional<NodeIndex> next;  // where to go on; nothing when all were found
  };

  /// Checks what is asked. `parsing` gets one result for each node type when one is refused (BadNodeIdUnknown,
  /// BadNotTypeDefinition; data: BadAttributeIdInvalid, BadIndexRangeInvalid, BadBrowseNameInvalid), `filterResult`
  /// what came of the filter. BadContentFilterInvalid; BadNotTypeDefinition when no type is left to look for.
  static ua::Result<Query> from(const Space& space, const ua::QueryFirstRequest& request,
                                ua::List<ua::ParsingResult>& parsing, ua::ContentFilterResult& filterResult);

  /// Adds those from a row on to the page, in the order of the rows, until it holds `most`, its values take so many
  /// octets, which are counted down, or the slice is over.
  void fill(Page& page, const Space& space, NodeIndex from, std::uint32_t most, std::size_t& octets,
            const Rights& rights, ua::Slice& slice) const;
  Page page(const Space& space, NodeIndex from, std::uint32_t most, const Rights& rights = Rights::all()) const {
    Page out;
    ua::Slice whole;
    std::size_t octets = SIZE_MAX;
    fill(out, space, from, most, octets, rights, whole);
    return out;
  }

 private:
  std::vector<NodeTypes> types_;
  ContentFilter filter_;
  NodeIndex view_ = kNoNode;
};

/// The nodes that a path of browse names leads to, in the order in which they are found.
std::vector<NodeIndex> follow(const Space& space, NodeIndex start, const ua::RelativePath& path,
                              const Rights& rights = Rights::all());

}  // namespace zunth::space
