#pragma once

#include "core/secure/certificate.hpp"
#include "service/net/tcp_link.hpp"

#include <functional>

#include <boost/asio/ssl/context.hpp>
#include <boost/asio/ssl/stream.hpp>

/// TLS below opc.wss and opc.https: with the same certificates, and the same judgement of them, as secure channels.
namespace zunth::net {

using TlsContext = asio::ssl::context;
using TlsStream = asio::ssl::stream<Tcp::socket>;

/// A server that shows this certificate.
std::shared_ptr<TlsContext> tlsServer(const secure::Identity& identity);
/// A client. What `trust` says of the server's certificate (with its chain) decides; it is called while the handshake
/// runs, and its error is kept in `refused`.
std::shared_ptr<TlsContext> tlsClient(std::function<ua::Result<void>(const ua::ByteString& chain)> trust,
                                      std::shared_ptr<ua::Error> refused);

}  // namespace zunth::net
