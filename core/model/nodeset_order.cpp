#include "core/model/nodeset.hpp"

#include <functional>
#include <map>
#include <set>

#include <pugixml.hpp>

namespace zunth::model {

namespace {

/// What a file says of its models, which stands before its nodes; nothing where it says nothing that can be read.
pugi::xml_document modelsOf(const std::string& text) {
  pugi::xml_document out;
  const auto begin = text.find("<Models");
  constexpr std::string_view kEnd = "</Models>";
  const auto end = begin == std::string::npos ? begin : text.find(kEnd, begin);
  if (end != std::string::npos) out.load_buffer(text.data() + begin, end + kEnd.size() - begin);
  return out;
}

}  // namespace

std::vector<std::size_t> readingOrder(std::span<const ModelFile> files) {
  std::map<std::string, std::size_t> ofModels;  // which file has it
  std::vector<std::set<std::string>> required(files.size());
  for (std::size_t i = 0; i < files.size(); ++i) {
    const auto document = modelsOf(files[i].text);
    for (const auto model : document.child("Models").children("Model")) {
      ofModels.emplace(model.attribute("ModelUri").value(), i);
      for (const auto other : model.children("RequiredModel")) required[i].insert(other.attribute("ModelUri").value());
    }
  }
  std::vector<std::size_t> out;
  std::vector<bool> isTaken(files.size());
  const std::function<void(std::size_t)> take = [&](std::size_t file) {
    if (isTaken[file]) return;
    isTaken[file] = true;
    for (const auto& uri : required[file])
      if (const auto other = ofModels.find(uri); other != ofModels.end()) take(other->second);
    out.push_back(file);
  };
  for (std::size_t i = 0; i < files.size(); ++i) take(i);
  return out;
}

}  // namespace zunth::model
