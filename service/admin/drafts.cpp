#include "service/admin/drafts.hpp"

#include "core/ua/foreign.hpp"
#include "service/admin/control.hpp"
#include "service/admin/state_file.hpp"
#include "service/admin/state_list.hpp"

#include <algorithm>
#include <fstream>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <openssl/sha.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

namespace {

constexpr const char* kSiteFolders[] = {"model", "devices", "bindings", "registers"};
constexpr const char* kSheetFolders[] = {"console/pages", "console/lists"};

StateList listOf(const fs::path& file) { return {file, "drafts", "move it away: drafts begin anew"}; }

const Error kNoSiteFile{
    status::BadNodeIdInvalid, "that is no file of a site",
    "site.yaml, one in model/, devices/, bindings/ or registers/ that ends in .yaml, .csv or .xml, or a page or list"};

Error conflictOf(const std::string& name) {
  return {status::BadInvalidState, fmt::format("{} has changed on disk since it was edited here", shown(name)),
          "look at both, and drop the draft or edit what is there now"};
}

/// Whether a file is neither what a draft began from nor what it would make of it.
template <class Draft>
bool isConflict(const Draft& draft, const std::optional<std::string>& now) {
  return (now ? versionOf(*now) : std::string()) != draft.base && now != draft.text;
}

/// A folder of its own that goes when it is no longer needed.
class Passing {
 public:
  explicit Passing(const fs::path& above) {
    std::string name = (above / "preview-XXXXXX").string();
    if (::mkdtemp(name.data())) path_ = name;
  }
  Passing(const Passing&) = delete;
  ~Passing() {
    std::error_code ignored;
    if (!path_.empty()) fs::remove_all(path_, ignored);
  }
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

}  // namespace

std::string versionOf(const std::string& text) {
  unsigned char digest[SHA256_DIGEST_LENGTH];
  SHA256(reinterpret_cast<const unsigned char*>(text.data()), text.size(), digest);
  std::string out;
  for (const unsigned char octet : std::span(digest).first(16)) out += fmt::format("{:02x}", octet);
  return out;
}

bool isSheetName(std::string_view name) {
  return !name.empty() && name.size() <= 80 && name.front() != '.' && name.front() != ' ' &&
         std::ranges::none_of(name, [](unsigned char c) {
           return c < 0x20 || std::string_view("/\\:*?\"<>|").find(static_cast<char>(c)) != std::string_view::npos;
         });
}

std::string sheetFile(std::string_view kind, std::string_view name) {
  return fmt::format("console/{}/{}.json", kind, name);
}

bool isSiteFile(const std::string& name) {
  if (name == "site.yaml") return true;
  if (name.size() > 200) return false;
  for (const std::string_view sheets : kSheetFolders)
    if (name.starts_with(sheets) && name.ends_with(".json") && name.size() > sheets.size() + 6 &&
        name[sheets.size()] == '/')
      return isSheetName(std::string_view(name).substr(sheets.size() + 1, name.size() - sheets.size() - 6));
  const auto slash = name.find('/');
  if (slash == std::string::npos) return false;
  const auto folder = name.substr(0, slash);
  if (std::ranges::find(kSiteFolders, folder) == std::end(kSiteFolders)) return false;
  bool isBegin = true;  // of a part of the path
  for (const char c : name.substr(slash + 1)) {
    const bool isPlain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
    const bool isInside = c == '-' || c == '.' || c == ' ' || c == '/';
    if (!isPlain && (isBegin || !isInside)) return false;
    isBegin = c == '/';
  }
  return name.ends_with(".yaml") || name.ends_with(".csv") || name.ends_with(".xml");
}

Result<std::optional<std::string>> Drafts::saved(const std::string& name) const {
  std::error_code failed;
  const auto path = site_ / name;
  if (!fs::exists(path, failed)) return std::optional<std::string>();
  // What a link leads to elsewhere is nobody's to read or write here.
  const auto real = fs::canonical(path, failed), home = fs::canonical(site_, failed);
  if (failed || !fs::is_regular_file(real, failed) || !real.string().starts_with(home.string() + "/"))
    return kNoSiteFile;
  if (fs::file_size(real, failed) > kMostText)
    return Error{status::BadRequestTooLarge, fmt::format("{} is larger than 512 KiB", shown(name)),
                 "edit it where it lies"};
  std::ifstream in(real, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  if (!in) return Error{status::BadUserAccessDenied, fmt::format("{} can't be read", shown(name)), {}};
  return std::optional(text.str());
}

Result<std::vector<Drafts::Draft>> Drafts::load() const {
  std::vector<Draft> out;
  const auto kept = listOf(file());
  const auto read = kept.load();
  if (!read) return read.error();
  for (const auto& one : *read) {
    const auto word = [&](const char* key) {
      const auto at = one.find(key);
      return at != one.end() && at->is_string() ? at->get<std::string>() : std::string();
    };
    if (!one.is_object() || !isSiteFile(word("name"))) return kept.damaged("an entry is no draft");
    out.push_back({word("name"), word("text"), word("base"), word("by")});
  }
  return out;
}

Result<void> Drafts::save(const std::vector<Draft>& drafts) const {
  std::error_code failed;
  if (drafts.empty()) {
    fs::remove(file(), failed);
    return failed ? Result<void>(Error{status::BadUserAccessDenied, "state/drafts.json can't be removed", {}})
                  : Result<void>();
  }
  Json list = Json::array();
  std::size_t octets = 0;
  for (const auto& draft : drafts) {
    octets += draft.text.size();
    list.push_back({{"name", draft.name}, {"text", draft.text}, {"base", draft.base}, {"by", draft.by}});
  }
  if (octets > kMostAll)
    return Error{status::BadRequestTooLarge, "all drafts together hold 8 MiB at most", "apply or drop some first"};
  return listOf(file()).save(std::move(list));
}

Result<std::vector<Drafts::File>> Drafts::list() const {
  const auto drafts = load();
  if (!drafts) return drafts.error();
  std::vector<File> out;
  const auto add = [&](const std::string& name) {
    if (isSiteFile(name) && out.size() < kMostFiles) out.push_back({name});
  };
  std::error_code failed;
  if (fs::exists(site_ / "site.yaml", failed)) add("site.yaml");
  std::vector<std::string> folders(std::begin(kSiteFolders), std::end(kSiteFolders));
  folders.insert(folders.end(), std::begin(kSheetFolders), std::end(kSheetFolders));
  for (const auto& folder : folders) {
    std::vector<std::string> names;
    for (fs::recursive_directory_iterator at(site_ / folder, failed), end; !failed && at != end; at.increment(failed))
      if (at->is_regular_file(failed)) names.push_back(at->path().lexically_relative(site_).generic_string());
    std::ranges::sort(names);
    for (const auto& name : names) add(name);
    failed.clear();
  }
  for (const auto& draft : *drafts) {
    auto at = std::ranges::find(out, draft.name, &File::name);
    if (at == out.end()) {
      at = out.insert(out.end(), {draft.name});
      at->isNew = true;
    }
    at->isEdited = true;
    at->by = draft.by;
    const auto now = saved(draft.name);
    at->isInConflict = !now || isConflict(draft, *now);
  }
  return out;
}

Result<Drafts::Text> Drafts::read(const std::string& name) const {
  if (!isSiteFile(name)) return kNoSiteFile;
  const auto drafts = load();
  if (!drafts) return drafts.error();
  auto now = saved(name);
  if (!now) return now.error();
  const auto draft = std::ranges::find(*drafts, name, &Draft::name);
  if (!*now && draft == drafts->end()) return Error{status::BadNotFound, fmt::format("there is no {}", name), {}};
  Text out;
  const std::string base = *now ? versionOf(**now) : std::string();
  out.saved = now->value_or("");
  out.version = base;
  if (draft == drafts->end()) return out;
  out.draft = draft->text;
  out.isInConflict = isConflict(*draft, *now);
  out.version = versionOf(draft->text);
  return out;
}

Result<std::string> Drafts::write(const std::string& name, const std::string& text, const std::string& version,
                                  const std::string& by) {
  if (!isSiteFile(name)) return kNoSiteFile;
  if (text.size() > kMostText)
    return Error{status::BadRequestTooLarge, "a file holds 512 KiB at most here", "edit it where it lies"};
  auto drafts = load();
  if (!drafts) return drafts.error();
  const auto now = saved(name);
  if (!now) return now.error();
  const std::string base = *now ? versionOf(**now) : std::string();
  auto draft = std::ranges::find(*drafts, name, &Draft::name);
  const bool isDraft = draft != drafts->end();
  if ((isDraft ? versionOf(draft->text) : base) != version)
    return Error{status::BadInvalidState,
                 isDraft ? fmt::format("{} has edited {} meanwhile", shown(draft->by), name)
                         : fmt::format("{} has changed on disk meanwhile", name),
                 "look at it again, and put yours into that"};
  // Who saw a conflict and edits on has not settled it: the base stays.
  if (*now && text == **now) {
    if (isDraft) drafts->erase(draft);
  } else if (isDraft) {
    draft->text = text;
    draft->by = by;
  } else {
    drafts->push_back({name, text, base, by});
  }
  if (auto fine = save(*drafts); !fine) return fine.error();
  return versionOf(text);
}

Result<void> Drafts::drop(const std::string& name) {
  auto drafts = load();
  // What is damaged is dropped as a whole.
  if (!drafts) return name.empty() ? save({}) : Result<void>(drafts.error());
  const auto before = drafts->size();
  std::erase_if(*drafts, [&](const Draft& draft) { return name.empty() || draft.name == name; });
  if (!name.empty() && drafts->size() == before)
    return Error{status::BadNotFound, fmt::format("{} is not edited", shown(name)), {}};
  return save(*drafts);
}

Result<Site> Drafts::preview() const {
  const auto drafts = load();
  if (!drafts) return drafts.error();
  const auto files = list();
  if (!files) return files.error();
  std::error_code failed;
  fs::create_directories(site_ / "state", failed);
  const Passing folder(site_ / "state");
  if (folder.path().empty()) return Error{status::BadUserAccessDenied, "no folder can be made below state/", {}};
  const auto home = fs::canonical(site_, failed);
  for (const auto& one : *files) {
    const auto path = folder.path() / one.name;
    fs::create_directories(path.parent_path(), failed);
    const auto draft = std::ranges::find(*drafts, one.name, &Draft::name);
    if (draft == drafts->end()) {
      fs::create_symlink(home / one.name, path, failed);
      if (failed) return Error{status::BadUserAccessDenied, failed.message(), {}};
    } else if (!(std::ofstream(path, std::ios::binary) << draft->text)) {
      return Error{status::BadResourceUnavailable, "the draft can't be written below state/", "make room on the disk"};
    }
  }
  // What devices read beside their files is where it always is.
  auto site = loadSite(folder.path(), home);
  for (const auto& draft : *drafts)
    if (draft.name.ends_with(".json") && !Json::parse(draft.text, nullptr, false).is_object())
      site.findings.error({draft.name, 1, 1, 1}, "this is no JSON object", "change it at the console's own page");
  return site;
}

Result<void> Drafts::judge(const Site& wanted) const {
  using Point = std::pair<std::string, std::string>;  // the device's name, and what it says of the point
  const auto pointsOf = [](const Site& site) {
    std::set<Point> out;
    for (const auto& device : site.devices)
      if (device.driver == "files")
        for (const auto& point : device.points) out.emplace(device.name, point.raw.where);
    return out;
  };
  const auto asked = pointsOf(wanted);
  if (asked.empty()) return {};
  const auto had = pointsOf(loadSite(site_));
  for (const auto& point : asked)
    if (!had.contains(point))
      return Error{
          status::BadUserAccessDenied,
          fmt::format("devices/{}.yaml names '{}': files and programs of this machine are bound on the machine "
                      "itself",
                      point.first, shown(point.second)),
          "write that line where the site lies, and: zunth apply"};
  return {};
}

Result<std::vector<std::string>> Drafts::put() {
  const auto drafts = load();
  if (!drafts) return drafts.error();
  for (const auto& draft : *drafts) {
    const auto now = saved(draft.name);
    if (!now) return now.error();
    if (isConflict(draft, *now)) return conflictOf(draft.name);
  }
  std::vector<std::string> out;
  for (const auto& draft : *drafts) {
    std::error_code failed;
    const auto path = site_ / draft.name;
    fs::create_directories(path.parent_path(), failed);
    const auto mode = fs::status(path, failed).permissions();
    const bool isThere = fs::exists(path, failed);
    if (auto fine = replaceFile(path, draft.text, isThere ? static_cast<unsigned>(mode) & 0777 : 0644); !fine)
      return fine.error();
    out.push_back(draft.name);
    if (auto fine = drop(draft.name); !fine) return fine.error();
  }
  return out;
}

}  // namespace zunth::admin
