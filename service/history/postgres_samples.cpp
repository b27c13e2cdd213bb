#include "service/history/postgres_samples.hpp"

#include <charconv>

#include <fmt/format.h>

namespace zunth::history {

using namespace ua;

namespace {

const std::vector<std::string> kIncomingColumns{"number", "variable", "time",  "tick",   "type",
                                                "value",  "words",    "exact", "status", "server_time"};

std::optional<std::string> textOf(const pqxx::field& field) {
  if (field.is_null()) return std::nullopt;
  return std::string(field.c_str(), field.size());
}

}  // namespace

const char* orNull(const std::optional<std::string>& text) { return text ? text->c_str() : nullptr; }

std::int64_t whole(const pqxx::field& field) {
  std::int64_t out = 0;
  if (!field.is_null()) std::from_chars(field.c_str(), field.c_str() + field.size(), out);
  return out;
}

std::optional<std::string> rowTimeOf(DateTime time) {
  if (time.isNull()) return std::nullopt;
  return RowTime::of(time).words;
}

std::string sampleColumns(const std::string& table) {
  return fmt::format(
      "(extract(epoch from {0}.time) * 1000000)::bigint, {0}.tick, {0}.type, {0}.value, {0}.exact, {0}.status, "
      "(extract(epoch from {0}.server_time) * 1000000)::bigint",
      table);
}

DataValue sampleOf(const pqxx::row& row, int column) {
  DataValue out;
  out.sourceTimestamp = timeFrom(whole(row[column]), static_cast<int>(whole(row[column + 1])));
  out.status = StatusCode(static_cast<std::uint32_t>(whole(row[column + 5])));
  if (!row[column + 6].is_null()) {
    out.serverTimestamp = timeFrom(whole(row[column + 6]), 0);
    // Where they are the same but for what has no room, they are the same.
    if (whole(row[column + 6]) == whole(row[column])) out.serverTimestamp = out.sourceTimestamp;
  }
  RowValue value;
  value.type = static_cast<int>(whole(row[column + 2]));
  value.number = textOf(row[column + 3]);
  value.exact = textOf(row[column + 4]);
  auto read = value.value();
  if (!read) return DataValue(Variant(), out.sourceTimestamp, status::BadDataLost);
  out.value = std::move(*read);
  return out;
}

Incoming::Incoming(pqxx::work& transaction) : stream_(transaction, "incoming", kIncomingColumns) {}

void Incoming::add(std::int64_t variable, const DataValue& sample) {
  const auto time = RowTime::of(sample.sourceTimestamp);
  const auto value = RowValue::of(sample.value);
  const auto serverTime = rowTimeOf(sample.serverTimestamp);
  stream_ << std::make_tuple(number_++, variable, time.words, time.tick, value.type, orNull(value.number),
                             orNull(value.words), orNull(value.exact), std::int64_t{sample.status.value},
                             orNull(serverTime));
}

}  // namespace zunth::history
