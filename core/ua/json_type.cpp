#include "core/ua/json_type.hpp"

template class nlohmann::basic_json<nlohmann::ordered_map>;
template class nlohmann::detail::serializer<zunth::ua::Json>;
template class nlohmann::detail::lexer<zunth::ua::Json, zunth::ua::JsonText>;
template class nlohmann::detail::parser<zunth::ua::Json, zunth::ua::JsonText>;
