#pragma once

#include "core/space/space.hpp"
#include "core/ua/structure_schema.hpp"

namespace zunth::space {

/// The structures of a space's own namespaces beside the standard's, by their DataTypeDefinitions (Part 3, 8.48), so
/// that their values are read and written like the standard's. Left out is a structure that contains itself other than
/// in a list, or whose fields have types that aren't there.
ua::TypeCatalog typeCatalog(const Space& space);

/// The fields of a structure's data type, those of the types above first (Part 3, 8.48).
ua::List<ua::StructureField> allFields(const Space& space, NodeIndex dataType);

}  // namespace zunth::space
