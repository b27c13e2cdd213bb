#include "core/model/table.hpp"

#include "core/model/outline.hpp"
#include "core/model/utf8.hpp"
#include "core/model/words.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/letters.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <memory>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

const std::vector<std::string> kColumns = {"path",      "type",  "unit",   "range",   "low",   "high",   "instrument",
                                           "precision", "every", "access", "initial", "about", "called", "point"};

/// Entries by path, as rows come; large groups are found by name, not by looking through them.
struct Branch {
  Entry entry;
  std::vector<std::unique_ptr<Branch>> children;
  std::map<std::string, Branch*> byName;

  Branch& child(const Text& name) {
    if (const auto found = byName.find(name.text); found != byName.end()) return *found->second;
    auto& made = *children.emplace_back(std::make_unique<Branch>());
    made.entry.key = name;
    byName[name.text] = &made;
    return made;
  }
  Entry take() {
    for (auto& child : children) entry.entries.push_back(child->take());
    entry.isMapping = !entry.entries.empty();
    return std::move(entry);
  }
};

Entry entryOf(const char* key, const Text& value) {
  Entry entry;
  entry.key = {key, value.place};
  entry.value = value;
  return entry;
}

class TableReader {
 public:
  TableReader(const std::string& file, const Units& units, Findings& findings)
      : file_(file), units_(units), findings_(findings) {}

  Table read(const std::string& text, const std::string& namespaceUri) {
    Table table;
    table.model.key.place = table.bindings.key.place = {file_, 1, 1, 1};
    table.model.isMapping = table.bindings.isMapping = true;
    if (!checkUtf8(file_, text, findings_)) return table;
    auto rows = readCsv(file_, text, findings_);
    if (rows.empty()) return table;
    if (!readHeader(rows.front())) return table;
    Branch objects;
    objects.entry.key = {"objects", table.model.key.place};
    for (std::size_t i = 1; i < rows.size(); ++i) readRow(rows[i], objects, table.bindings);
    table.model.entries.push_back(entryOf("namespace", {namespaceUri, table.model.key.place}));
    table.model.entries.push_back(objects.take());
    return table;
  }

 private:
  bool readHeader(const std::vector<Text>& cells) {
    for (std::size_t i = 0; i < cells.size(); ++i) {
      const std::string name = lower(cells[i].text);
      if (name.empty()) continue;
      const std::string near = nearest(name, kColumns);
      if (std::ranges::find(kColumns, name) == kColumns.end())
        findings_.error(cells[i].place, fmt::format("'{}' is no column", cells[i].text),
                        near.empty() ? fmt::format("known are: {}", fmt::join(kColumns, ", "))
                                     : fmt::format("did you mean '{}'?", near));
      else if (!columns_.emplace(name, i).second)
        findings_.error(cells[i].place, fmt::format("the column '{}' is there twice", name));
    }
    for (const char* needed : {"path", "type"})
      if (!columns_.contains(needed)) {
        if (findings_.hasErrors()) return false;  // a column that is misspelt was told already
        findings_.error({file_, 1, 1, 1}, fmt::format("the table has no column '{}'", needed),
                        "its first line names the columns, as in: path,type,unit,range,access");
        return false;
      }
    return true;
  }

  /// A cell of the row that is being read; nullptr when there is none or it is empty.
  const Text* cell(const std::vector<Text>& row, const char* column) const {
    const auto at = columns_.find(column);
    return at == columns_.end() || at->second >= row.size() || row[at->second].text.empty() ? nullptr
                                                                                            : &row[at->second];
  }

  void readRow(const std::vector<Text>& row, Branch& objects, Entry& bindings) {
    const Text* path = cell(row, "path");
    if (!path) {
      if (std::ranges::any_of(row, [](const Text& each) { return !each.text.empty(); }))
        findings_.error(row.front().place, "the row has no path", "as in: Hatchery/Hall1/Tank A1/oxygen");
      return;
    }
    Branch* at = &objects;
    for (const Text& name : splitPath(*path)) at = &at->child(name);
    if (at == &objects) return findings_.error(path->place, fmt::format("'{}' is no path", path->text));
    if (at->entry.find("is"))
      return findings_.error(path->place, fmt::format("'{}' is in the table twice", path->text),
                             fmt::format("the first is in line {}", at->entry.key.place.line));
    at->entry.key.place = path->place;
    addFacts(row, at->entry);
    if (const Text* point = cell(row, "point")) {
      Entry binding = entryOf("", *point);
      binding.key = *path;
      bindings.entries.push_back(std::move(binding));
    }
  }

  void addFacts(const std::vector<Text>& row, Entry& entry) {
    const Text* type = cell(row, "type");
    if (!type)
      return findings_.error(row[columns_.at("path")].place, "the row has no type",
                             "as in: Double, or a type of the model");
    Text is = *type;
    is.place.length = type->text.size();
    const auto say = [&](const std::string& words) { is.text += " " + words; };
    if (const Text* unit = cell(row, "unit")) {
      if (units_.find(unit->text))
        say(unit->text);
      else
        findings_.error(unit->place, fmt::format("there is no unit '{}'", unit->text),
                        units_.nearest(unit->text).empty()
                            ? "units.csv in the site's folder may add it"
                            : fmt::format("did you mean '{}'?", units_.nearest(unit->text)));
    }
    sayRange(row, say);
    if (const Text* instrument = cell(row, "instrument"); instrument && parseRange(*instrument, findings_))
      say("instrument " + instrument->text);
    for (const char* word : {"precision", "every"})
      if (const Text* value = cell(row, word)) say(fmt::format("{} {}", word, value->text));
    if (const Text* access = cell(row, "access")) {
      static const std::map<std::string, std::string> words = {
          {"read", ""}, {"readable", ""}, {"write", "writable"}, {"writable", "writable"}, {"readwrite", "writable"}};
      const auto known = words.find(access->text);
      if (known == words.end())
        findings_.error(access->place, fmt::format("'{}' is no access", access->text), "write read or writable");
      else if (!known->second.empty())
        say(known->second);
    }
    entry.entries.push_back(entryOf("is", is));
    if (const Text* initial = cell(row, "initial")) entry.entries.push_back(entryOf("starts", *initial));
    for (const char* word : {"about", "called"})
      if (const Text* text = cell(row, word)) entry.entries.push_back(entryOf(word, *text));
    entry.isMapping = true;
  }

  template <class Say>
  void sayRange(const std::vector<Text>& row, const Say& say) {
    const Text *range = cell(row, "range"), *low = cell(row, "low"), *high = cell(row, "high");
    if (range && (low || high))
      return findings_.error(range->place, "the row has a range, and low or high, too", "one of both will do");
    if (range && parseRange(*range, findings_)) say(range->text);
    if (!low && !high) return;
    if (!low || !high)
      return findings_.error((low ? low : high)->place, "a range has two ends", "fill in low and high");
    const Text both{low->text + ".." + high->text, low->place};
    if (parseRange(both, findings_)) say(both.text);
  }

  const std::string& file_;
  const Units& units_;
  Findings& findings_;
  std::map<std::string, std::size_t> columns_;
};

std::string rangeText(const Range& range) { return fmt::format("{}..{}", range.low, range.high); }

}  // namespace

std::vector<std::vector<Text>> readCsv(const std::string& file, std::string_view text, Findings& findings,
                                       char delimiter) {
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  if (!delimiter) {
    std::string_view header = text;
    while (header.starts_with('#')) header.remove_prefix(std::min(header.find('\n'), header.size() - 1) + 1);
    header = header.substr(0, header.find('\n'));
    delimiter = ',';
    for (const char each : {';', '\t'})
      if (std::ranges::count(header, each) > std::ranges::count(header, delimiter)) delimiter = each;
  }
  std::vector<std::vector<Text>> rows;
  std::size_t line = 1, lineStart = 0, at = 0;
  const auto placeOf = [&](std::size_t from) { return Place{file, line, from - lineStart + 1, 1}; };
  const auto newLine = [&] {
    ++line;
    lineStart = at;
  };
  while (at < text.size()) {
    if (text[at] == '#' && at == lineStart) {
      at = std::min(text.find('\n', at), text.size() - 1) + 1;
      newLine();
      continue;
    }
    std::vector<Text> row;
    bool isDone = false;
    while (!isDone) {
      while (at < text.size() && text[at] == ' ') ++at;
      Text cell{"", placeOf(at)};
      if (at < text.size() && text[at] == '"') {
        const Place quote = placeOf(at++);
        ++cell.place.column;
        while (at < text.size() && (text[at] != '"' || (at + 1 < text.size() && text[at + 1] == '"'))) {
          if (text[at] == '"') ++at;
          const char c = text[at++];
          cell.text += c;
          if (c == '\n') newLine();
        }
        if (at == text.size()) {
          findings.error(quote, "the quote that opens here is not closed", "a quote inside of a cell is written twice");
          return rows;
        }
        ++at;
        while (at < text.size() && (text[at] == ' ' || text[at] == '\r')) ++at;
        if (at < text.size() && text[at] != delimiter && text[at] != '\n') {
          findings.error(placeOf(at), "something follows the quote that closes a cell",
                         "a quote inside of a cell is written twice");
          while (at < text.size() && text[at] != '\n') ++at;
        }
      } else {
        while (at < text.size() && text[at] != delimiter && text[at] != '\n') cell.text += text[at++];
        while (!cell.text.empty() && (cell.text.back() == ' ' || cell.text.back() == '\r')) cell.text.pop_back();
      }
      cell.place.length = std::max<std::size_t>(1, cell.text.size());
      row.push_back(std::move(cell));
      isDone = at >= text.size() || text[at] == '\n';
      ++at;
    }
    newLine();
    if (row.size() > 1 || !row.front().text.empty()) rows.push_back(std::move(row));
  }
  return rows;
}

std::string csvLine(std::span<const std::string> cells) {
  std::string out;
  for (std::size_t i = 0; i < cells.size(); ++i) {
    if (i) out += ',';
    const std::string& cell = cells[i];
    const bool needsQuotes = cell.find_first_of(",;\t\"\r\n") != std::string::npos || cell.starts_with('#') ||
                             cell.starts_with(' ') || cell.ends_with(' ');
    if (!needsQuotes) {
      out += cell;
      continue;
    }
    out += '"';
    for (const char c : cell) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    out += '"';
  }
  return out + "\n";
}

Table readTable(const std::string& file, const std::string& text, const std::string& namespaceUri, const Units& units,
                Findings& findings) {
  return TableReader(file, units, findings).read(text, namespaceUri);
}

std::string writeTable(const Space& space, std::span<const std::uint16_t> namespaces) {
  struct Row {
    std::string path;
    std::array<std::string, 7> cells;
  };
  std::vector<Row> rows;
  for (NodeIndex node = 0; node < space.rows(); ++node) {
    if (!space.exists(node) || space.nodeClass(node) != NodeClass::Variable ||
        std::ranges::find(namespaces, space.nodeId(node).namespaceIndex()) == namespaces.end())
      continue;
    const NodeIndex definition = space.typeDefinition(node);
    // Properties are facts of what they belong to, but for those that the model's own namespace named.
    if (definition != kNoNode && space.nodeId(definition).is(id::PropertyType)) continue;
    const std::string path = space.path(node);
    if (path == space.nodeId(node).text()) continue;  // not below Objects
    const auto& traits = space.traits(node);
    const bool isOwnType = definition != kNoNode && space.nodeId(definition).namespaceIndex() != 0;
    const NodeIndex type = isOwnType ? definition : traits.dataType;
    std::string typeName = type == kNoNode ? "BaseDataType" : std::string(space.name(type));
    if (!isOwnType && traits.valueRank >= 1)
      typeName += "[" + std::string(static_cast<std::size_t>(traits.valueRank - 1), ',') + "]";
    const auto range = space::rangeProperty(space, node, "EURange");
    const Variant value = space.hasSource(node) ? Variant() : space.value(node).value;
    const bool isPlain = value.type() != BuiltInType::ExtensionObject && !value.isNull();
    rows.push_back(
        {path,
         {typeName, unitText(space, node), range ? rangeText(*range) : "",
          traits.accessLevel & AccessLevelType::CurrentWrite ? "writable" : "read", isPlain ? format(value) : "",
          space.description(node).text.str(),
          space.displayName(node).text.view() == space.name(node) ? "" : space.displayName(node).text.str()}});
  }
  std::ranges::stable_sort(rows, {}, &Row::path);
  std::string out = "path,type,unit,range,access,initial,about,called\n";
  for (const Row& row : rows) {
    std::vector<std::string> cells{row.path};
    cells.insert(cells.end(), row.cells.begin(), row.cells.end());
    out += csvLine(cells);
  }
  return out;
}

}  // namespace zunth::model
