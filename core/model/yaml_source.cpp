#include "core/model/yaml_source.hpp"

#include "core/model/utf8.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <sstream>
#include <unordered_set>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <yaml-cpp/eventhandler.h>
#include <yaml-cpp/yaml.h>

namespace zunth::model {
namespace {

/// What is most often the reason, in words of somebody who writes a site.
const char* hintFor(const std::string& problem) {
  if (problem == "unknown token") return "inside { } and [ ], a text with ? or , in it stands in quotes";
  if (problem == "end of map not found") return "a text that begins with { or [ stands in quotes";
  return "";
}

constexpr std::size_t kMostDepth = 100;

/// Builds entries as the parser meets them: no tree of its own stands between the text and them, so that a model of a
/// million lines is read in seconds.
class Reader : public YAML::EventHandler {
 public:
  Reader(const std::string& file, const std::string& text, Findings& findings, Entry& root)
      : file_(file), text_(text), findings_(findings), root_(root) {}

  void OnDocumentStart(const YAML::Mark&) override {}
  void OnDocumentEnd() override {}
  void OnNull(const YAML::Mark& mark, YAML::anchor_t) override { scalar(mark, {}, true); }
  void OnAlias(const YAML::Mark& mark, YAML::anchor_t) override {
    findings_.error(placeOf(mark), "aliases (*name) are not used in site files",
                    "write a type once, and an instance of it wherever it is needed");
    scalar(mark, {}, true);
  }
  void OnScalar(const YAML::Mark& mark, const std::string&, YAML::anchor_t, const std::string& value) override {
    scalar(mark, value, false);
  }
  void OnSequenceStart(const YAML::Mark& mark, const std::string&, YAML::anchor_t, YAML::EmitterStyle::value) override {
    open(mark, Kind::List);
  }
  void OnSequenceEnd() override { close(); }
  void OnMapStart(const YAML::Mark& mark, const std::string&, YAML::anchor_t, YAML::EmitterStyle::value) override {
    open(mark, Kind::Mapping);
  }
  void OnMapEnd() override { close(); }

 private:
  enum class Kind { Mapping, List, Skipped };
  struct Level {
    Kind kind;
    Entry* entry;
    bool isKeyNext = true;                 // of a mapping
    bool holdsValues = false;              // below "starts", where lists hold anything
    bool isLastTwice = false;              // the last entry's key stands there already: it is left out
    std::unordered_set<std::string> keys;  // of a large mapping
  };

  Place placeOf(const YAML::Mark& mark) const {
    return {file_, static_cast<std::size_t>(std::max(mark.line, 0)) + 1,
            static_cast<std::size_t>(std::max(mark.column, 0)) + 1, 1};
  }
  Text text(const YAML::Mark& mark, const std::string& value) const {
    Text out{value, placeOf(mark)};
    out.place.length = std::max<std::size_t>(1, out.text.size());
    // The mark of a quoted scalar is at its quote.
    if (mark.pos >= 0 && static_cast<std::size_t>(mark.pos) < text_.size() &&
        (text_[static_cast<std::size_t>(mark.pos)] == '"' || text_[static_cast<std::size_t>(mark.pos)] == '\''))
      ++out.place.column;
    return out;
  }

  void scalar(const YAML::Mark& mark, const std::string& value, bool isNull) {
    if (levels_.empty()) {  // the file is one scalar
      if (!isNull) findings_.error(root_.key.place, "the file holds no entries", "write 'name: value' lines");
      root_.isMapping = true;
      return;
    }
    Level& level = levels_.back();
    switch (level.kind) {
      case Kind::Skipped: return;
      case Kind::List:
        if (level.holdsValues) {
          Entry element;
          element.key.place = placeOf(mark);
          if (!isNull) element.value = text(mark, value);
          level.entry->entries.push_back(std::move(element));
        } else if (!isNull) {
          level.entry->items.push_back(text(mark, value));
        }
        return;
      case Kind::Mapping:
        if (level.isKeyNext) return addKey(level, mark, value);
        level.isKeyNext = true;
        if (!isNull) level.entry->entries.back().value = text(mark, value);
    }
  }

  static void dropDouble(Level& level) {
    if (std::exchange(level.isLastTwice, false)) level.entry->entries.pop_back();
  }

  void addKey(Level& level, const YAML::Mark& mark, const std::string& value) {
    dropDouble(level);
    level.isKeyNext = false;
    Entry entry;
    entry.key = text(mark, value);
    constexpr std::size_t kFew = 16;
    const bool isLarge = level.entry->entries.size() >= kFew;
    if (isLarge && level.keys.empty())
      for (const Entry& each : level.entry->entries) level.keys.insert(each.key.text);
    const bool isTwice = isLarge ? !level.keys.insert(value).second : level.entry->find(value) != nullptr;
    level.isLastTwice = isTwice;
    if (isTwice)
      findings_.error(entry.key.place, fmt::format("'{}' stands here twice", value),
                      fmt::format("the first is in line {}", level.entry->find(value)->key.place.line));
    level.entry->entries.push_back(std::move(entry));
  }

  void open(const YAML::Mark& mark, Kind kind) {
    if (levels_.empty()) {
      root_.isMapping = true;
      if (kind != Kind::Mapping)
        findings_.error(root_.key.place, "the file holds no entries", "write 'name: value' lines");
      levels_.push_back({kind == Kind::Mapping ? kind : Kind::Skipped, &root_});
      return;
    }
    Level& above = levels_.back();
    if (above.kind == Kind::Skipped) return levels_.push_back({Kind::Skipped, nullptr});
    if (levels_.size() >= kMostDepth) {
      findings_.error(placeOf(mark), fmt::format("entries nest more than {} deep", kMostDepth));
      above.isKeyNext = true;
      return levels_.push_back({Kind::Skipped, nullptr});
    }
    if (above.kind == Kind::List) {
      if (!above.holdsValues) {
        findings_.error(placeOf(mark), "a list holds plain words here", "write one word or text a line");
        return levels_.push_back({Kind::Skipped, nullptr});
      }
      Entry element;
      element.key.place = placeOf(mark);
      above.entry->entries.push_back(std::move(element));
    } else if (above.isKeyNext) {
      findings_.error(placeOf(mark), "a key is a plain name");
      above.isKeyNext = false;
      above.entry->entries.emplace_back();
      above.entry->entries.back().key.place = placeOf(mark);
      return levels_.push_back({Kind::Skipped, nullptr});
    } else {
      above.isKeyNext = true;
    }
    Entry* entry = &above.entry->entries.back();
    entry->isMapping = kind == Kind::Mapping;
    entry->isList = kind == Kind::List;
    levels_.push_back({kind, entry, true, above.holdsValues || entry->key.text == "starts", false, {}});
  }
  void close() {
    if (levels_.back().entry) dropDouble(levels_.back());
    levels_.pop_back();
  }

  const std::string& file_;
  const std::string& text_;
  Findings& findings_;
  Entry& root_;
  std::vector<Level> levels_;  // pointers into entries: an entry gets siblings only when it is done
};

}  // namespace

Text Text::part(std::size_t from, std::size_t size) const {
  Text out{text.substr(std::min(from, text.size()), size), place};
  out.place.column += from;
  out.place.length = std::max<std::size_t>(1, out.text.size());
  return out;
}

const Entry* Entry::find(std::string_view wanted) const {
  const auto found = std::ranges::find_if(entries, [wanted](const Entry& e) { return e.key.text == wanted; });
  return found == entries.end() ? nullptr : &*found;
}

const Text* Entry::textOf(std::string_view wanted) const {
  const Entry* entry = find(wanted);
  return entry && entry->value ? &*entry->value : nullptr;
}

std::vector<Text> Entry::textsOf(std::string_view wanted) const {
  const Entry* entry = find(wanted);
  if (!entry) return {};
  std::vector<Text> texts = entry->items;
  if (entry->value) texts.push_back(*entry->value);
  return texts;
}

Entry readYaml(const std::string& file, const std::string& text, Findings& findings) {
  Entry root;
  root.key.place = {file, 1, 1, 1};
  root.isMapping = true;
  if (!checkUtf8(file, text, findings)) return root;
  try {
    std::istringstream stream(text);
    YAML::Parser parser(stream);
    Reader reader(file, text, findings, root);
    parser.HandleNextDocument(reader);
  } catch (const YAML::Exception& e) {
    findings.error({file, static_cast<std::size_t>(std::max(e.mark.line, 0)) + 1,
                    static_cast<std::size_t>(std::max(e.mark.column, 0)) + 1, 1},
                   "this is not sound YAML: " + e.msg, hintFor(e.msg));
  }
  return root;
}

void checkKeys(const Entry& entry, const std::vector<std::string>& known, Findings& findings) {
  for (const Entry& child : entry.entries) {
    if (std::ranges::find(known, child.key.text) != known.end()) continue;
    const std::string near = ua::nearest(child.key.text, known);
    findings.error(
        child.key.place, fmt::format("'{}' means nothing here", child.key.text),
        near.empty() ? fmt::format("known are: {}", fmt::join(known, ", ")) : fmt::format("did you mean '{}'?", near));
  }
}

}  // namespace zunth::model
