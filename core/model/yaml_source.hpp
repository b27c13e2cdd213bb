#pragma once

#include "core/model/findings.hpp"

#include <optional>

namespace zunth::model {

/// Text of a scalar or key with the place where it stands.
struct Text {
  std::string text;
  Place place;

  /// A part of it, with its own place.
  Text part(std::size_t from, std::size_t size = std::string::npos) const;
};

/// One entry of a site file as the author wrote it: a key, and a scalar, a list of scalars or further entries. Below a
/// key "starts", whose value is data, lists hold anything: their elements are entries without keys.
struct Entry {
  Text key;
  std::optional<Text> value;   // of a scalar
  std::vector<Text> items;     // of a list
  std::vector<Entry> entries;  // of a mapping
  bool isMapping = false;
  bool isList = false;

  const Entry* find(std::string_view key) const;
  /// The scalar under this key, or nothing.
  const Text* textOf(std::string_view key) const;
  /// The scalar under this key, or the list of them.
  std::vector<Text> textsOf(std::string_view key) const;
};

/// Reads a YAML file into entries, in their order; keys that come twice and YAML that is not sound become findings.
/// The root entry's key is empty.
Entry readYaml(const std::string& file, const std::string& text, Findings& findings);

/// Reports entries whose keys are none of `known`, with the nearest.
void checkKeys(const Entry& entry, const std::vector<std::string>& known, Findings& findings);

}  // namespace zunth::model
