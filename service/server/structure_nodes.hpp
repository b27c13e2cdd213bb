#pragma once

#include "core/space/space.hpp"
#include "core/ua/structure_codec.hpp"

#include <cctype>

namespace zunth::server {

/// A field of a structure as a variable's value: what it is when it is built in, numbers for enumerations, objects for
/// structures.
template <class T>
ua::Variant asValue(const T& field) {
  if constexpr (ua::IsBuiltIn<T>)
    return ua::Variant(field);
  else if constexpr (std::is_enum_v<T>)
    return ua::Variant(static_cast<std::int32_t>(field));
  else
    return ua::Variant(ua::ExtensionObject::of(field));
}
template <class T>
ua::Variant asValue(const ua::List<T>& list) {
  if constexpr (ua::IsBuiltIn<T>) {
    return ua::Variant::array(static_cast<const std::vector<T>&>(list));
  } else {
    std::vector<ua::ExtensionObject> objects;
    for (const auto& item : list) objects.push_back(ua::ExtensionObject::of(item));
    return ua::Variant::array(objects);
  }
}

/// Shows a structure as it is at each read: in its variable as a whole, and in the variables below it that are named as
/// its fields (Part 5, 7). `compute` gives the structure, or why there is none.
template <class Structure>
void showStructure(space::Space& space, space::NodeIndex variable, std::function<ua::DateTime()> wallClock,
                   std::function<ua::Result<Structure>()> compute) {
  if (variable == space::kNoNode) return;
  space.setSource(variable, [compute, wallClock] {
    auto now = compute();
    return now ? ua::DataValue(ua::Variant(ua::ExtensionObject::of(std::move(*now))), wallClock())
               : ua::DataValue(now.code());
  });
  std::size_t index = 0;
  const Structure shape{};
  Structure::eachField(shape, [&](std::string_view name, const auto&) {
    const std::size_t wanted = index++;
    std::string browseName(name);
    browseName[0] = static_cast<char>(std::toupper(browseName[0]));
    const auto child = space.child(variable, {0, ua::String(browseName)});
    if (child == space::kNoNode) return;
    space.setSource(child, [compute, wallClock, wanted] {
      auto now = compute();
      if (!now) return ua::DataValue(now.code());
      ua::Variant value;
      std::size_t at = 0;
      Structure::eachField(*now, [&](std::string_view, const auto& field) {
        if (at++ == wanted) value = asValue(field);
      });
      return ua::DataValue(std::move(value), wallClock());
    });
  });
}

}  // namespace zunth::server
