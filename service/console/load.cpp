#include "service/console/load.hpp"

#include <fstream>

#include <sys/resource.h>
#include <unistd.h>

namespace zunth::console {

namespace {

std::chrono::duration<double> processorTime() {
  rusage usage{};
  ::getrusage(RUSAGE_SELF, &usage);
  const auto seconds = [](const timeval& time) {
    return std::chrono::duration<double>(static_cast<double>(time.tv_sec) + static_cast<double>(time.tv_usec) / 1e6);
  };
  return seconds(usage.ru_utime) + seconds(usage.ru_stime);
}

std::size_t residentOctets() {
  std::ifstream pages("/proc/self/statm");
  std::size_t all = 0, resident = 0;
  pages >> all >> resident;
  return resident * static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
}

}  // namespace

Load::Figures Load::look(std::chrono::steady_clock::time_point now) {
  const std::chrono::duration<double> passed = now - seen_;
  if (passed >= std::chrono::seconds(1)) {
    const auto used = processorTime();
    // The first time there is nothing to compare with: since the process began, it says nothing of now.
    if (used_.count() > 0) processor_ = 100 * (used - used_) / passed;
    used_ = used;
    seen_ = now;
  }
  return {processor_, residentOctets()};
}

}  // namespace zunth::console
