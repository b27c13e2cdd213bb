#include "service/admin/state_list.hpp"

#include "service/admin/state_file.hpp"

#include <fstream>

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;

namespace {

constexpr int kListVersion = 1;

}  // namespace

Error StateList::damaged(const std::string& why) const {
  return {status::BadConfigurationError, fmt::format("{} can't be read: {}", file_.string(), why), mending_};
}

Result<Json> StateList::load() const {
  std::error_code failed;
  if (!std::filesystem::exists(file_, failed) && !failed) return Json::array();
  std::ifstream in(file_, std::ios::binary);
  if (!in) return damaged("the system doesn't open it");
  try {
    auto document = Json::parse(in);
    const int version = document.at("version").get<int>();
    if (version > kListVersion)
      return Error{status::BadNotSupported,
                   fmt::format("{} was written by a newer version of this program", file_.string()),
                   "start that one, or put an older copy of the file back"};
    if (version < kListVersion || !document.at(name_).is_array()) return damaged("it has no list of a known version");
    return std::move(document[name_]);
  } catch (const Json::exception& problem) {
    return damaged(problem.what());
  }
}

Result<void> StateList::save(Json list) const {
  Json document{{"version", kListVersion}};
  document[name_] = std::move(list);
  return replaceFile(file_, document.dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
}

}  // namespace zunth::admin
