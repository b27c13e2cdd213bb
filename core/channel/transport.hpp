#pragma once

#include "core/ua/structure_codec.hpp"

#include <array>

/// OPC UA Connection Protocol (Part 6, 7.1): what is said before and around the secure channel.
namespace zunth::channel {

struct Hello {
  std::uint32_t protocolVersion = 0;
  std::uint32_t receiveBufferSize = 0;  // largest chunk that the sender of this message can receive
  std::uint32_t sendBufferSize = 0;     // largest chunk that it will send
  std::uint32_t maxMessageSize = 0;     // largest response it takes; 0 for any
  std::uint32_t maxChunkCount = 0;      // of a response; 0 for any
  ua::String endpointUrl;

  static constexpr std::uint32_t kFieldCount = 6;
  template <class Self, class Visit>
  static void eachField(Self& self, Visit&& visit) {
    visit("protocolVersion", self.protocolVersion);
    visit("receiveBufferSize", self.receiveBufferSize);
    visit("sendBufferSize", self.sendBufferSize);
    visit("maxMessageSize", self.maxMessageSize);
    visit("maxChunkCount", self.maxChunkCount);
    visit("endpointUrl", self.endpointUrl);
  }
};

/// The first word of a server that connects to its client (Part 6, 7.1.2.6).
struct ReverseHello {
  ua::String serverUri;
  ua::String endpointUrl;  // which the client then says hello to

  static constexpr std::uint32_t kFieldCount = 2;
  template <class Self, class Visit>
  static void eachField(Self& self, Visit&& visit) {
    visit("serverUri", self.serverUri);
    visit("endpointUrl", self.endpointUrl);
  }
};

struct Acknowledge {
  std::uint32_t protocolVersion = 0;
  std::uint32_t receiveBufferSize = 0;
  std::uint32_t sendBufferSize = 0;
  std::uint32_t maxMessageSize = 0;
  std::uint32_t maxChunkCount = 0;

  static constexpr std::uint32_t kFieldCount = 5;
  template <class Self, class Visit>
  static void eachField(Self& self, Visit&& visit) {
    visit("protocolVersion", self.protocolVersion);
    visit("receiveBufferSize", self.receiveBufferSize);
    visit("sendBufferSize", self.sendBufferSize);
    visit("maxMessageSize", self.maxMessageSize);
    visit("maxChunkCount", self.maxChunkCount);
  }
};

/// Body of an ERR message and of an abort chunk.
struct Refusal {
  ua::StatusCode error;
  ua::String reason;

  static constexpr std::uint32_t kFieldCount = 2;
  template <class Self, class Visit>
  static void eachField(Self& self, Visit&& visit) {
    visit("error", self.error);
    visit("reason", self.reason);
  }
};

/// Security header of OPN chunks (Part 6, 6.7.2.3).
struct AsymmetricHeader {
  ua::String securityPolicyUri;
  ua::ByteString senderCertificate;
  ua::ByteString receiverThumbprint;

  static constexpr std::uint32_t kFieldCount = 3;
  template <class Self, class Visit>
  static void eachField(Self& self, Visit&& visit) {
    visit("securityPolicyUri", self.securityPolicyUri);
    visit("senderCertificate", self.senderCertificate);
    visit("receiverThumbprint", self.receiverThumbprint);
  }
};

inline constexpr std::string_view kPolicyNone = "http://opcfoundation.org/UA/SecurityPolicy#None";
inline constexpr std::uint32_t kLeastBufferSize = 8192;  // Part 6, 7.1.2.3
inline constexpr std::size_t kMostUrlLength = 4096;

/// How large a channel's chunks and messages may be.
struct ChannelLimits {
  std::uint32_t receiveBufferSize = 65536;
  std::uint32_t sendBufferSize = 65536;
  std::uint32_t maxMessageSize = 16u << 20;  // octets of one received message
  std::uint32_t maxChunkCount = 4096;        // chunks of one received message
};

}  // namespace zunth::channel
