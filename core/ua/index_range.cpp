#include "core/ua/index_range.hpp"

#include <algorithm>
#include <charconv>

namespace zunth::ua {
namespace {

std::vector<std::uint32_t> shapeOf(const Variant& value) {
  if (value.isMatrix()) return {value.dimensions().begin(), value.dimensions().end()};
  return {static_cast<std::uint32_t>(value.length())};
}

/// Calls `visit(position in the whole, position in the part)` for every element of a part of a row-major array.
template <class Visit>
void eachElement(const std::vector<std::uint32_t>& shape, const std::vector<std::uint32_t>& from,
                 const std::vector<std::uint32_t>& size, Visit&& visit) {
  std::vector<std::uint32_t> at(shape.size(), 0);
  std::size_t count = 1;
  for (auto n : size) count *= n;
  for (std::size_t part = 0; part < count; ++part) {
    std::size_t whole = 0;
    for (std::size_t d = 0; d < shape.size(); ++d) whole = whole * shape[d] + from[d] + at[d];
    visit(whole, part);
    for (std::size_t d = shape.size(); d-- > 0;) {
      if (++at[d] < size[d]) break;
      at[d] = 0;
    }
  }
}

template <class T>
T substring(const T& text, std::uint32_t first, std::uint32_t last) {
  if constexpr (std::is_same_v<T, ByteString>)
    return ByteString(text.data() + first, last - first + 1);
  else
    return T(text.view().substr(first, last - first + 1));
}

}  // namespace

Result<IndexRange> IndexRange::parse(std::string_view text) {
  IndexRange range;
  auto number = [&](std::uint32_t& out) {
    const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), out);
    const auto taken = static_cast<std::size_t>(end - text.data());
    text.remove_prefix(taken);
    return failure == std::errc() && taken > 0;
  };
  while (!text.empty()) {
    Bound bound{};
    if (!number(bound.first)) return status::BadIndexRangeInvalid;
    bound.last = bound.first;
    if (text.starts_with(':')) {
      text.remove_prefix(1);
      if (!number(bound.last) || bound.last <= bound.first) return status::BadIndexRangeInvalid;
    }
    range.bounds_.push_back(bound);
    if (text.empty()) break;
    if (text.front() != ',' || text.size() == 1) return status::BadIndexRangeInvalid;
    text.remove_prefix(1);
  }
  return range;
}

Result<Variant> IndexRange::of(const Variant& value) const {
  if (isWhole()) return value;
  if (value.isNull()) return status::BadIndexRangeNoData;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Result<Variant> {
    constexpr bool hasParts = std::is_same_v<T, String> || std::is_same_v<T, ByteString>;
    if (!value.isArray()) {
      if constexpr (hasParts) {
        if (bounds_.size() != 1) return status::BadIndexRangeNoData;
        const T& text = *value.get<T>();
        if (bounds_[0].first >= text.size()) return status::BadIndexRangeNoData;
        const auto last = std::min(bounds_[0].last, static_cast<std::uint32_t>(text.size() - 1));
        return Variant(substring(text, bounds_[0].first, last));
      }
      return status::BadIndexRangeNoData;
    }
    const auto shape = shapeOf(value);
    const bool intoStrings = hasParts && bounds_.size() == shape.size() + 1;
    if (bounds_.size() != shape.size() && !intoStrings) return status::BadIndexRangeNoData;
    std::vector<std::uint32_t> from, size;
    std::size_t count = 1;
    for (std::size_t d = 0; d < shape.size(); ++d) {
      if (bounds_[d].first >= shape[d]) return status::BadIndexRangeNoData;
      from.push_back(bounds_[d].first);
      size.push_back(std::min(bounds_[d].last, shape[d] - 1) - bounds_[d].first + 1);
      count *= size.back();
    }
    const auto items = value.items<T>();
    FixedArray<T> part(count);
    if (shape.size() == 1 && !intoStrings) {
      std::ranges::copy(items.subspan(from[0], count), part.begin());
      return Variant::array(std::move(part));
    }
    bool some = !intoStrings;
    eachElement(shape, from, size, [&](std::size_t whole, std::size_t at) {
      if constexpr (hasParts) {
        if (intoStrings) {
          const auto& text = items[whole];
          if (bounds_.back().first >= text.size()) return;
          const auto last = std::min(bounds_.back().last, static_cast<std::uint32_t>(text.size() - 1));
          part[at] = substring(text, bounds_.back().first, last);
          some = true;
          return;
        }
      }
      part[at] = items[whole];
    });
    if (!some) return status::BadIndexRangeNoData;
    return Variant::array(std::move(part), shape.size() > 1 ? size : std::vector<std::uint32_t>());
  });
}

Result<Variant> IndexRange::replace(const Variant& value, const Variant& part) const {
  if (isWhole()) return part;
  if (value.isNull()) return status::BadIndexRangeNoData;
  if (part.type() != value.type()) return status::BadTypeMismatch;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Result<Variant> {
    constexpr bool hasParts = std::is_same_v<T, String> || std::is_same_v<T, ByteString>;
    if (!value.isArray()) {
      if constexpr (hasParts) {
        if (bounds_.size() != 1 || part.isArray()) return status::BadIndexRangeInvalid;
        const T& text = *value.get<T>();
        const T& piece = *part.get<T>();
        if (bounds_[0].last >= text.size()) return status::BadIndexRangeNoData;
        if (piece.size() != bounds_[0].last - bounds_[0].first + 1) return status::BadIndexRangeDataMismatch;
        std::string joined(text.view());
        joined.replace(bounds_[0].first, piece.size(), piece.view());
        if constexpr (std::is_same_v<T, ByteString>)
          return Variant(ByteString(joined.data(), joined.size()));
        else
          return Variant(T(std::string_view(joined)));
      }
      return status::BadIndexRangeInvalid;
    }
    const auto shape = shapeOf(value);
    if (bounds_.size() != shape.size()) return status::BadIndexRangeInvalid;
    std::vector<std::uint32_t> from, size;
    for (std::size_t d = 0; d < shape.size(); ++d) {
      if (bounds_[d].last >= shape[d]) return status::BadIndexRangeNoData;
      from.push_back(bounds_[d].first);
      size.push_back(bounds_[d].last - bounds_[d].first + 1);
    }
    if (!part.isArray() || shapeOf(part) != size) return status::BadIndexRangeDataMismatch;
    const auto old = value.items<T>();
    const auto fresh = part.items<T>();
    FixedArray<T> whole(old.size());
    std::ranges::copy(old, whole.begin());
    if (shape.size() == 1)
      std::ranges::copy(fresh, whole.begin() + from[0]);
    else
      eachElement(shape, from, size, [&](std::size_t at, std::size_t inPart) { whole[at] = fresh[inPart]; });
    return Variant::array(std::move(whole), {value.dimensions().begin(), value.dimensions().end()});
  });
}

}  // namespace zunth::ua
