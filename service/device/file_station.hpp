#pragma once

#include "service/device/driver_kinds.hpp"
#include "service/device/station.hpp"

#include <filesystem>
#include <map>

/// Values that this machine has: in files, such as those of /proc and /sys, and in what programs print.
namespace zunth::device::files {

DriverSetup readDevice(const DeviceText& text, model::Findings& findings);

/// Where a text comes from, and which part of it is the value.
struct FilePoint {
  Point point;
  std::filesystem::path file;        // or
  std::vector<std::string> command;  // a program and its arguments; no shell is between
  std::string column;                // of the last row of a CSV file; else
  std::string key;                   // the line that begins with it, and
  int line = 0;                      // or that has this number, from 1; 0 for the first that isn't empty, and
  int word = 0;                      // the word of it, from 1; 0 for the whole line
};
/// "file PATH [key TEXT | line N] [word N]", "csv PATH column NAME", "run [PROGRAM ARGUMENT...] ..." and the words of a
/// conversion. Nothing and a finding when it is not sound.
std::optional<FilePoint> parsePoint(const DeviceText::PointText& point, Conversion& conversion,
                                    model::Findings& findings);
/// The part of a text that is the point's value. BadNoData when it isn't there.
ua::Result<ua::Variant> valueIn(const FilePoint& point, std::string_view text);

/// What a program prints, a megabyte at most; killed when it takes longer. BadTimeout; BadDeviceFailure when it can't
/// be run or ends with an error.
ua::Result<std::string> outputOf(const std::vector<std::string>& command, ua::Duration patience);
/// BadNotFound, BadUserAccessDenied; a megabyte at most, of a longer file the end.
ua::Result<std::string> contentOf(const std::filesystem::path& file);

/// Files and programs as a device that is always there.
class FileStation final : public Station {
 public:
  FileStation(std::vector<FilePoint> points, ua::Duration patience);

  const std::vector<Point>& points() const override { return names_; }
  ua::Result<void> connect() override { return {}; }
  void disconnect() override {}
  /// Each file is read and each program run once for all points that look at it.
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Explained> explain(PointIndex point) override;
  ua::Result<Outcome> write(const PointWrite& write) override;

 private:
  ua::Result<std::string> fetch(const FilePoint& point) const;

  std::vector<FilePoint> points_;
  std::vector<Point> names_;
  ua::Duration patience_;
};

}  // namespace zunth::device::files
