#pragma once

#include "core/model/units.hpp"
#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

/// Variables as rows of a table: for the hundreds of points that come as a spreadsheet.
namespace zunth::model {

/// What a table says: entries as a model file has them, and as a file of bindings/ has them.
struct Table {
  Entry model;
  Entry bindings;
};

/// Reads CSV (RFC 4180, UTF-8 with or without mark, comma, semicolon or tab) whose first line names the columns: path
/// and type, and as wanted unit, range or low and high, instrument, precision, every, access, initial, about, called,
/// point. Lines that begin with '#' are left out. Mistakes become findings with the cell's line and column.
Table readTable(const std::string& file, const std::string& text, const std::string& namespaceUri, const Units& units,
                Findings& findings);

/// The variables of these namespaces below Objects, a row each in the order of their paths; the file that readTable()
/// takes. Rows of objects are not written: a table is for the points.
std::string writeTable(const space::Space& space, std::span<const std::uint16_t> namespaces);

/// The cells of CSV with their places; `delimiter` 0 takes whichever the first line uses most. A quote that isn't
/// closed is a finding.
std::vector<std::vector<Text>> readCsv(const std::string& file, std::string_view text, Findings& findings,
                                       char delimiter = 0);
/// A line of CSV; cells are quoted where they need it.
std::string csvLine(std::span<const std::string> cells);

}  // namespace zunth::model
