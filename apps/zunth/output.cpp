#include "apps/zunth/output.hpp"

#include "core/ua/foreign.hpp"

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <ctime>
#include <set>

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <yaml-cpp/yaml.h>

namespace zunth::cli {

using namespace ua;

namespace {

bool hasColour() {
  static const bool yes = isTerminal() && !std::getenv("NO_COLOR");
  return yes;
}
std::string styled(const char* code, const std::string& text) {
  return hasColour() && !text.empty() ? fmt::format("\x1b[{}m{}\x1b[0m", code, text) : text;
}

/// A cell as a terminal may have it: our own colours, and nothing else that somebody else's text could do there.
std::string harmless(const std::string& text) {
  static constexpr std::string_view kOurs[] = {"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[33m", "\x1b[1;31m"};
  std::string out;
  std::string_view rest = text;
  while (!rest.empty()) {
    const auto* ours = std::ranges::find_if(kOurs, [&](std::string_view each) { return rest.starts_with(each); });
    const std::size_t size = ours != std::end(kOurs) ? ours->size() : std::min(rest.find('\x1b', 1), rest.size());
    out += ours != std::end(kOurs) ? std::string(*ours) : shown(rest.substr(0, size), std::string::npos);
    rest.remove_prefix(size);
  }
  return out;
}

std::string csvField(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

std::string csvOf(const Cell& cell) {
  return csvField(cell.json.is_string() ? cell.json.get<std::string>()
                  : cell.json.is_null() ? ""
                                        : cell.json.dump(-1, ' ', false, Json::error_handler_t::replace));
}

}  // namespace

bool isTerminal() {
  static const bool yes = ::isatty(STDOUT_FILENO) != 0;
  return yes;
}
std::string dim(const std::string& text) { return styled("2", text); }
std::string bold(const std::string& text) { return styled("1", text); }
std::string accented(const std::string& text) { return styled("36", text); }
std::string coloured(StatusCode status, const std::string& text) {
  return status.isGood() ? text : styled(status.isBad() ? "1;31" : "33", text);
}

std::size_t terminalWidth() {
  winsize size{};
  return ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 ? size.ws_col : 0;
}

namespace {

/// The text in so many columns at most, the last one an ellipsis when it is cut; its escape sequences stay.
std::string cutTo(const std::string& text, std::size_t columns) {
  if (width(text) <= columns) return text;
  std::string out;
  std::size_t used = 0;
  bool isColoured = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\x1b') {
      const auto end = std::min(text.find('m', i), text.size() - 1);
      out += text.substr(i, end - i + 1);
      i = end;
      isColoured = true;
      continue;
    }
    const bool isBegin = (static_cast<unsigned char>(text[i]) & 0xC0) != 0x80;
    if (isBegin && ++used == columns) break;
    out += text[i];
  }
  return out + "…" + (isColoured ? "\x1b[0m" : "");
}

/// Makes the widest columns narrower until a line fits; what is cut is a `show` or `--output json` away.
void fit(std::vector<std::size_t>& widths, std::size_t room) {
  constexpr std::size_t kLeast = 12, kBetween = 2;
  std::size_t needed = kBetween * (widths.size() - 1);
  for (const auto each : widths) needed += each;
  while (needed > room) {
    const auto widest = std::ranges::max_element(widths);
    if (*widest <= kLeast) return;
    --*widest;
    --needed;
  }
}

}  // namespace

std::size_t width(const std::string& text) {
  std::size_t columns = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\x1b') {
      while (i < text.size() && text[i] != 'm') ++i;
      continue;
    }
    if ((static_cast<unsigned char>(text[i]) & 0xC0) != 0x80) ++columns;
  }
  return columns;
}

namespace {

/// Text that YAML would take for something else, or that has signs of its own, is quoted.
bool isPlain(const std::string& text) {
  static const std::set<std::string> kOthers{"true", "false", "yes", "no", "on", "off", "null", "y", "n"};
  std::string lower = text;
  std::ranges::transform(lower, lower.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  const auto isFine = [](unsigned char c) { return std::isalnum(c) || std::strchr("_-./ ", c) || c >= 0x80; };
  return !text.empty() && std::isalpha(static_cast<unsigned char>(text.front())) && text.back() != ' ' &&
         std::ranges::all_of(text, isFine) && !kOthers.contains(lower);
}

void emit(YAML::Emitter& out, const Json& json) {
  switch (json.type()) {
    case Json::value_t::object:
      if (json.empty()) out << YAML::Flow;
      out << YAML::BeginMap;
      for (const auto& [key, value] : json.items()) {
        out << YAML::Key << (isPlain(key) ? YAML::Auto : YAML::DoubleQuoted) << key << YAML::Value;
        emit(out, value);
      }
      out << YAML::EndMap;
      return;
    case Json::value_t::array:
      if (json.empty() || std::ranges::none_of(json, [](const Json& each) { return each.is_structured(); }))
        out << YAML::Flow;
      out << YAML::BeginSeq;
      for (const auto& each : json) emit(out, each);
      out << YAML::EndSeq;
      return;
    case Json::value_t::string: {
      const auto text = json.get<std::string>();
      out << (isPlain(text) ? YAML::Auto : YAML::DoubleQuoted) << text;
      return;
    }
    case Json::value_t::null: out << YAML::Null; return;
    default: out << json.dump();  // numbers and truth are the same in both
  }
}

}  // namespace

std::string document(const Json& json, Format format, bool isInStream) {
  if (format != Format::Yaml) return json.dump(isInStream ? -1 : 2, ' ', false, Json::error_handler_t::replace) + "\n";
  YAML::Emitter out;
  emit(out, Json::parse(json.dump(-1, ' ', false, Json::error_handler_t::replace)));
  return (isInStream ? "---\n" : "") + std::string(out.c_str()) + "\n";
}

std::string Records::text(Format format, bool onTerminal, const std::vector<std::size_t>& rightAligned) const {
  std::string out;
  if (isStructured(format)) {
    Json list = Json::array();
    for (const auto& row : rows_) {
      Json record = Json::object();
      for (std::size_t c = 0; c < columns_.size(); ++c) record[columns_[c]] = row[c].json;
      list.push_back(std::move(record));
    }
    return document(list, format);
  }
  if (format == Format::Csv) {
    for (std::size_t c = 0; c < columns_.size(); ++c) out += (c ? "," : "") + csvField(columns_[c]);
    out += "\n";
    for (const auto& row : rows_) {
      for (std::size_t c = 0; c < columns_.size(); ++c) out += (c ? "," : "") + csvOf(row[c]);
      out += "\n";
    }
    return out;
  }
  std::vector<std::size_t> widths(columns_.size(), 0);
  std::vector<std::vector<std::string>> cells;
  for (const auto& row : rows_) {
    auto& made = cells.emplace_back();
    for (const auto& cell : row) made.push_back(harmless(cell.text));
  }
  for (std::size_t c = 0; c < columns_.size(); ++c) {
    if (onTerminal) widths[c] = columns_[c].size();
    for (const auto& row : cells) widths[c] = std::max(widths[c], width(row[c]));
  }
  // Two columns are a name and what is said of it, and that is shown whole.
  if (const std::size_t room = onTerminal && columns_.size() > 2 ? terminalWidth() : 0; room > 0) {
    fit(widths, room);
    for (auto& row : cells)
      for (std::size_t c = 0; c < row.size(); ++c) row[c] = cutTo(row[c], widths[c]);
  }
  auto line = [&](auto&& textOf) {
    std::string text;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      const std::string cell = textOf(c);
      const std::string padding(widths[c] - std::min(widths[c], width(cell)), ' ');
      const bool right = std::ranges::find(rightAligned, c) != rightAligned.end();
      text += (c ? "  " : "") + (right ? padding + cell : cell + padding);
    }
    text.erase(text.find_last_not_of(' ') + 1);
    return text + "\n";
  };
  if (onTerminal && !rows_.empty()) {
    out += line([&](std::size_t c) {
      std::string name = columns_[c];
      std::ranges::transform(name, name.begin(), [](unsigned char ch) { return static_cast<char>(std::toupper(ch)); });
      return dim(name);
    });
  }
  for (const auto& row : cells) out += line([&](std::size_t c) { return row[c]; });
  return out;
}

bool outputIsWritten() {
  errno = 0;
  if (std::fflush(stdout) == 0 && !std::ferror(stdout)) return true;
  std::fprintf(stderr, "zunth: standard output can't be written: %s\n",
               errno ? std::strerror(errno) : "it is incomplete");
  return false;
}

ExitCode exitCodeOf(StatusCode code) {
  if (code.isGood()) return kDone;
  const auto any = [code](std::initializer_list<StatusCode> codes) {
    return std::ranges::any_of(codes, [code](StatusCode c) { return code.condition() == c; });
  };
  if (any({status::BadConnectionRejected, status::BadConnectionClosed, status::BadTcpEndpointUrlInvalid,
           status::BadTimeout, status::BadNotConnected, status::BadSecureChannelClosed, status::BadCommunicationError,
           status::BadServerHalted, status::BadTcpMessageTypeInvalid}))
    return kNoConnection;
  if (any({status::BadNodeIdUnknown,
           status::BadNodeIdInvalid,
           status::BadNoMatch,
           status::BadTypeMismatch,
           status::BadOutOfRange,
           status::BadAttributeIdInvalid,
           status::BadArgumentsMissing,
           status::BadTooManyArguments,
           status::BadInvalidArgument,
           status::BadMethodInvalid,
           status::BadSyntaxError,
           status::BadIndexRangeInvalid,
           status::BadIndexRangeNoData,
           status::BadTypeDefinitionInvalid,
           status::BadNodeIdExists,
           status::BadBrowseNameDuplicated,
           status::BadReferenceTypeIdInvalid,
           status::BadReferenceNotAllowed,
           status::BadDuplicateReferenceNotAllowed,
           status::BadParentNodeIdInvalid,
           status::BadSubscriptionIdInvalid,
           status::BadNotSupported,
           status::BadContentFilterInvalid}))
    return kWrongUse;
  const auto name = code.name();
  if (any({status::BadNotWritable, status::BadNotReadable, status::BadUserAccessDenied, status::BadNoDeleteRights}) ||
      name.starts_with("BadSecurity") || name.starts_with("BadIdentity") || name.starts_with("BadCertificate"))
    return kRefused;
  if (any({status::BadNoCommunication, status::BadDeviceFailure, status::BadResourceUnavailable})) return kNo;
  return kServerError;
}

namespace {

/// What usually helps, where nobody who knows better said so.
std::string usualNext(StatusCode code) {
  switch (code.value) {
    case status::BadUserAccessDenied.value: return "as another user: --user NAME; or on the server: zunth user role";
    case status::BadIdentityTokenRejected.value: return "log in: --user NAME";
    case status::BadSecurityModeInsufficient.value: return "the same with --security encrypt";
    default: return {};
  }
}

}  // namespace

int fail(const Error& error) {
  const auto name = error.code.name();
  if (error.cause.empty())
    std::fprintf(stderr, "zunth: the server answers %.*s\n", static_cast<int>(name.size()), name.data());
  else
    std::fprintf(stderr, "zunth: %s (%.*s)\n", error.cause.c_str(), static_cast<int>(name.size()), name.data());
  const std::string next = error.next.empty() ? usualNext(error.code) : error.next;
  if (!next.empty()) std::fprintf(stderr, "try: %s\n", next.c_str());
  return exitCodeOf(error.code);
}

int wrongUse(const std::string& cause, const std::string& next) {
  std::fprintf(stderr, "zunth: %s\n", cause.c_str());
  if (!next.empty()) std::fprintf(stderr, "try: %s\n", next.c_str());
  return kWrongUse;
}

std::string localTime(std::chrono::system_clock::time_point time) {
  const auto seconds = std::chrono::floor<std::chrono::seconds>(time);
  const auto ms = std::chrono::duration_cast<std::chrono::milliseconds>(time - seconds).count();
  const std::tm local = fmt::localtime(std::chrono::system_clock::to_time_t(seconds));
  const std::tm today = fmt::localtime(std::time(nullptr));
  const bool isToday = local.tm_yday == today.tm_yday && local.tm_year == today.tm_year;
  return fmt::format("{}{:%H:%M:%S}.{:03}", isToday ? "" : fmt::format("{:%Y-%m-%d} ", local), local, ms);
}

std::string localZone() {
  const std::tm local = fmt::localtime(std::time(nullptr));
  const long minutes = local.tm_gmtoff / 60;
  return fmt::format("UTC{}{:02}:{:02}", minutes < 0 ? '-' : '+', std::labs(minutes) / 60, std::labs(minutes) % 60);
}

}  // namespace zunth::cli
