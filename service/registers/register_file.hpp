#pragma once

#include "service/registers/register_map.hpp"

namespace zunth::registers {

/// What a file of the folder registers/ says (docs/registers.md): which nodes a Modbus server shows, where, and to
/// whom.
struct RegisterFile {
  std::string name;  // the file's, without its ending
  std::string host = "127.0.0.1";
  std::uint16_t port = 502;
  std::uint8_t unit = 1;
  model::Text role{"Observer", {}};  // what clients may do: the protocol can't prove who they are
  std::vector<std::string> clients;  // addresses and networks that may connect; empty for any
  std::vector<Register> registers;
  ua::NodeId roleId;  // of `role`; by who knows the site's roles

  /// "127.0.0.1:502"
  std::string address() const;
};

/// Reads such a file. Findings tell of every mistake; with errors the result is not to be used.
RegisterFile readRegisterFile(const std::string& name, const std::string& file, const std::string& text,
                              const space::Space& space, model::Findings& findings);

/// Whether an address ("10.1.2.3") is one of these, or in one of these networks ("10.1.0.0/16").
bool isAmong(const std::string& address, const std::vector<std::string>& clients);

}  // namespace zunth::registers
