#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace zunth::model {

/// A place in a file; lines and columns count from 1.
struct Place {
  std::string file;
  std::size_t line = 0, column = 0;
  std::size_t length = 1;  // of the text that is meant
};

/// Something to tell the author of a file.
struct Finding {
  enum class Severity { Error, Warning };
  Severity severity = Severity::Error;
  Place place;
  std::string message;  // what is wrong, in a sentence without its full stop
  std::string hint;     // what was expected or is near, or empty
};

class Findings {
 public:
  void error(Place place, std::string message, std::string hint = {}) {
    list_.push_back({Finding::Severity::Error, std::move(place), std::move(message), std::move(hint)});
  }
  void warn(Place place, std::string message, std::string hint = {}) {
    list_.push_back({Finding::Severity::Warning, std::move(place), std::move(message), std::move(hint)});
  }
  const std::vector<Finding>& list() const { return list_; }
  bool hasErrors() const;
  /// In the order of files and lines.
  void sort();

 private:
  std::vector<Finding> list_;
};

/// "model/hatchery.yaml:12:9: error: ...", the line of the file with the text underlined, and the hint.
/// `source` is the file's text; without it only the first line and the hint are given.
std::string format(const Finding& finding, std::string_view source);

}  // namespace zunth::model
