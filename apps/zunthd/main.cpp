// zunthd: serves one site.
#include "apps/arguments/verb.hpp"
#include "service/admin/bounded_log.hpp"
#include "service/admin/running_site.hpp"
#include "service/admin/site_lock.hpp"
#include "service/console/console.hpp"
#include "service/logs/logs.hpp"
#include "service/net/allocation.hpp"

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <thread>

#include <boost/asio/signal_set.hpp>
#include <spdlog/sinks/dist_sink.h>
#include <spdlog/sinks/stdout_color_sinks.h>
#include <spdlog/spdlog.h>
#include <sys/resource.h>

namespace {

/// As many descriptors as the system gives: each connection takes one, and files some more.
void takeDescriptors() {
  constexpr rlim_t kEnough = 65'536;
  rlimit limit{};
  if (getrlimit(RLIMIT_NOFILE, &limit) != 0) return;
  limit.rlim_cur = std::max(limit.rlim_cur, std::min(limit.rlim_max, kEnough));
  setrlimit(RLIMIT_NOFILE, &limit);
}

int serve(const std::string& folder, std::shared_ptr<zunth::admin::RunningSite::KeptLog> kept) {
  auto site = zunth::admin::loadSite(folder);
  for (const auto& line : site.report()) std::fprintf(stderr, "%s\n", line.c_str());
  if (!site.isSound()) return 1;
  if (site.settings.allowUnsecured)
    spdlog::warn("connections may be neither signed nor encrypted{}",
                 site.settings.allowAnonymous ? ", and anyone may connect" : "");

  const auto told = [](const zunth::ua::Error& error) {
    std::fprintf(stderr, "zunthd: %s\n", error.cause.c_str());
    if (!error.next.empty()) std::fprintf(stderr, "try: %s\n", error.next.c_str());
    return 3;
  };
  const auto lock = zunth::admin::SiteLock::take(folder);
  if (!lock) return told(lock.error());
  const unsigned threads = site.loops ? site.loops : std::max(2u, std::thread::hardware_concurrency());
  zunth::net::asio::io_context loop(static_cast<int>(threads));
  const zunth::net::Loops loops(loop);
  zunth::admin::RunningSite running(loops, std::move(site));
  running.showLog(std::move(kept));
  auto urls = running.start();
  if (!urls) return told(urls.error());
  zunth::console::Console console(loops, running);
  // Clients are served, whether or not browsers are.
  const auto page = console.open();
  if (!page) spdlog::error("there is no console: {}; {}", page.error().cause, page.error().next);
  zunth::net::asio::signal_set signals(loops.services(), SIGINT, SIGTERM);
  signals.async_wait([&](const boost::system::error_code&, int) {
    console.close();
    running.stop();
    loop.stop();
  });
  for (const auto& url : *urls) std::printf("serving %s at %s\n", folder.c_str(), url.c_str());
  if (page && !page->empty()) std::printf("console at %s\n", page->c_str());
  if (page && !page->empty() && console.awaitsFirstUser())
    std::printf("to make the first administrator there, the code is %s\n", console.firstCode().c_str());
  std::fflush(stdout);
  {
    std::vector<std::jthread> others;
    for (unsigned i = 1; i < threads; ++i) others.emplace_back([&loop] { loop.run(); });
    loop.run();
  }
  // A moment for the goodbyes to leave; returns as soon as they have.
  loop.restart();
  loop.run_for(std::chrono::milliseconds(300));
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  zunth::net::keepFreedMemory();
  using spdlog::level::level_enum;
  const zunth::cli::CommandLine commandLine(
      "Serves a site: its address space to OPC UA clients, its points from devices.\nExample: zunthd demo/hatchery",
      "zunthd", "Exit codes: 0 done, 1 the site has mistakes, 2 wrong use, 3 it can't listen.");
  std::string folder;
  level_enum level = level_enum::info;
  const auto top = commandLine.top();
  top.option("SITE", folder, "Folder with site.yaml, model/, devices/ and bindings/").required();
  top.oneOf<level_enum>("--log", level,
                        {{"debug", level_enum::debug},
                         {"info", level_enum::info},
                         {"warn", level_enum::warn},
                         {"error", level_enum::err},
                         {"off", level_enum::off}},
                        "How much to tell on standard error: debug, info, warn, error, off; info when left out");
  const auto reading = commandLine.read(argc, argv);
  if (!reading.mistake.empty()) {
    std::fprintf(stderr, "%s\nRun with --help for more information.\n", reading.mistake.c_str());
    return 2;
  }
  // Help was shown.
  if (folder.empty()) return 0;
  const auto kept = std::make_shared<zunth::admin::RunningSite::KeptLog>(1'000);
  const auto both = std::make_shared<spdlog::sinks::dist_sink_mt>();
  both->add_sink(std::make_shared<spdlog::sinks::stderr_color_sink_mt>());
  both->add_sink(kept);
  spdlog::set_default_logger(
      std::make_shared<spdlog::logger>("zunthd", std::make_shared<zunth::admin::BoundedLog>(both)));
  takeDescriptors();
  // A file that may not grow is a write that fails, and nothing to die of.
  std::signal(SIGXFSZ, SIG_IGN);
  spdlog::set_level(level);
  spdlog::set_pattern("%Y-%m-%d %H:%M:%S.%e %^%l%$ %v");
  return serve(folder, kept);
}
