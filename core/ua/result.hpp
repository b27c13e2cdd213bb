#pragma once

#include "core/ua/status.hpp"

#include <concepts>
#include <new>
#include <string>
#include <utility>

namespace zunth::ua {

/// What went wrong, for a person: the standard's StatusCode, the cause in words, and what to do about it.
/// `cause` is a sentence without its full stop; `next` is one command or action, or empty.
struct Error {
  StatusCode code = status::Bad;
  std::string cause;
  std::string next;

  // Not in line: an error is made, moved and dropped in many places, and seldom.
  Error();
  Error(StatusCode code, std::string cause, std::string next);
  Error(const Error&);
  Error(Error&&) noexcept;
  Error& operator=(const Error&);
  Error& operator=(Error&&) noexcept;
  ~Error();

  /// "BadNodeIdUnknown: no node Hatchery/Intake/DF9", as messages print it.
  std::string text() const;
};

namespace detail {
[[noreturn]] void throwNoValue(const Error& error);
[[noreturn]] void throwNoError();
}  // namespace detail

/// A value, or the Error that stands in its place. Used for everything that the other side, a file or a device
/// can cause; exceptions are for what only a bug can, such as to take the one where the other is (std::logic_error).
template <class T>
class [[nodiscard]] Result {
 public:
  Result(T value) : isGood_(true) { new (&value_) T(std::move(value)); }
  Result(Error error) : isGood_(false) { new (&error_) Error(std::move(error)); }
  Result(StatusCode code) : isGood_(false) { new (&error_) Error(code, {}, {}); }
  Result(const Result& other) requires std::copy_constructible<T> : isGood_(other.isGood_) {
    if (isGood_)
      new (&value_) T(other.value_);
    else
      new (&error_) Error(other.error_);
  }
  Result(Result&& other) noexcept : isGood_(other.isGood_) { take(other); }
  Result& operator=(Result other) noexcept {
    drop();
    isGood_ = other.isGood_;
    take(other);
    return *this;
  }
  ~Result() { drop(); }

  explicit operator bool() const { return isGood_; }
  T& operator*() { return value(); }
  const T& operator*() const { return const_cast<Result*>(this)->value(); }
  T* operator->() { return &value(); }
  const T* operator->() const { return &const_cast<Result*>(this)->value(); }
  const Error& error() const {
    if (isGood_) detail::throwNoError();
    return error_;
  }
  /// Good, or the error's code.
  StatusCode code() const { return isGood_ ? status::Good : error_.code; }

 private:
  T& value() {
    if (!isGood_) detail::throwNoValue(error_);
    return value_;
  }
  void take(Result& other) {
    if (isGood_)
      new (&value_) T(std::move(other.value_));
    else
      new (&error_) Error(std::move(other.error_));
  }
  void drop() {
    if (isGood_)
      value_.~T();
    else
      error_.~Error();
  }

  bool isGood_;
  // Of its own making: std::variant costs the compiler two hundred functions for each type.
  union {
    T value_;
    Error error_;
  };
};

template <>
class [[nodiscard]] Result<void> {
 public:
  Result() { error_.code = status::Good; }
  Result(Error error) : error_(std::move(error)) {}
  Result(StatusCode code) : error_(code, {}, {}) {}

  explicit operator bool() const { return !error_.code.isBad(); }
  const Error& error() const { return error_; }
  StatusCode code() const { return error_.code; }

 private:
  Error error_;
};

}  // namespace zunth::ua
