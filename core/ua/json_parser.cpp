#include "core/ua/json_parser.hpp"

#include <vector>

#include <fmt/format.h>

namespace zunth::ua {

namespace {

/// Builds the tree from the parser's events, which comes without recursion; an error stops it.
class Builder : public nlohmann::json_sax<Json> {
 public:
  explicit Builder(const JsonLimits& limits) : limits_(limits) {}

  bool null() override { return add(nullptr); }
  bool boolean(bool v) override { return add(v); }
  bool number_integer(std::int64_t v) override { return add(v); }
  bool number_unsigned(std::uint64_t v) override { return add(v); }
  bool number_float(double v, const std::string&) override { return add(v); }
  bool string(std::string& v) override { return add(std::move(v)); }
  bool binary(Json::binary_t&) override { return false; }
  bool start_object(std::size_t) override { return open(Json::object()); }
  bool start_array(std::size_t) override { return open(Json::array()); }
  bool end_object() override { return close(); }
  bool end_array() override { return close(); }
  bool key(std::string& name) override {
    Json& object = *open_.back();
    if (object.size() >= limits_.members) return refuse("an object has too many members");
    // The last one counts where a name comes twice.
    at_ = &object[std::move(name)];
    return true;
  }
  bool parse_error(std::size_t position, const std::string&, const nlohmann::detail::exception&) override {
    if (!error.code.isBad())
      error = {status::BadDecodingError, fmt::format("the text is no JSON (at octet {})", position), {}};
    return false;
  }

  Json root;
  Error error{status::Good, {}, {}};

 private:
  bool refuse(const char* why) {
    error = {status::BadEncodingLimitsExceeded, std::string("the JSON is refused: ") + why, {}};
    return false;
  }
  Json* place(Json value) {
    if (++values_ > limits_.values) return refuse("it has too many values"), nullptr;
    Json* const to = open_.empty() ? &root : open_.back()->is_object() ? at_ : &open_.back()->emplace_back(nullptr);
    *to = std::move(value);
    return to;
  }
  bool add(Json value) { return place(std::move(value)) != nullptr; }
  bool open(Json container) {
    if (open_.size() >= limits_.depth) return refuse("it nests too deeply");
    Json* const opened = place(std::move(container));
    if (opened) open_.push_back(opened);
    return opened != nullptr;
  }
  bool close() {
    open_.pop_back();
    return true;
  }

  JsonLimits limits_;
  std::vector<Json*> open_;  // from the outermost; those within one stay where they are while it is open
  Json* at_ = nullptr;       // the member whose value comes next
  std::size_t values_ = 0;
};

}  // namespace

Result<Json> parseJson(std::string_view text, const JsonLimits& limits) {
  Builder builder(limits);
  if (!Json::sax_parse(text, &builder)) return builder.error;
  return std::move(builder.root);
}

std::string describe(const Json& json) {
  if (json.is_object()) return json.empty() ? "{}" : "an object";
  if (json.is_array()) return json.empty() ? "[]" : fmt::format("a list of {}", json.size());
  if (!json.is_string()) return json.dump();
  const auto& text = json.get_ref<const std::string&>();
  const bool isCut = text.size() > 40;
  return Json(text.substr(0, 40)).dump(-1, ' ', false, Json::error_handler_t::replace) + (isCut ? "..." : "");
}

}  // namespace zunth::ua
