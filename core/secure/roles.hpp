#pragma once

#include "core/ua/generated/structures.hpp"

#include <string>
#include <vector>

/// Which roles a session gets (Part 18, 4.2 to 4.4).
namespace zunth::secure {

/// A role and who has it: one of the identities, by one of the applications, at one of the endpoints.
struct RoleRule {
  ua::NodeId role;
  ua::List<ua::IdentityMappingRuleType> identities;
  std::vector<std::string> applications;  // URIs; empty for any
  bool applicationsExclude = false;       // all but these
  ua::List<ua::EndpointType> endpoints;   // what they leave open fits all; empty for any
  bool endpointsExclude = false;
};

/// A session as rules see it.
struct Caller {
  bool isAnonymous = true;
  std::string userName;                 // of a user with a password
  std::string userThumbprint;           // SHA-1 in upper-case hexadecimal, of a user with a certificate
  std::string userSubject;              // of that certificate, as "CN=.../O=..."
  std::vector<std::string> tokenRoles;  // that an issued token names
  std::string applicationUri;           // by the client's certificate; empty on an unsecured channel
  ua::EndpointType endpoint;            // that the session came in by
};

/// The well-known role for being logged in or not, then those of the rules that fit, each once.
std::vector<ua::NodeId> rolesOf(const Caller& caller, const std::vector<RoleRule>& rules);

}  // namespace zunth::secure
