#include "service/console/csv.hpp"

namespace zunth::console {

std::string csvField(const std::string& text) {
  std::string out = text;
  const bool isFormula = !out.empty() && std::string("=@\t\r").find(out[0]) != std::string::npos;
  if (isFormula) out.insert(0, 1, '\'');
  if (out.find_first_of(",\"\n\r") == std::string::npos) return out;
  std::string quoted = "\"";
  for (const char c : out) quoted += c == '"' ? "\"\"" : std::string(1, c);
  return quoted + "\"";
}

Answer csvOf(const Json& rows) {
  Answer answer;
  answer.type = "text/csv; charset=utf-8";
  answer.headers.emplace_back("Content-Disposition", "attachment; filename=\"values.csv\"");
  answer.headers.emplace_back("Cache-Control", "no-store");
  answer.body = "node,value,unit,status,time\r\n";
  for (const auto& row : rows) {
    const Json& time = row["time"];
    answer.body += csvField(row.value("node", "")) + "," + csvField(row.value("text", "")) + "," +
                   csvField(row.value("unit", "")) + "," + row.value("status", "") + "," +
                   (time.is_string() ? time.get<std::string>() : std::string()) + "\r\n";
  }
  return answer;
}

}  // namespace zunth::console
