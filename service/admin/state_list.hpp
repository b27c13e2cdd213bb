#pragma once

#include "core/ua/json_type.hpp"
#include "core/ua/result.hpp"

#include <filesystem>
#include <string>

namespace zunth::admin {

/// A list that is kept as JSON under state/, as {"version": 1, NAME: [...]}. What is damaged, or was written by a newer
/// version of the service, is an error that names the file; nobody writes over it.
class StateList {
 public:
  /// `mending` is what a person does about a file that can't be read.
  StateList(std::filesystem::path file, std::string name, std::string mending)
      : file_(std::move(file)), name_(std::move(name)), mending_(std::move(mending)) {}

  /// Empty when there is no file; BadConfigurationError, BadNotSupported.
  ua::Result<ua::Json> load() const;
  /// The errors of replaceFile().
  ua::Result<void> save(ua::Json list) const;
  /// What load() answers for a list whose entries make no sense.
  ua::Error damaged(const std::string& why) const;

 private:
  std::filesystem::path file_;
  std::string name_;
  std::string mending_;
};

}  // namespace zunth::admin
