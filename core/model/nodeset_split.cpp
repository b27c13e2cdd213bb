#include "core/model/nodeset_split.hpp"

#include <string>

namespace zunth::model {
namespace {

constexpr std::size_t kPiece = 64 * 1024;
constexpr std::size_t kSmall = 1024 * 1024;  // below this a document of the whole is as fast

class Splitter {
 public:
  explicit Splitter(std::string_view text) : text_(text), hasOpaque_(holdsOpaque(text)) {}

  std::optional<NodeSetPieces> run() {
    if (!findRoot()) return std::nullopt;
    NodeSetPieces out;
    std::size_t pieceStart = npos, headEnd = npos;
    while (nextMarkup()) {
      const std::size_t start = at_;
      if (text_.substr(at_, 2) == "</") {
        if (headEnd == npos) return std::nullopt;
        if (pieceStart != npos) out.pieces.push_back(text_.substr(pieceStart, start - pieceStart));
        out.head = text_.substr(0, headEnd);
        return out;
      }
      const bool isNode = text_.substr(at_, 3) == "<UA";
      if (!isNode && headEnd != npos) return std::nullopt;
      if (!skipElement()) return std::nullopt;
      if (!isNode) continue;
      if (headEnd == npos) headEnd = start;
      if (pieceStart == npos) pieceStart = start;
      if (at_ - pieceStart < kPiece) continue;
      out.pieces.push_back(text_.substr(pieceStart, at_ - pieceStart));
      pieceStart = npos;
    }
    return std::nullopt;
  }

 private:
  static constexpr std::size_t npos = std::string_view::npos;

  /// Whether there are comments or CDATA anywhere: '!' is rare, '<' is not.
  static bool holdsOpaque(std::string_view text) {
    for (auto at = text.find('!'); at != npos; at = text.find('!', at + 1))
      if (at > 0 && text[at - 1] == '<') return true;
    return false;
  }

  bool skipPast(std::string_view end) {
    const auto found = text_.find(end, at_);
    if (found == npos) return false;
    at_ = found + end.size();
    return true;
  }

  /// Goes to the next tag, past comments and instructions; false when there is none.
  bool nextMarkup() {
    while ((at_ = text_.find('<', at_)) != npos) {
      if (text_.substr(at_, 4) == "<!--") {
        if (!skipPast("-->")) return false;
      } else if (text_.substr(at_, 2) == "<?") {
        if (!skipPast("?>")) return false;
      } else {
        return text_.substr(at_, 2) != "<!";
      }
    }
    return false;
  }

  bool findRoot() {
    bool isClosed = false;
    return nextMarkup() && text_.substr(at_, 10) == "<UANodeSet" && skipTag(isClosed) && !isClosed;
  }

  /// Past the end of a start tag; attributes may hold '>'.
  bool skipTag(bool& isClosed) {
    for (char quote = 0; at_ < text_.size(); ++at_) {
      const char c = text_[at_];
      if (quote) {
        if (c == quote) quote = 0;
      } else if (c == '"' || c == '\'') {
        quote = c;
      } else if (c == '>') {
        isClosed = text_[at_ - 1] == '/';
        ++at_;
        return true;
      }
    }
    return false;
  }

  /// Past an element, whose name doesn't come again inside of it, as that of nodes doesn't.
  bool skipElement() {
    const auto nameEnd = text_.find_first_of(" \t\r\n/>", at_);
    if (nameEnd == npos) return false;
    const std::string end = "</" + std::string(text_.substr(at_ + 1, nameEnd - at_ - 1));
    bool isClosed = false;
    if (!skipTag(isClosed)) return false;
    while (!isClosed) {
      const auto found = text_.find(end, at_);
      if (found == npos) return false;
      if (hasOpaque_ && skipOpaque(found)) continue;
      at_ = found + end.size();
      const bool isName = at_ < text_.size() && (text_[at_] == '>' || text_[at_] == ' ');
      if (isName) return skipPast(">");
    }
    return true;
  }
  /// When a comment or CDATA begins before `before`, goes past it.
  bool skipOpaque(std::size_t before) {
    const auto part = text_.substr(at_, before - at_);
    const auto comment = part.find("<!--"), data = part.find("<![CDATA[");
    if (comment == npos && data == npos) return false;
    at_ += std::min(comment, data);
    if (!skipPast(comment < data ? "-->" : "]]>")) at_ = text_.size();
    return true;
  }

  std::string_view text_;
  std::size_t at_ = 0;
  bool hasOpaque_;
};

}  // namespace

std::optional<NodeSetPieces> splitNodeSet(std::string_view text) {
  return text.size() < kSmall ? std::nullopt : Splitter(text).run();
}

}  // namespace zunth::model
