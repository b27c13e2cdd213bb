#pragma once

#include "core/secure/certificate.hpp"
#include "core/secure/policy.hpp"
#include "service/server/limits.hpp"
#include "service/server/session.hpp"

#include <functional>

namespace zunth::server {

/// What a site knows of a user beside how they prove who they are.
struct Account {
  std::vector<ua::NodeId> roles;
};

/// One rule by which every session has the role.
std::vector<secure::RoleRule> rolesForEveryone(ua::StandardId role);

struct Settings {
  std::string applicationName = "Zunth";
  std::string applicationUri = "urn:zunth";
  std::vector<std::string> endpointUrls;
  std::vector<std::string> clientUrls;  // of clients that the server connects to by itself
  bool allowUnsecured = false;          // security policy None
  secure::Offer offer;                  // of other policies
  secure::Identities identities;        // without any, no secured endpoint is offered
  /// Whether a client's certificate (with its chain) is accepted; why not, otherwise.
  std::function<ua::Result<void>(const ua::ByteString& chain)> trust;
  bool allowAnonymous = false;
  /// The account to a name and password, when users may log in with them. BadUserAccessDenied when they don't fit.
  /// It may take its time, and tells what came of it on the server's thread.
  std::function<void(std::string name, std::string password, std::function<void(ua::Result<Account>)> done)>
      checkPassword;
  /// The account to a user's certificate, when users may log in with one. BadUserAccessDenied when it isn't trusted.
  std::function<ua::Result<Account>(const ua::ByteString& chain)> checkUserCertificate;
  /// The account to an issued token (a JSON Web Token), with the roles that it names, when users may log in with one.
  std::function<ua::Result<User>(const std::string& token)> checkToken;
  /// Whether anybody could log in so at present; endpoints offer only what somebody has. Always, without these.
  std::function<bool()> hasPasswords, hasUserCertificates, hasTokenIssuers;
  /// Who gets which role; without another word, whoever is let in is an engineer.
  std::vector<secure::RoleRule> roles = rolesForEveryone(ua::id::WellKnownRole_Engineer);
  bool allowNodeManagement = false;  // AddNodes and so on, by any client
  bool acceptRegistrations = false;  // RegisterServer: stands in for a discovery server
  bool diagnostics = true;           // counters of sessions and subscriptions; switchable at the EnabledFlag
  bool auditing = true;              // audit events
  std::uint32_t maxMessageSize = 16u << 20;
  Limits limits;
};

/// Time, as the server sees it.
struct Clock {
  std::function<ua::Instant()> now;
  std::function<ua::DateTime()> wallClock;
  static Clock real();
};

}  // namespace zunth::server
