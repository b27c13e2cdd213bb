#include "service/device/serial_port.hpp"

#include "core/ua/text.hpp"
#include "service/device/conversion.hpp"

#include <cerrno>
#include <cstring>
#include <map>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <termios.h>
#include <unistd.h>

namespace zunth::device {

using namespace ua;
using model::Findings;
using model::Text;

namespace {

const std::map<int, speed_t> kSpeeds{{300, B300},     {600, B600},       {1200, B1200},    {2400, B2400},
                                     {4800, B4800},   {9600, B9600},     {19200, B19200},  {38400, B38400},
                                     {57600, B57600}, {115200, B115200}, {230400, B230400}};

/// One has no parity, and refuses to be asked for it a second time.
bool isPseudoTerminal(int port) {
  struct stat what {};
  return ::fstat(port, &what) == 0 && major(what.st_rdev) >= 136 && major(what.st_rdev) <= 143;
}

Error noPort(const SerialSettings& settings) {
  return {status::BadNoCommunication, fmt::format("opening {} failed: {}", settings.path, std::strerror(errno)),
          "look whether the port is there and may be used: ls -l " + settings.path};
}

}  // namespace

std::string SerialSettings::text() const { return fmt::format("{} {} {}{}{}", path, baud, dataBits, parity, stopBits); }

SerialSettings parseSerial(const Text& text, const std::filesystem::path& folder, Findings& findings) {
  SerialSettings out;
  const auto words = wordsOf(text);
  const auto fail = [&](const Text& at, std::string message, const char* hint) {
    findings.error(at.place, std::move(message), hint);
    return SerialSettings();
  };
  constexpr const char* kHelp = "as in: /dev/ttyS0 19200 8E1";
  if (words.empty()) return fail(text, "no serial port is named", kHelp);
  out.path = (folder / words[0].text).string();
  for (std::size_t i = 1; i < words.size(); ++i) {
    const std::string& word = words[i].text;
    const auto baud = parse(word, BuiltInType::UInt32);
    if (baud && kSpeeds.contains(static_cast<int>(*baud->get<std::uint32_t>()))) {
      out.baud = static_cast<int>(*baud->get<std::uint32_t>());
    } else if (word.size() == 3 && (word[0] == '7' || word[0] == '8') &&
               std::string_view("NEO").find(word[1]) != std::string_view::npos && (word[2] == '1' || word[2] == '2')) {
      out.dataBits = word[0] - '0';
      out.parity = word[1];
      out.stopBits = word[2] - '0';
    } else {
      return fail(words[i], fmt::format("'{}' is neither a speed nor a frame", word), kHelp);
    }
  }
  return out;
}

Result<int> openSerial(const SerialSettings& settings) {
  const int port = ::open(settings.path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
  if (port < 0) return noPort(settings);
  // Two who speak on one line would hear each other's answers.
  if (::flock(port, LOCK_EX | LOCK_NB) != 0) {
    const bool isTaken = errno == EWOULDBLOCK;
    const Error error =
        isTaken
            ? Error{status::BadResourceUnavailable,
                    fmt::format("{} is in use by another program, or by another device of the service", settings.path),
                    "where a service has it, look there: zunth device points NAME"}
            : noPort(settings);
    ::close(port);
    return error;
  }
  termios how{};
  if (::tcgetattr(port, &how) != 0) {
    const Error error = noPort(settings);
    ::close(port);
    return error;
  }
  ::cfmakeraw(&how);
  const speed_t speed = kSpeeds.at(settings.baud);
  ::cfsetispeed(&how, speed);
  ::cfsetospeed(&how, speed);
  how.c_cflag &= ~static_cast<tcflag_t>(CSIZE | CSTOPB | PARENB | PARODD | CRTSCTS);
  how.c_cflag |= CLOCAL | CREAD | (settings.dataBits == 7 ? CS7 : CS8);
  if (settings.stopBits == 2) how.c_cflag |= CSTOPB;
  if (settings.parity != 'N') how.c_cflag |= PARENB;
  if (settings.parity == 'O') how.c_cflag |= PARODD;
  if (::tcsetattr(port, TCSANOW, &how) != 0 && !isPseudoTerminal(port)) {
    const Error error = noPort(settings);
    ::close(port);
    return error;
  }
  ::tcflush(port, TCIOFLUSH);
  return port;
}

}  // namespace zunth::device
