#include "service/admin/own_certificate.hpp"

#include "core/channel/url.hpp"

#include <algorithm>

#include <boost/asio/ip/host_name.hpp>

namespace zunth::admin {

secure::Certificate::Wish usualCertificate(const server::Settings& settings, std::chrono::hours validity) {
  std::vector<std::string> hosts{boost::asio::ip::host_name(), "localhost", "127.0.0.1"};
  for (const auto& text : settings.endpointUrls)
    if (const auto url = channel::Url::parse(text); url && std::ranges::find(hosts, url->host) == hosts.end())
      hosts.push_back(url->host);
  const auto now = std::chrono::system_clock::now();
  // Clocks that are a little behind take it, too.
  return {settings.applicationName,
          {},
          settings.applicationUri,
          std::move(hosts),
          ua::DateTime::from(now - std::chrono::hours(1)),
          ua::DateTime::from(now + validity)};
}

}  // namespace zunth::admin
