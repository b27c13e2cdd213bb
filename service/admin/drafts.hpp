#pragma once

#include "service/admin/site.hpp"

#include <optional>

namespace zunth::admin {

/// Edits of a site's files that don't count yet: kept in state/drafts.json, for all who edit at the console, until they
/// are put in place or dropped. Each knows the file as it was when it was begun: one that has changed on disk since is
/// a conflict, and is never written over. Calls one at a time.
class Drafts {
 public:
  explicit Drafts(std::filesystem::path site) : site_(std::move(site)) {}

  struct File {
    std::string name;  // "model/plant.yaml"
    bool isEdited = false, isNew = false, isInConflict = false;
    std::string by;  // who edited it last
  };
  /// The files that make the site, and those that drafts would add.
  ua::Result<std::vector<File>> list() const;

  struct Text {
    std::string saved;                   // on disk; empty where there is none
    std::optional<std::string> draft{};  // as it would be
    bool isInConflict = false;
    std::string version;  // of what an editor shows, to be said with write()
  };
  /// BadNotFound, and BadNodeIdInvalid for what is no name of a site's file.
  ua::Result<Text> read(const std::string& name) const;
  /// `version` is that of the text which was edited: BadInvalidState when somebody else has changed it meanwhile. The
  /// new version. A text that is the saved one again is no draft any more.
  ua::Result<std::string> write(const std::string& name, const std::string& text, const std::string& version,
                                const std::string& by);
  /// One, or all without a name.
  ua::Result<void> drop(const std::string& name);
  /// The site as it would be, read and checked.
  ua::Result<Site> preview() const;
  /// Whether the site as it would be takes no more of this machine than the present one: what programs are run and
  /// which files of the machine are read is said on the machine itself. BadUserAccessDenied.
  ua::Result<void> judge(const Site& wanted) const;
  /// Puts all in place: the names of the files. BadInvalidState, and nothing is written, where one is in conflict.
  ua::Result<std::vector<std::string>> put();

  static constexpr std::size_t kMostText = 512u << 10, kMostAll = 8u << 20, kMostFiles = 5'000;

 private:
  struct Draft {
    std::string name, text, base, by;  // base: version of the file that it began from, empty for a new one
  };
  ua::Result<std::vector<Draft>> load() const;
  ua::Result<void> save(const std::vector<Draft>& drafts) const;
  std::filesystem::path file() const { return site_ / "state/drafts.json"; }
  ua::Result<std::optional<std::string>> saved(const std::string& name) const;

  std::filesystem::path site_;
};

/// Whether it names a file that a site is made of: site.yaml, one in model/, devices/, bindings/ or registers/, or a
/// list or page of its console.
bool isSiteFile(const std::string& name);
/// Whether a list or page may have this name: it is a file's on every system, and nothing else.
bool isSheetName(std::string_view name);
/// "console/pages/Hall 1.json"
std::string sheetFile(std::string_view kind, std::string_view name);
/// Of a text: the same for the same.
std::string versionOf(const std::string& text);

}  // namespace zunth::admin
