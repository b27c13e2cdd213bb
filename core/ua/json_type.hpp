#pragma once

#include <string>

#include <nlohmann/json.hpp>

namespace zunth::ua {

/// A JSON value; its members stay in the order in which they came.
using Json = nlohmann::ordered_json;

using JsonText = nlohmann::detail::iterator_input_adapter<std::string::const_iterator>;

}  // namespace zunth::ua

// Compiled once, in json_type.cpp: it was a twentieth of what each room takes that has to do with JSON.
extern template class nlohmann::basic_json<nlohmann::ordered_map>;
extern template class nlohmann::detail::serializer<zunth::ua::Json>;
extern template class nlohmann::detail::lexer<zunth::ua::Json, zunth::ua::JsonText>;
extern template class nlohmann::detail::parser<zunth::ua::Json, zunth::ua::JsonText>;
