#pragma once

#include "core/ua/json_type.hpp"
#include "core/ua/result.hpp"

#include <string>
#include <vector>

namespace zunth::cli {

using ua::Json;

enum class Format { Table, Json, Yaml, Csv };
/// Whether it keeps every value as what it is, for programs.
inline bool isStructured(Format format) { return format == Format::Json || format == Format::Yaml; }
/// As JSON or YAML, with the end of its last line. In a stream each is one line of JSON, or a document of YAML.
std::string document(const Json& json, Format format, bool isInStream = false);

/// What a command ends with (docs/commands.md).
enum ExitCode : int {
  kDone = 0,
  kNo = 1,
  kWrongUse = 2,
  kNoConnection = 3,
  kRefused = 4,
  kServerError = 5,
  kInterrupted = 130
};

/// One field of a record: as people read it, and as a script does.
struct Cell {
  std::string text;
  Json json;
  Cell(std::string t) : text(t), json(std::move(t)) {}
  Cell(const char* t) : Cell(std::string(t)) {}
  Cell(std::string t, Json j) : text(std::move(t)), json(std::move(j)) {}
};

/// Records with named fields, printed as aligned columns, JSON, YAML or CSV.
class Records {
 public:
  explicit Records(std::vector<std::string> columns) : columns_(std::move(columns)) {}
  void add(std::vector<Cell> row) { rows_.push_back(std::move(row)); }
  bool empty() const { return rows_.empty(); }
  /// On a terminal with a header and colours; piped as bare lines. `rightAligned`: columns of numbers.
  std::string text(Format format, bool onTerminal, const std::vector<std::size_t>& rightAligned = {}) const;

 private:
  std::vector<std::string> columns_;
  std::vector<std::vector<Cell>> rows_;
};

bool isTerminal();
/// Columns of the terminal that standard output goes to; none when nobody knows.
std::size_t terminalWidth();
/// Whether all that was printed has gone out; a full disk is told on standard error.
bool outputIsWritten();
/// Colours and emphasis; plain text when not on a terminal or NO_COLOR is set.
std::string dim(const std::string& text);
std::string bold(const std::string& text);
std::string accented(const std::string& text);
/// A status in its colour: words first, colour only beside them.
std::string coloured(ua::StatusCode status, const std::string& text);
/// Columns that a text takes on a terminal; escape sequences take none.
std::size_t width(const std::string& text);

/// "zunth: CAUSE (StatusCode)" and "try: NEXT" on standard error; the exit code that fits.
int fail(const ua::Error& error);
int wrongUse(const std::string& cause, const std::string& next = {});
ExitCode exitCodeOf(ua::StatusCode code);

/// A time of day on this machine's clock with milliseconds, the date before it when it isn't today.
std::string localTime(std::chrono::system_clock::time_point time);
/// "UTC+02:00", for a header over local times.
std::string localZone();

}  // namespace zunth::cli
