#pragma once

#include "core/channel/client_channel.hpp"
#include "core/channel/url.hpp"

#include <functional>
#include <memory>
#include <string>

namespace zunth::client {

/// How a client wants its connections secured, and whom it trusts.
struct Security {
  /// Auto: unsecured on this machine where that is offered, else the strongest that is.
  enum class Wish { Auto, None, Sign, Encrypt };
  Wish wish = Wish::Auto;
  std::string policy;  // a policy's name; empty for the strongest that is offered

  /// This client's certificate and key of this kind, asked for when a secured connection is to be opened.
  std::function<ua::Result<std::shared_ptr<const secure::Identity>>(secure::KeyKind kind)> identity;
  /// Whether the server's certificate (with its chain) is accepted; why not, otherwise.
  std::function<ua::Result<void>(const ua::ByteString& chain, const std::string& host,
                                 const std::string& applicationUri)>
      trust;
};

/// What a connection is opened with; policy None by default.
struct ChannelSecurityChoice {
  const secure::Policy* policy = nullptr;
  ua::MessageSecurityMode mode = ua::MessageSecurityMode::None;
  std::shared_ptr<const secure::Identity> identity;
  std::optional<secure::Certificate> server;
  ua::List<ua::EndpointDescription> offered;  // when the server was asked; to be compared with what a session is told
  /// Over TLS, whether the certificate that the server shows there is accepted; nobody's is without it.
  std::function<ua::Result<void>(const ua::ByteString& chain)> trustTls;
};

/// Of the endpoints that `url` reaches the one that fits the wish best, the strongest first, by what is known of modes
/// and policies and not by what anybody says of them. `isOnThisMachine` goes by the connection's other end.
/// BadSecurityModeRejected with what is offered instead.
ua::Result<ua::EndpointDescription> chooseEndpoint(const ua::List<ua::EndpointDescription>& offered,
                                                   const Security& security, const channel::Url& url,
                                                   bool isOnThisMachine);

/// Whether what a session was told by the server itself of its endpoints is what the choice was made from (Part 4,
/// 5.6.2): nobody has left out a stronger one on the way. BadSecurityChecksFailed.
ua::Result<void> checkOffered(const ua::List<ua::EndpointDescription>& told, const ChannelSecurityChoice& choice,
                              const Security& security, const channel::Url& url);

/// An unsecured channel; over TLS to a server that `security` trusts.
ChannelSecurityChoice unsecured(const Security& security, const std::string& url);

/// Octets that nobody can guess.
ua::ByteString randomOctets(std::size_t count);

}  // namespace zunth::client
