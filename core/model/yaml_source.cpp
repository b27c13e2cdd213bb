#include "core/model/yaml_source.hpp"

#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <yaml-cpp/yaml.h>

namespace zunth::model {
namespace {

class Reader {
 public:
  Reader(const std::string& file, const std::string& text, Findings& findings)
      : file_(file), text_(text), findings_(findings) {}

  void read(const YAML::Node& node, Entry& into, int depth) {
    if (depth > 100) return findings_.error(into.key.place, "entries nest more than 100 deep");
    switch (node.Type()) {
      case YAML::NodeType::Scalar: into.value = text(node); break;
      case YAML::NodeType::Sequence:
        for (const auto& item : node) {
          if (item.IsScalar())
            into.items.push_back(text(item));
          else
            findings_.error(placeOf(item), "a list holds plain words here", "write one word or text a line");
        }
        break;
      case YAML::NodeType::Map:
        into.isMapping = true;
        for (const auto& pair : node) {
          Entry entry;
          if (!pair.first.IsScalar()) {
            findings_.error(placeOf(pair.first), "a key is a plain name");
            continue;
          }
          entry.key = text(pair.first);
          if (const Entry* first = into.find(entry.key.text))
            findings_.error(entry.key.place, fmt::format("'{}' stands here twice", entry.key.text),
                            fmt::format("the first is in line {}", first->key.place.line));
          read(pair.second, entry, depth + 1);
          into.entries.push_back(std::move(entry));
        }
        break;
      default: break;
    }
  }

 private:
  Place placeOf(const YAML::Node& node) const {
    const auto mark = node.Mark();
    return {file_, static_cast<std::size_t>(std::max(mark.line, 0)) + 1,
            static_cast<std::size_t>(std::max(mark.column, 0)) + 1, 1};
  }
  Text text(const YAML::Node& node) const {
    Text out{node.Scalar(), placeOf(node)};
    out.place.length = std::max<std::size_t>(1, out.text.size());
    // The mark of a quoted scalar is at its quote.
    const auto mark = node.Mark();
    if (mark.pos >= 0 && static_cast<std::size_t>(mark.pos) < text_.size() &&
        (text_[mark.pos] == '"' || text_[mark.pos] == '\''))
      ++out.place.column;
    return out;
  }

  const std::string& file_;
  const std::string& text_;
  Findings& findings_;
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

Entry readYaml(const std::string& file, const std::string& text, Findings& findings) {
  Entry root;
  root.key.place = {file, 1, 1, 1};
  try {
    const YAML::Node node = YAML::Load(text);
    root.isMapping = node.IsNull() || node.IsMap();
    if (!root.isMapping)
      findings.error(root.key.place, "the file holds no entries", "write 'name: value' lines");
    else
      Reader(file, text, findings).read(node, root, 0);
  } catch (const YAML::Exception& e) {
    findings.error({file, static_cast<std::size_t>(std::max(e.mark.line, 0)) + 1,
                    static_cast<std::size_t>(std::max(e.mark.column, 0)) + 1, 1},
                   "this is not sound YAML: " + e.msg);
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
