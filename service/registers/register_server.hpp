#pragma once

#include "service/client/session.hpp"
#include "service/net/executor.hpp"
#include "service/registers/register_file.hpp"
#include "service/server/server.hpp"

namespace zunth::registers {

/// A file's registers at work: answers requests by reading and writing nodes, through a session for each host that may
/// do what the file's role may. On the services' executor.
class RegisterServer {
 public:
  struct Parts {
    net::Loops loops;
    server::Server& server;
    std::function<void()> served;  // work was done: something may be due
    std::function<std::uint32_t()> nextChannelId;
  };
  RegisterServer(Parts parts, RegisterFile file);

  /// Other registers, at the same address: who is connected stays.
  void adopt(RegisterFile file);
  /// Nothing is answered any more, and its session ends. Before the server goes.
  void close();
  /// The answer to a request of a host, or the exception in its place.
  client::Awaitable<ua::Bytes> answer(ua::Bytes pdu, std::string host);
  const RegisterFile& file() const { return file_; }
  std::uint64_t requests() const { return requests_; }
  std::uint64_t refused() const { return refused_; }

 private:
  using Session = std::shared_ptr<client::Session>;
  client::Awaitable<ua::Bytes> carryOut(const Request& request, std::string host);
  client::Awaitable<Outcome<std::vector<std::uint16_t>>> read(Span span, Session session);
  client::Awaitable<std::optional<Exception>> write(Span span, std::vector<std::uint16_t> words, std::uint16_t mask,
                                                    Session session);
  client::Awaitable<std::optional<Exception>> writeMasked(const Request& request, Session session);
  client::Awaitable<Session> sessionOf(std::string host);
  client::Awaitable<ua::Result<Session>> openSession(std::string host);
  void endSessions(const char* why);
  void tell(const std::string& what, const ua::Error& why);

  Parts parts_;
  RegisterFile file_;
  std::shared_ptr<const RegisterMap> map_;  // another when the file changes; what is under way keeps its own
  std::shared_ptr<const server::Account> account_;
  struct Host {
    Session session;
    ua::Instant lastAsked;
  };
  std::map<std::string, Host> hosts_;
  std::set<std::string> told_;  // what the log has been told once
  std::uint64_t requests_ = 0, refused_ = 0;
  bool isOpen_ = true;
};

}  // namespace zunth::registers
