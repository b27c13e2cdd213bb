#pragma once

#include "service/admin/trust_store.hpp"
#include "service/server/server.hpp"

#include <map>

namespace zunth::admin {

/// The ServerConfiguration object (Part 12, 7.10): a security administrator reads and writes the trust list as a file,
/// asks for a signing request, hands over the certificate that came of it, and looks at who was refused. Over encrypted
/// channels only.
class PushConfiguration {
 public:
  /// `changed` is called when trust or the certificate is another one.
  PushConfiguration(server::Server& server, TrustStore& store, std::string applicationUri,
                    std::function<void()> changed);

 private:
  using Inputs = std::vector<ua::Variant>;
  using Outcome = server::CallOutcome;
  struct OpenFile {
    ua::NodeId session;
    ua::Bytes octets;
    std::size_t position = 0;
    bool isWritten = false;
    ua::Instant used;
  };

  void bind(const char* path, Outcome (PushConfiguration::*method)(const Inputs&, const ua::NodeId&));
  space::NodeIndex nodeAt(const char* path) const;
  void show(const char* path, ua::Variant value);
  void dropIdleFiles();
  ua::Result<OpenFile*> file(const ua::Variant& handle, const ua::NodeId& session);
  Outcome openFile(const ua::NodeId& session, OpenFile file);

  Outcome open(const Inputs& inputs, const ua::NodeId& session);
  Outcome openWithMasks(const Inputs& inputs, const ua::NodeId& session);
  Outcome read(const Inputs& inputs, const ua::NodeId& session);
  Outcome write(const Inputs& inputs, const ua::NodeId& session);
  Outcome getPosition(const Inputs& inputs, const ua::NodeId& session);
  Outcome setPosition(const Inputs& inputs, const ua::NodeId& session);
  Outcome close(const Inputs& inputs, const ua::NodeId& session);
  Outcome closeAndUpdate(const Inputs& inputs, const ua::NodeId& session);
  Outcome addCertificate(const Inputs& inputs, const ua::NodeId& session);
  Outcome removeCertificate(const Inputs& inputs, const ua::NodeId& session);
  Outcome updateCertificate(const Inputs& inputs, const ua::NodeId& session);
  Outcome createSigningRequest(const Inputs& inputs, const ua::NodeId& session);
  Outcome applyChanges(const Inputs& inputs, const ua::NodeId& session);
  Outcome getRejectedList(const Inputs& inputs, const ua::NodeId& session);

  server::Server& server_;
  TrustStore& store_;
  std::string applicationUri_;
  std::function<void()> changed_;
  std::map<std::uint32_t, OpenFile> files_;  // of the trust list, by handle
  std::uint32_t lastHandle_ = 0;
  struct Pushed {
    ua::NodeId session;
    std::string certificate, key;
  };
  std::optional<Pushed> pushed_;  // until ApplyChanges
};

}  // namespace zunth::admin
