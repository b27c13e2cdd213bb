#include "core/model/build.hpp"

#include "core/model/state_machine.hpp"
#include "core/model/types.hpp"

#include <algorithm>
#include <charconv>
#include <deque>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

/// A version as a list of numbers, for comparing: "1.10" is more than "1.9".
std::vector<unsigned> numbersOf(std::string_view version) {
  std::vector<unsigned> out;
  while (!version.empty()) {
    const auto dot = std::min(version.find('.'), version.size());
    unsigned number = 0;
    std::from_chars(version.data(), version.data() + dot, number);
    out.push_back(number);
    version.remove_prefix(std::min(dot + 1, version.size()));
  }
  return out;
}

/// Builds what all files of a model say: types first, then objects, then what leads across.
class Builder {
 public:
  Builder(Space& space, Findings& findings, const SiteWords& site) : building_(space, findings, site) {
    draft_.buildType = [this](TypeDeclaration& type) { types_.build(type); };
  }

  void run(const std::vector<Entry>& roots) {
    for (const Entry& root : roots) declare(root);
    for (Source& source : sources_) readImports(source);
    for (auto& [key, type] : draft_.declarations()) types_.build(type);
    bool anyObjects = false;
    for (const bool isPlacedElsewhere : {false, true})
      for (const Source& source : sources_) {
        draft_.source = &source;
        if (const Entry* objects = source.root->find("objects"))
          for (const Entry& child : objects->entries) {
            anyObjects = true;
            if ((child.find("in") != nullptr) == isPlacedElsewhere) addTop(child);
          }
      }
    for (const Source& source : sources_) {
      draft_.source = &source;
      if (const Entry* views = source.root->find("views"))
        for (const Entry& view : views->entries) links_.addView(view);
    }
    links_.addAll();
    alarms_.connect();
    for (const NodeIndex machine : building_.machines)
      if (space_.exists(machine)) enterFirstState(space_, machine);
    if (anyObjects) warnOfUnused();
  }
  std::vector<const Place*> places() { return draft_.takePlaces(); }

 private:
  void declare(const Entry& root) {
    if (!root.isMapping) return;
    checkKeys(root, {"namespace", "version", "published", "imports", "types", "objects", "views", "ids"}, findings_);
    const Text* uri = root.textOf("namespace");
    if (!uri) {
      if (root.entries.empty()) return;
      return building_.error(root.key.place, "the model names no namespace",
                             "begin with: namespace: http://my-site.example/plant");
    }
    Source& source = sources_.emplace_back();
    source.root = &root;
    source.ns = space_.addNamespace(String(uri->text));
    auto info = space_.modelInfo(source.ns);
    if (const Text* version = root.textOf("version")) info.version = String(version->text);
    if (const Text* published = root.textOf("published")) {
      const bool isDay = published->text.find('T') == std::string::npos;
      auto time = DateTime::parse(published->text + (isDay ? "T00:00:00Z" : ""));
      if (!time)
        building_.error(published->place, fmt::format("'{}' is no date", published->text),
                        "as in: published: 2026-11-23");
      else
        info.published = *time;
    }
    space_.setModelInfo(source.ns, std::move(info));
    if (const Entry* types = root.find("types"))
      for (const Entry& entry : types->entries) draft_.declare(entry, source);
    if (const Entry* ids = root.find("ids"))
      for (const Entry& line : ids->entries)
        if (const auto id = line.value ? draft_.givenId(*line.value, source.ns) : std::nullopt)
          draft_.giveId({source.ns, line.key.text}, *id);
  }
  /// imports: [URI], or {prefix: URI}; a version that is needed at least may follow the URI.
  void readImports(Source& source) {
    const Entry* imports = source.root->find("imports");
    if (!imports) return;
    auto info = space_.modelInfo(source.ns);
    const auto import = [&](const Text& text) -> std::optional<std::uint16_t> {
      const auto words = splitWords(text);
      if (words.empty()) return std::nullopt;
      const auto ns = space_.namespaceIndex(words[0].text);
      if (!ns || !(*ns == 0 || hasContent(*ns))) {
        building_.error(words[0].place, fmt::format("the model {} is imported, and it isn't there", words[0].text),
                        "put its NodeSet2 file or its *.yaml into model/");
        return std::nullopt;
      }
      const auto& there = space_.modelInfo(*ns).version;
      if (words.size() > 1 && !there.empty() && numbersOf(there.view()) < numbersOf(words[1].text))
        building_.error(
            words[1].place,
            fmt::format("{} is wanted in version {}, and {} is there", words[0].text, words[1].text, there.view()),
            "put the newer one into model/");
      info.required.push_back({String(words[0].text), words.size() > 1 ? String(words[1].text) : String(), {}});
      return *ns;
    };
    for (const Text& text : source.root->textsOf("imports")) import(text);
    for (const Entry& line : imports->entries)
      if (line.value)
        if (const auto ns = import(*line.value)) source.prefixes[line.key.text] = *ns;
    space_.setModelInfo(source.ns, std::move(info));
  }
  bool hasContent(std::uint16_t ns) const {
    for (const Source& source : sources_)
      if (source.ns == ns) return true;
    for (NodeIndex node = space_.rows(); node-- > 0;)
      if (space_.exists(node) && space_.nodeId(node).namespaceIndex() == ns) return true;
    return false;
  }
  void warnOfUnused() {
    for (const auto& [key, type] : draft_.declarations())
      if (!type.isUsed && type.node != kNoNode && isForInstances(type.node))
        findings_.warn(type.entry->key.place, fmt::format("nothing uses the type '{}'", key.second),
                       "make an instance of it, or take it out");
  }
  /// Interfaces, events and references are for others to use.
  bool isForInstances(NodeIndex type) const {
    return !space_.isAbstract(type) && space_.nodeClass(type) != NodeClass::ReferenceType &&
           !space_.isSubtype(type, id::BaseEventType) && !space_.isSubtype(type, id::BaseInterfaceType);
  }
  void addTop(const Entry& entry) {
    NodeIndex parent = space_.at(id::ObjectsFolder);
    if (const Text* in = entry.textOf("in")) {
      parent = links_.findNode(*in, kNoNode);
      if (parent == kNoNode) return;
    }
    children_.addChildren(parent, entry, false);
  }

  Building building_;
  Draft& draft_ = building_.draft;
  space::Space& space_ = building_.space;
  Findings& findings_ = building_.findings;
  Links& links_ = building_.links;
  Alarms& alarms_ = building_.alarms;
  Children children_{building_};
  Types types_{building_, children_};
  std::deque<Source> sources_;
};

}  // namespace

std::vector<const Place*> buildEntries(Space& space, const std::vector<Entry>& roots, Findings& findings,
                                       const SiteWords& site) {
  Builder builder(space, findings, site);
  builder.run(roots);
  findings.sort();
  return builder.places();
}

void build(Space& space, const std::vector<ModelFile>& files, Findings& findings, const SiteWords& site) {
  std::vector<Entry> roots;
  for (const auto& file : files) roots.push_back(readYaml(file.name, file.text, findings));
  buildEntries(space, roots, findings, site);
}

}  // namespace zunth::model
