#pragma once

#include "service/net/tcp_link.hpp"

#include <array>
#include <list>

#include <boost/asio/write.hpp>

namespace zunth::test {

/// Passes octets on between clients and a server, until it is cut: then it drops both sides and takes nobody in.
class Relay {
 public:
  Relay(net::asio::io_context& loop, std::uint16_t serverPort)
      : loop_(loop), serverPort_(serverPort), acceptor_(loop, {net::asio::ip::address_v4::loopback(), 0}) {
    accept();
  }
  std::uint16_t port() const { return acceptor_.local_endpoint().port(); }
  void cut() {
    isCut_ = true;
    for (auto& pair : pairs_) pair->end();
    pairs_.clear();
  }
  void mend() { isCut_ = false; }

 private:
  struct Pair : std::enable_shared_from_this<Pair> {
    Pair(net::Tcp::socket c, net::Tcp::socket s) : client(std::move(c)), server(std::move(s)) {}
    void start() {
      pump(client, server, up);
      pump(server, client, down);
    }
    void end() {
      boost::system::error_code ignored;
      client.close(ignored);
      server.close(ignored);
    }
    void pump(net::Tcp::socket& from, net::Tcp::socket& to, std::array<char, 65536>& buffer) {
      from.async_read_some(net::asio::buffer(buffer), [self = shared_from_this(), &from, &to, &buffer](
                                                          boost::system::error_code error, std::size_t size) {
        if (error) return self->end();
        net::asio::async_write(to, net::asio::buffer(buffer, size),
                               [self, &from, &to, &buffer](boost::system::error_code e, std::size_t) {
                                 if (e) return self->end();
                                 self->pump(from, to, buffer);
                               });
      });
    }
    net::Tcp::socket client, server;
    std::array<char, 65536> up, down;
  };

  void accept() {
    acceptor_.async_accept([this](boost::system::error_code error, net::Tcp::socket client) {
      if (error) return;
      boost::system::error_code failed;
      net::Tcp::socket server(loop_);
      if (!isCut_) server.connect({net::asio::ip::address_v4::loopback(), serverPort_}, failed);
      if (!isCut_ && !failed) {
        pairs_.push_back(std::make_shared<Pair>(std::move(client), std::move(server)));
        pairs_.back()->start();
      }
      accept();
    });
  }

  net::asio::io_context& loop_;
  std::uint16_t serverPort_;
  net::Tcp::acceptor acceptor_;
  std::list<std::shared_ptr<Pair>> pairs_;
  bool isCut_ = false;
};

}  // namespace zunth::test
