#pragma once

#include <string>
#include <string_view>

namespace zunth::ua {

/// Text that somebody else wrote, as it may stand in a log, an audit record, a terminal or an error: on one line, no
/// longer than `most` octets ("..." stands for the rest), with nothing that moves a cursor, hides, or turns the
/// direction of writing. Control characters, octets that are no UTF-8 and what formats invisibly become \n, \t, \xHH or
/// \u{HHHH}; all else stays as it is.
std::string shown(std::string_view foreign, std::size_t most = 128);

/// The first `most` octets at most, not cut within a character.
std::string_view cut(std::string_view text, std::size_t most);

}  // namespace zunth::ua
