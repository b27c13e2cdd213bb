#include "core/ua/result.hpp"

#include <stdexcept>

namespace zunth::ua {

Error::Error() = default;
Error::Error(StatusCode c, std::string why, std::string then) : code(c), cause(std::move(why)), next(std::move(then)) {}
Error::Error(const Error&) = default;
Error::Error(Error&&) noexcept = default;
Error& Error::operator=(const Error&) = default;
Error& Error::operator=(Error&&) noexcept = default;
Error::~Error() = default;

std::string Error::text() const {
  return cause.empty() ? std::string(code.name()) : std::string(code.name()) + ": " + cause;
}

void detail::throwNoValue(const Error& error) { throw std::logic_error("there is no value: " + error.text()); }
void detail::throwNoError() { throw std::logic_error("there is a value, and no error"); }

}  // namespace zunth::ua
