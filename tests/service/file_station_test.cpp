// Values in files and in what programs print.
#include "service/device/file_station.hpp"

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>
#include <sys/stat.h>

namespace zunth::file_station_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::device::files;

namespace {

struct Made {
  std::optional<FilePoint> point;
  std::string mistake;
};
Made make(const std::string& words) {
  model::Findings findings;
  Conversion conversion;
  Made out{parsePoint({{"x", {}}, {words, {"d.yaml", 1, 1, words.size()}}}, conversion, findings), {}};
  if (!findings.list().empty()) out.mistake = findings.list()[0].message;
  return out;
}

}  // namespace

TEST_CASE("the part of a text that is meant is the value", "[device][files]") {
  const char* const text = "\nload 0.52 0.40 3/220\nMemFree:   1234 kB\nlast line\n";
  struct Row {
    const char* words;
    Variant value;  // null: it isn't there
  };
  for (const Row& row : std::vector<Row>{
           {"file f word 2", Variant(0.52)},
           {"file f line 2 word 4", Variant("3/220")},
           {"file f key MemFree: word 2", Variant(std::int64_t{1234})},
           {"file f key last", Variant("line")},
           {"file f line 4", Variant("last line")},
           {"file f line 9", {}},
           {"file f word 9", {}},
           {"file f key Swap word 1", {}},
       }) {
    INFO(row.words);
    const auto made = make(row.words);
    REQUIRE(made.point);
    const auto value = valueIn(*made.point, text);
    CHECK(value.code() == (row.value.isNull() ? status::BadNoData : status::Good));
    if (value) CHECK(*value == row.value);
  }
  const auto csv = *make("csv f column ph").point;
  CHECK(*valueIn(csv, "time,ph\n06:00,7.1\n06:10,7.2\n") == Variant(7.2));
  CHECK(valueIn(csv, "time,ph\n").code() == status::BadNoData);
  CHECK(valueIn(csv, "time\n1\n").code() == status::BadNoData);
}

TEST_CASE("files and programs are a device", "[device][files]") {
  const test::TemporaryFolder folder;
  folder.write("level.txt", "level 3.5\n");
  folder.write("loud.sh",
               "while true; do echo xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx; done");
  std::string large = "time,ph\n";
  for (int i = 0; large.size() < 3'000'000; ++i) large += std::to_string(i) + ",7.25\n";
  folder.write("large.csv", large);
  folder.write("mute.sh", "exec >&-\nsleep 60\n");
  const std::string at = folder.path.string();
  REQUIRE(::mkfifo((at + "/pipe").c_str(), 0600) == 0);
  std::vector<FilePoint> points;
  std::vector<std::pair<std::string, StatusCode>> rows{
      {"file " + at + "/level.txt word 2", status::Good},
      {"file " + at + "/none.txt", status::BadNotFound},
      {"file " + at + "/pipe", status::BadNoData},
      {"file /dev/zero", status::BadNoData},
      {"csv " + at + "/large.csv column ph", status::Good},
      {"run [echo it is 42 now] word 3", status::Good},
      {"run [false]", status::BadDeviceFailure},
      {"run [/no/such/program]", status::BadDeviceFailure},
      {"run [sleep 60]", status::BadTimeout},
      {"run [/bin/sh " + at + "/mute.sh]", status::BadTimeout},
      {"run [/bin/sh " + at + "/loud.sh]", status::BadTimeout},
      {"run [echo $HOME; ls]", status::Good},  // no shell looks at it
  };
  for (const auto& [words, code] : rows) points.push_back(*make(words).point);
  FileStation station(points, std::chrono::milliseconds(300));
  std::vector<PointIndex> all(points.size());
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = i;
  const auto values = station.read(all);
  REQUIRE(values);
  for (std::size_t i = 0; i < rows.size(); ++i) {
    INFO(rows[i].first);
    CHECK((*values)[i].status == rows[i].second);
  }
  CHECK((*values)[0].value == Variant(3.5));
  CHECK((*values)[4].value == Variant(7.25));
  CHECK((*values)[5].value == Variant(std::int64_t{42}));
  CHECK((*values)[11].value == Variant("$HOME; ls"));
  CHECK(station.explain(0)->trace.front().shows == "level 3.5");
  CHECK(station.write({0, Variant(1)})->error.code == status::BadNotWritable);
}

TEST_CASE("mistakes in what is read are named", "[device][files]") {
  struct Row {
    const char *words, *mistake;
  };
  for (const Row& row :
       {Row{"file", "a point is a file or a program"}, Row{"flie /x", "'flie' is neither 'file', 'csv' nor 'run'"},
        Row{"run echo", "a program stands in brackets"}, Row{"run []", "no program is named"},
        Row{"file /x word zero", "'word' needs a number from 1"}, Row{"csv /x", "'csv' and 'column' belong together"},
        Row{"file /x loudly", "'loudly' means nothing here"}}) {
    INFO(row.words);
    CHECK(make(row.words).mistake == row.mistake);
  }
}

}  // namespace zunth::file_station_test
