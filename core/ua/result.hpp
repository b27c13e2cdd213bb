#pragma once

#include "core/ua/status.hpp"

#include <string>
#include <utility>
#include <variant>

namespace zunth::ua {

/// What went wrong, for a person: the standard's StatusCode, the cause in words, and what to do about it.
/// `cause` is a sentence without its full stop; `next` is one command or action, or empty.
struct Error {
  StatusCode code = status::Bad;
  std::string cause;
  std::string next;

  /// "BadNodeIdUnknown: no node Hatchery/Intake/DF9", as messages print it.
  std::string text() const {
    return cause.empty() ? std::string(code.name()) : std::string(code.name()) + ": " + cause;
  }
};

/// A value, or the Error that stands in its place. Used for everything that the other side, a file or a device
/// can cause; exceptions are for what only a bug can.
template <class T>
class [[nodiscard]] Result {
 public:
  Result(T value) : state_(std::in_place_index<0>, std::move(value)) {}
  Result(Error error) : state_(std::in_place_index<1>, std::move(error)) {}
  Result(StatusCode code) : state_(std::in_place_index<1>, Error{code, {}, {}}) {}

  explicit operator bool() const { return state_.index() == 0; }
  T& operator*() { return std::get<0>(state_); }
  const T& operator*() const { return std::get<0>(state_); }
  T* operator->() { return &std::get<0>(state_); }
  const T* operator->() const { return &std::get<0>(state_); }
  const Error& error() const { return std::get<1>(state_); }
  /// Good, or the error's code.
  StatusCode code() const { return *this ? status::Good : error().code; }

 private:
  std::variant<T, Error> state_;
};

template <>
class [[nodiscard]] Result<void> {
 public:
  Result() = default;
  Result(Error error) : error_(std::move(error)) {}
  Result(StatusCode code) : error_{code, {}, {}} {}

  explicit operator bool() const { return !error_.code.isBad(); }
  const Error& error() const { return error_; }
  StatusCode code() const { return error_.code; }

 private:
  Error error_{status::Good, {}, {}};
};

}  // namespace zunth::ua
