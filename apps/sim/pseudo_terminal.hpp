#pragma once

#include <string>

namespace zunth::sim {

/// A serial line without a cable: what is opened at `path` is connected to this end.
class PseudoTerminal {
 public:
  /// Throws std::runtime_error when the path is taken by something else than an earlier one.
  explicit PseudoTerminal(std::string path);
  ~PseudoTerminal();
  PseudoTerminal(const PseudoTerminal&) = delete;

  int descriptor() const { return here_; }
  const std::string& path() const { return path_; }

 private:
  std::string path_;
  int here_ = -1, there_ = -1;  // the far end is kept open, so that a client may come and go
};

}  // namespace zunth::sim
