// The sheet of docs/http.md in a real LibreOffice Calc, without its windows.
#include <fstream>

#include "tests/service/house.hpp"

namespace zunth::spreadsheet_test {

using console::Json;
using test::House;
namespace fs = std::filesystem;

namespace {

std::string textOf(const fs::path& file) {
  std::ifstream in(file);
  return {std::istreambuf_iterator<char>(in), {}};
}

}  // namespace

TEST_CASE("a sheet of LibreOffice Calc pulls values by a link", "[console][programs]") {
  House house;
  house.makeAdministrator();
  const auto made = Json::parse(house.post("/api/tokens", {{"name", "sheet"}, {"nodes", {"Tank/*"}}}).body);
  const fs::path source = ZUNTH_SOURCE_DIR;
  const test::TemporaryFolder folder;
  const std::string at = "file://" + folder.path.string();
  const std::string calc = "timeout 100 soffice -env:UserInstallation=" + at + "/profile --headless ";
  // Settings of its own, by which links of sheets in this folder are followed; the rest its first start makes. Then a
  // macro that opens a sheet, takes what its links give, and writes it as CSV.
  fs::create_directories(folder.path / "profile/user");
  std::string settings = textOf(source / "tests/calc/settings.xcu");
  settings.replace(settings.find("FOLDER"), 6, at);
  folder.write("profile/user/registrymodifications.xcu", settings);
  CHECK(test::run(calc + "--terminate_after_init", folder.path).code == 0);
  fs::copy(source / "tests/calc", folder.path / "profile/user/basic",
           fs::copy_options::recursive | fs::copy_options::overwrite_existing);
  std::string sheet = textOf(source / "docs/hatchery.fods");
  const std::string link = "http://127.0.0.1:8046/api/table?token=TOKEN";
  REQUIRE(sheet.find(link) != std::string::npos);
  sheet.replace(sheet.find(link), link.size(), house.url + made["path"].get<std::string>());
  folder.write("sheet.fods", sheet);

  const auto ran = test::run(
      calc + "'macro:///Standard.Module1.Refresh(\"" + at + "/sheet.fods\",\"" + at + "/sheet.csv\")'", folder.path);
  INFO(ran.out << ran.error);
  CHECK(ran.code == 0);
  const std::string values = textOf(folder.path / "sheet-Values.csv");
  CHECK(values.find("Tank/oxygen,8.5,mg/L,Good,") != std::string::npos);
  CHECK(textOf(folder.path / "sheet-Report.csv") == "Values,3\nOf them bad,0\n\"Lowest oxygen, mg/L\",8.5\n");
}

}  // namespace zunth::spreadsheet_test
