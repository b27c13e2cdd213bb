#pragma once

#include "service/history/postgres_rows.hpp"

#include <pqxx/result>
#include <pqxx/row>
#include <pqxx/stream_to>
#include <pqxx/transaction>

/// Samples as they go to and from libpqxx.
namespace zunth::history {

std::int64_t whole(const pqxx::field& field);
const char* orNull(const std::optional<std::string>& text);
std::optional<std::string> rowTimeOf(ua::DateTime time);

/// The columns of a table that make a sample, for sampleOf().
std::string sampleColumns(const std::string& table);
/// From a column on. What can't be read any more is lost, and says so.
ua::DataValue sampleOf(const pqxx::row& row, int column = 0);

/// Sends rows of samples to the connection's own table `incoming`.
class Incoming {
 public:
  explicit Incoming(pqxx::work& transaction);
  void add(std::int64_t variable, const ua::DataValue& sample);
  void done() { stream_.complete(); }

 private:
  pqxx::stream_to stream_;
  int number_ = 0;
};

}  // namespace zunth::history
