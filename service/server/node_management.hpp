#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// The NodeManagement Service Set (Part 4, 5.7), where a site allows it: clients change what models brought, and
/// nothing that the server keeps for itself.
class NodeManagement : Service {
 public:
  explicit NodeManagement(Core& core) : Service(core) {}

  Job addNodes(ua::AddNodesRequest request, Context context);
  Job deleteNodes(ua::DeleteNodesRequest request, Context context);
  Job addReferences(ua::AddReferencesRequest request, Context context);
  Job deleteReferences(ua::DeleteReferencesRequest request, Context context);

 private:
  using Changes = std::vector<ua::ModelChangeStructureDataType>;
  template <class Request, class Item, class Operate, class Audit>
  Job each(Request request, Context context, ua::List<Item> Request::*items, Operate operate, Audit audit);
  template <class Item>
  auto codeOf(ua::Result<void> (NodeManagement::*operation)(const Item&, const Context&, Changes&));
  ua::Result<void> mayManage(std::size_t operations) const;
  /// Good, or why this user may not do it with that node. A node that isn't there is found out about later.
  ua::Result<void> mayDo(const Context& context, space::NodeIndex node, std::uint32_t permission) const;
  ua::Result<space::NodeIndex> add(const ua::AddNodesItem& item, const Context& context, Changes& changes);
  ua::Result<void> remove(const ua::DeleteNodesItem& item, const Context& context, Changes& changes);
  ua::Result<void> refer(const ua::AddReferencesItem& item, const Context& context, Changes& changes);
  ua::Result<void> unrefer(const ua::DeleteReferencesItem& item, const Context& context, Changes& changes);
};

}  // namespace zunth::server
