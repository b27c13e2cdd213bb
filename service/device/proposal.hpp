#pragma once

#include "service/device/scan.hpp"

/// A device before it has a file: looked for, tried, and proposed as files of a site.
namespace zunth::device {

/// What a person says of it: its kind, and how it is reached, as the keys of its file.
struct Sought {
  std::string kind;
  std::vector<std::pair<std::string, std::string>> settings;
};
/// The beginning of its file.
std::string settingsText(const Sought& sought);

/// What a try came to.
struct Attempt {
  std::string address;  // for people
  Trace nameplate;      // who made it and what it is, where it says so
  std::vector<TriedPoint> points;
  bool areWays = false;  // one place, read in each way: what people measure comes first, named by its way
};
/// Connects, and reads these points, or those that show whether it answers at all. A single place that says nothing of
/// its type is read in every way. The error, or the findings, say what is wrong.
ua::Result<Attempt> tryOut(const Sought& sought, const std::vector<std::string>& points,
                           const std::filesystem::path& site, ua::Duration patience, model::Findings& findings);
ua::Result<std::vector<FoundPoint>> scan(const Sought& sought, const std::filesystem::path& site, const ScanWish& wish,
                                         model::Findings& findings);

/// Whether files of a site can be called this.
bool isDeviceName(const std::string& name);
struct ProposedFile {
  std::string name, text;  // "devices/pumps.yaml"
};
/// A device with the points that were kept, a model with a variable for each, and what binds them.
std::vector<ProposedFile> propose(const Sought& sought, const std::vector<Discovered>& kept, const std::string& name,
                                  const std::string& siteUri);

}  // namespace zunth::device
