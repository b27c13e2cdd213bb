#pragma once

#include "service/device/driver_kinds.hpp"
#include "service/device/octet_link.hpp"
#include "service/device/station.hpp"
#include "service/device/text_pattern.hpp"

/// Devices that speak in lines of text, as scales and meters do, over a serial port or TCP.
namespace zunth::device::line {

DriverSetup readDevice(const DeviceText& text, model::Findings& findings);

/// What ends a line beside its text and proves it.
enum class Checksum { None, Xor, Sum, Crc16 };

/// What is sent, and how what comes looks.
struct Question {
  std::string name;                  // in the file; empty where there is one alone
  std::string ask;                   // octets; empty for a device that sends by itself
  std::vector<TextPattern> answers;  // the first that fits counts
  std::string looks;                 // the first of them, as the file writes it

  bool tells(const std::string& field) const;
};

struct LineSettings {
  LinkAddress at;
  std::vector<Question> questions;
  std::string ends = "\r\n";
  Checksum checksum = Checksum::None;
  ua::Duration timeout = std::chrono::seconds(1);
};

/// What the file of a device says of its line.
LineSettings readSettings(const DeviceText& text, model::Findings& findings);

/// A field of the answer, or a line to send.
struct LinePoint {
  Point point;
  std::string field;
  std::size_t question = 0;                                 // whose answer has it
  std::string unitField;                                    // where the answer tells the unit, and
  std::vector<std::pair<std::string, double>> units;        // what one of each is in the node's
  std::vector<std::pair<std::string, std::string>> doubts;  // fields and what they say when the value is uncertain
  std::vector<std::pair<std::string, std::string>> faults;  // ... when it is none
  std::string sends;                                        // a line, with {value} in it or not
};
/// "FIELD [unit FIELD kg=1 g=0.001] [uncertain FIELD=TEXT] [fault FIELD=TEXT]" and the words of a conversion, and at
/// the end, or alone, "send TEXT": the line that writes it. Nothing and a finding when it is not sound.
std::optional<LinePoint> parsePoint(const DeviceText::PointText& point, Conversion& conversion,
                                    model::Findings& findings);
/// What an answer says of a point: Good, Uncertain..., BadSensorFailure by the flags, BadNoData where the field is
/// empty.
ua::DataValue valueIn(const LinePoint& point, const TextPattern::Fields& fields, ua::DateTime when);
/// The text of a line whose checksum fits; nothing when it doesn't.
std::optional<std::string_view> proved(std::string_view line, Checksum checksum);
/// The checksum as a device writes it behind a text: hexadecimal digits.
std::string checksumOf(std::string_view text, Checksum checksum);

/// Such a device.
class LineStation final : public Station {
 public:
  LineStation(LineSettings settings, std::vector<LinePoint> points);
  ~LineStation() override { disconnect(); }

  const std::vector<Point>& points() const override { return names_; }
  ua::Result<void> connect() override;
  void disconnect() override;
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Explained> explain(PointIndex point) override;
  ua::Result<Outcome> write(const PointWrite& write) override;
  bool sendsByItself() const override { return settings_.questions[0].ask.empty(); }
  ua::Result<std::vector<Sample>> listen(ua::Duration patience) override;

 private:
  /// A line, and what it says when it fits.
  struct Answer {
    std::string line;
    std::optional<TextPattern::Fields> fields;
  };
  ua::Result<Answer> ask(const Question& question);
  ua::Result<void> send(std::string_view octets);
  /// The next line without its end; nothing when none came in time.
  ua::Result<std::optional<std::string>> nextLine(ua::Instant deadline);
  Answer answerIn(std::string line, const Question& question) const;
  ua::DataValue valueOf(PointIndex point, const Answer& answer, ua::DateTime when) const;

  LineSettings settings_;
  std::vector<LinePoint> points_;
  std::vector<Point> names_;
  OctetLink link_;
  std::string came_;
  std::optional<Answer> last_;  // of a device that sends by itself
  ua::Instant lastAt_{};
  ua::DateTime lastTime_;
};

}  // namespace zunth::device::line
