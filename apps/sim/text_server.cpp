#include "apps/sim/text_server.hpp"

#include "apps/sim/listening.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstring>
#include <vector>

#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::sim {

namespace {

constexpr int kTurnMs = 50, kSayMs = 100;

/// One who has gone hears nothing, and that is all.
void tell(int client, const std::string& text) {
  const std::string line = text + "\r\n";
  (void)!::write(client, line.data(), line.size());
}

}  // namespace

void Scale::step(double seconds) {
  const double before = weight_;
  weight_ -= 0.35 * seconds;
  if (weight_ < 20) {
    weight_ = 500;
    restless_ = 3;
  }
  restless_ = std::max(0.0, restless_ - seconds);
  if (std::abs(weight_ - before) > 50) restless_ = 3;
}

std::string Scale::text() const {
  return fmt::format("{},{},{:>9.2f}kg", restless_ > 0 ? "US" : "ST", tare_ != 0 ? "NT" : "GS", weight_ - tare_);
}

std::string Scale::answer(const std::string& line) {
  if (line == "T") tare_ = weight_;
  if (line == "Z") tare_ = 0;
  return line == "W" ? text() : std::string();
}

std::string PhMeter::answer(const std::string& line) {
  if (line != "PH?") return "?";
  const std::string text =
      fmt::format("PH {:.2f} T {:.1f} *", 7.3 + 0.15 * std::sin(age_ / 40), 11.4 + 0.3 * std::sin(age_ / 90));
  unsigned sum = 0;
  for (const char c : text) sum += static_cast<unsigned char>(c);
  return fmt::format("{}{:02X}", text, sum & 0xFF);
}

TextServer::TextServer(std::unique_ptr<Meter> meter, Settings settings)
    : meter_(std::move(meter)), settings_(std::move(settings)) {}

TextServer::~TextServer() {
  if (listening_ >= 0) ::close(listening_);
}

std::string TextServer::open() {
  if (!settings_.line.empty()) {
    terminal_ = std::make_unique<PseudoTerminal>(settings_.line);
    return settings_.line;
  }
  listening_ = listenAt(settings_.host, settings_.port);
  return fmt::format("{}:{}", settings_.host, settings_.port);
}

/// False when the client has left.
bool TextServer::serve(Client& client) {
  char piece[256];
  const auto size = ::read(client.descriptor, piece, sizeof piece);
  if (size <= 0) return terminal_ != nullptr;
  client.came.append(piece, static_cast<std::size_t>(size));
  for (auto end = client.came.find('\r'); end != std::string::npos; end = client.came.find('\r')) {
    std::string line = client.came.substr(0, end);
    client.came.erase(0, end + 1);
    line.erase(0, line.find_first_not_of("\n"));
    if (const std::string answer = meter_->answer(line); !answer.empty()) tell(client.descriptor, answer);
  }
  if (client.came.size() > 1024) client.came.clear();
  return true;
}

void TextServer::run() {
  using Clock = std::chrono::steady_clock;
  std::vector<Client> clients;
  if (terminal_) clients.push_back({terminal_->descriptor(), {}});
  auto last = Clock::now(), said = last;
  while (!stopping_) {
    std::vector<pollfd> sockets{{listening_, POLLIN, 0}};
    for (const auto& client : clients) sockets.push_back({client.descriptor, POLLIN, 0});
    ::poll(sockets.data(), sockets.size(), kTurnMs);
    const auto now = Clock::now();
    meter_->step(std::chrono::duration<double>(now - last).count() * settings_.speedup);
    last = now;
    for (std::size_t i = clients.size(); i-- > 0;) {
      if (!sockets[i + 1].revents || serve(clients[i])) continue;
      ::close(clients[i].descriptor);
      clients.erase(clients.begin() + static_cast<std::ptrdiff_t>(i));
    }
    if (sockets[0].revents & POLLIN)
      if (const int client = ::accept(listening_, nullptr, nullptr); client >= 0) clients.push_back({client, {}});
    if (now - said < std::chrono::milliseconds(kSayMs)) continue;
    said = now;
    if (const std::string text = meter_->say(); !text.empty())
      for (const auto& client : clients) tell(client.descriptor, text);
  }
  if (terminal_) return;
  for (const auto& client : clients) ::close(client.descriptor);
}

}  // namespace zunth::sim
