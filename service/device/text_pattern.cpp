#include "service/device/text_pattern.hpp"

#include "service/device/plain_value.hpp"

#include <algorithm>
#include <optional>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

namespace {

bool isDigitLike(char c) { return (c >= '0' && c <= '9') || c == '.' || c == '+' || c == '-'; }

/// Where a field ends that nothing but another field follows: where digits stop, or where they begin.
std::size_t endOfRun(std::string_view text) {
  const auto from = std::min(text.find_first_not_of(' '), text.size());
  if (from == text.size()) return from;
  const bool isNumber = isDigitLike(text[from]);
  auto end = from;
  // Signs may stand apart from their digits.
  while (end < text.size() && (isDigitLike(text[end]) == isNumber || (isNumber && text[end] == ' '))) ++end;
  return end;
}

}  // namespace

Result<TextPattern> TextPattern::parse(std::string_view pattern) {
  TextPattern out;
  const auto wrong = [](std::string what) {
    return Error{status::BadSyntaxError, std::move(what), "as in: {stable},{weight}{unit}"};
  };
  while (!pattern.empty()) {
    if (pattern.front() == '{') {
      const auto end = pattern.find('}');
      if (end == std::string_view::npos) return wrong("a brace doesn't close");
      std::string name(pattern.substr(1, end - 1));
      if (name.empty()) return wrong("a field has no name");
      if (std::ranges::find(out.names_, name) != out.names_.end())
        return wrong(fmt::format("the field '{}' is there twice", name));
      out.names_.push_back(name);
      out.parts_.push_back({Part::Kind::Field, std::move(name)});
      pattern.remove_prefix(end + 1);
    } else if (pattern.front() == ' ') {
      out.parts_.push_back({Part::Kind::Blanks, {}});
      pattern.remove_prefix(std::min(pattern.find_first_not_of(' '), pattern.size()));
    } else {
      const auto end = std::min(pattern.find_first_of("{ "), pattern.size());
      out.parts_.push_back({Part::Kind::Literal, std::string(pattern.substr(0, end))});
      pattern.remove_prefix(end);
    }
  }
  if (out.names_.empty()) return wrong("the answer has no field");
  return out;
}

std::optional<TextPattern::Fields> TextPattern::read(std::string_view text) const {
  Fields out;
  for (std::size_t i = 0; i < parts_.size(); ++i) {
    const Part& part = parts_[i];
    if (part.kind == Part::Kind::Literal) {
      if (!text.starts_with(part.text)) return std::nullopt;
      text.remove_prefix(part.text.size());
    } else if (part.kind == Part::Kind::Blanks) {
      text.remove_prefix(std::min(text.find_first_not_of(" \t"), text.size()));
    } else {
      std::size_t end = text.size();
      if (i + 1 < parts_.size()) {
        const Part& next = parts_[i + 1];
        if (next.kind == Part::Kind::Literal) {
          end = text.find(next.text);
          if (end == std::string_view::npos) return std::nullopt;
        } else if (next.kind == Part::Kind::Field) {
          end = endOfRun(text);
        } else {
          const auto from = std::min(text.find_first_not_of(" \t"), text.size());
          end = std::min(text.find_first_of(" \t", from), text.size());
        }
      }
      out[part.text] = std::string(trimmed(text.substr(0, end)));
      text.remove_prefix(end);
    }
  }
  if (!trimmed(text).empty()) return std::nullopt;
  return out;
}

Result<std::string> unescaped(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\') {
      out += text[i];
      continue;
    }
    const char next = i + 1 < text.size() ? text[i + 1] : '\0';
    ++i;
    if (next == 'r' || next == 'n' || next == 't' || next == '0' || next == '\\') {
      out += next == 'r' ? '\r' : next == 'n' ? '\n' : next == 't' ? '\t' : next == '0' ? '\0' : '\\';
    } else if (next == 'x' && i + 2 < text.size() && std::isxdigit(static_cast<unsigned char>(text[i + 1])) &&
               std::isxdigit(static_cast<unsigned char>(text[i + 2]))) {
      out += static_cast<char>(std::stoi(std::string(text.substr(i + 1, 2)), nullptr, 16));
      i += 2;
    } else {
      return Error{status::BadSyntaxError, fmt::format("'\\{}' stands for nothing", next), "as in: \\r\\n, or \\x02"};
    }
  }
  return out;
}

std::string escaped(std::string_view octets) {
  std::string out;
  for (const char c : octets) {
    if (c == '\r')
      out += "\\r";
    else if (c == '\n')
      out += "\\n";
    else if (static_cast<unsigned char>(c) < 0x20 || static_cast<unsigned char>(c) > 0x7E)
      out += fmt::format("\\x{:02X}", static_cast<unsigned char>(c));
    else
      out += c;
  }
  return out;
}

}  // namespace zunth::device
