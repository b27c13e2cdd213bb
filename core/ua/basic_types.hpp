#pragma once

#include "core/ua/node_id.hpp"
#include "core/ua/strings.hpp"

#include <chrono>
#include <cstdint>
#include <string>
#include <vector>

namespace zunth::ua {

/// DateTime (Part 6, 5.2.2.5): 100 ns ticks since 1601-01-01 UTC; 0 is "no time".
struct DateTime {
  std::int64_t ticks = 0;

  static DateTime from(std::chrono::system_clock::time_point time);
  std::chrono::system_clock::time_point time() const;
  bool isNull() const { return ticks == 0; }
  /// "2026-05-04T07:30:00.125Z"; fraction digits only as far as they are not zero.
  std::string text() const;
  /// Reads what text() writes. BadSyntaxError otherwise.
  static Result<DateTime> parse(std::string_view text);
  auto operator<=>(const DateTime&) const = default;
};

/// QualifiedName (Part 3, 8.3): a name and the namespace that gave it.
struct QualifiedName {
  std::uint16_t namespaceIndex = 0;
  String name;

  bool isNull() const { return name.isNull() && namespaceIndex == 0; }
  /// "2:pressure", or "Server" in namespace 0.
  std::string text() const;
  static QualifiedName parse(std::string_view text);
  bool operator==(const QualifiedName&) const = default;
};

/// LocalizedText (Part 3, 8.5).
struct LocalizedText {
  String locale;
  String text;

  LocalizedText() = default;
  explicit LocalizedText(String words, String inLocale = {}) : locale(std::move(inLocale)), text(std::move(words)) {}
  bool operator==(const LocalizedText&) const = default;
};

/// A list of a structure's field. Unlike a plain vector it tells null from empty, which the wire does too
/// (Part 6, 5.2.5); a list with elements is never null.
template <class T>
class List : public std::vector<T> {
 public:
  using std::vector<T>::vector;
  List() = default;
  List(std::vector<T> items) : std::vector<T>(std::move(items)), isNull_(false) {}
  static List emptyNotNull() { return List(std::vector<T>()); }

  bool isNull() const { return this->empty() && isNull_; }
  bool operator==(const List& other) const {
    return isNull() == other.isNull() &&
           static_cast<const std::vector<T>&>(*this) == static_cast<const std::vector<T>&>(other);
  }

 private:
  bool isNull_ = true;
};

}  // namespace zunth::ua
