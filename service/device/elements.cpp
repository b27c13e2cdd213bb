#include "service/device/elements.hpp"

#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

Result<Variant> convertedTo(BuiltInType type, const Variant& value) {
  return eachElement(value, [type](const Variant& element) {
    if (type == BuiltInType::String) return Result<Variant>(Variant(String(plainText(element))));
    const auto* single = element.get<float>();
    return single && type == BuiltInType::Double ? Result<Variant>(Variant(widened(*single)))
                                                 : convert(element, type, true);
  });
}

std::vector<Variant> elementsOf(const Variant& value) {
  if (!value.isArray()) return std::vector<Variant>(1, value);
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
    std::vector<Variant> out;
    for (const auto& element : value.items<T>()) out.push_back(Variant(element));
    return out;
  });
}

Result<Variant> arrayOf(const std::vector<Variant>& elements, BuiltInType type) {
  if (!elements.empty()) type = elements.front().type();
  if (type == BuiltInType::Null || type == BuiltInType::Variant) return Variant::array(elements);
  return visitBuiltIn(type, [&]<class T>(std::type_identity<T>) -> Result<Variant> {
    FixedArray<T> items(elements.size());
    for (std::size_t i = 0; i < elements.size(); ++i) {
      const T* item = elements[i].get<T>();
      if (!item)
        return Error{status::BadTypeMismatch,
                     fmt::format("element {} is a {}, the first one a {}", i, nameOf(elements[i].type()), nameOf(type)),
                     {}};
      items[i] = *item;
    }
    return Variant::array(std::move(items));
  });
}

Result<Variant> eachElement(const Variant& value, const std::function<Result<Variant>(const Variant&)>& step) {
  if (!value.isArray()) return step(value);
  std::vector<Variant> out;
  for (const auto& element : elementsOf(value)) {
    auto made = step(element);
    if (!made) return Error{made.code(), fmt::format("element {}: {}", out.size(), made.error().cause), {}};
    out.push_back(std::move(*made));
  }
  return arrayOf(out, value.type());
}

}  // namespace zunth::device
