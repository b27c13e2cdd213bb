// Every kind of change is applied while a client watches and a device is polled: neither may notice.
#include <condition_variable>
#include <map>
#include <mutex>
#include <thread>

#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>

namespace zunth::apply_watched_test {

using namespace zunth::test;

namespace {

struct WatchedPlant : Plant {
  WatchedPlant() : Plant(false) {
    edit("model/plant.yaml", "pressure: Float kPa 0..50", "pressure: Float kPa 0..50 history");
    REQUIRE(zunthAlone("apply --site site").code == 0);
    REQUIRE(watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  }
  void edit(const std::string& name, const std::string& from, const std::string& to) const {
    std::ifstream in(folder.path / "site" / name);
    std::string text{std::istreambuf_iterator<char>(in), {}};
    const auto at = text.find(from);
    REQUIRE(at != std::string::npos);
    folder.write("site/" + name, text.replace(at, from.size(), to));
  }
  Json device() const { return Json::parse(zunthAlone("device filter --site site --output json").out)[0]; }
  std::string sessionOf(const std::string& client) const {
    for (const auto& one : Json::parse(zunthAlone("clients --site site --output json").out))
      if (one["client"].get<std::string>().find(client) != std::string::npos) return one["id"];
    return {};
  }
};

/// A client that takes every change, and notes what it got: values by their time.
class Watcher {
 public:
  explicit Watcher(const std::string& url)
      : process_({program("zunth"), "watch", "DF1/pressure", "--interval", "10", "--queue", "1000", "--output", "json",
                  "--at", url}),
        reader_([this] {
          for (std::string line = process_.line(); !line.empty(); line = process_.line()) {
            const auto told = Json::parse(line);
            const std::lock_guard lock(mutex_);
            got_[told["time"]] = told["value"];
            worst_ = told["status"] == "Good" ? worst_ : told["status"].get<std::string>();
            last_ = told["time"];
            came_.notify_all();
          }
        }) {}
  ~Watcher() {
    process_.stop(SIGTERM);
    reader_.join();
  }
  /// Once it got something newer.
  std::string next() {
    std::unique_lock lock(mutex_);
    const std::string before = last_;
    came_.wait_for(lock, std::chrono::seconds(20), [&] { return last_ > before; });
    return last_;
  }
  std::map<std::string, Json> got() {
    const std::lock_guard lock(mutex_);
    return got_;
  }
  std::string worst() {
    const std::lock_guard lock(mutex_);
    return worst_;
  }

 private:
  std::mutex mutex_;
  std::condition_variable came_;
  std::map<std::string, Json> got_;
  std::string worst_ = "Good", last_;
  Process process_;
  std::thread reader_;
};

}  // namespace

TEST_CASE("a client and a device notice no change that is not about them", "[plant][apply]") {
  const WatchedPlant plant;
  Watcher watcher(plant.url);
  const std::string first = watcher.next();
  const auto before = plant.device();
  const std::string session = plant.sessionOf("zunth");
  REQUIRE(!session.empty());
  struct Row {
    const char *file, *from, *to;
    int added, removed;
  };
  // Each kind of the table in docs/model-language.md, one after the other.
  for (const Row& row :
       {Row{"model/plant.yaml", "    mode: Mode = Auto writable\n    list", "    mode: Mode = Off writable\n    list",
            0, 0},
        Row{"model/plant.yaml", "  Gate:\n", "  Gate:\n    about: Lets water out\n", 0, 0},
        Row{"model/plant.yaml", "    speed: Float Hz 0..60\n", "    speed: Float Hz 0..50\n", 0, 0},
        Row{"model/plant.yaml", "pressure: Float kPa 0..50 history", "pressure: Float kPa 0..55 history", 0, 0},
        Row{"model/plant.yaml", "wash(seconds UInt16)", "wash(seconds UInt16, hard Boolean)", 0, 0},
        Row{"model/plant.yaml", "  Gate:\n", "  Pond: {depth: Double m 0..3}\n  Gate:\n", 4, 0},
        Row{"model/plant.yaml", "severity 600", "severity 700", 0, 0},
        Row{"model/plant.yaml", "  Pond: {depth: Double m 0..3}\n", "", 0, 4},
        Row{"devices/filter.yaml", "driver: modbus-tcp\n", "about: In the cellar\ndriver: modbus-tcp\n", 0, 0},
        Row{"devices/filter.yaml", "    - washSeconds = input seconds\n", "", 0, 0},
        Row{"bindings/all.yaml", "  DF1/serial: filter/serial\n", "", 0, 0},
        Row{"site.yaml", "node-management: on\n", "node-management: off\nlimits: {sessions: 50}\n", 0, 0}}) {
    INFO(row.file << ": " << row.to);
    plant.edit(row.file, row.from, row.to);
    const auto applied = plant.zunthAlone("apply --site site --output json");
    REQUIRE(applied.code == 0);
    const auto told = Json::parse(applied.out);
    if (row.added == 0) CHECK(told["added"] == 0);
    if (row.removed == 0) CHECK(told["removed"] == 0);
    CHECK((told["added"] > 0) == (row.added > 0));
    CHECK((told["removed"] > 0) == (row.removed > 0));
    watcher.next();
  }
  // A device comes, and goes again.
  plant.folder.write("site/devices/dead.yaml", "driver: modbus-tcp\nport: 1\npoints:\n  x: input 0\n");
  CHECK(plant.zunthAlone("apply --site site").code == 0);
  watcher.next();
  std::filesystem::remove(plant.folder.path / "site/devices/dead.yaml");
  CHECK(plant.zunthAlone("apply --site site").code == 0);
  const std::string last = watcher.next();

  CHECK(watcher.worst() == "Good");
  CHECK(plant.sessionOf("zunth") == session);
  const auto after = plant.device();
  CHECK(after["since"] == before["since"]);
  CHECK(after["failures"] == before["failures"]);
  // What the client got is what was kept, value by value.
  const auto kept = Json::parse(plant.zunth("history DF1/pressure --output json --from -1h").out);
  const auto got = watcher.got();
  std::size_t compared = 0;
  for (const auto& sample : kept) {
    const std::string time = sample["time"];
    if (time < first || time > last) continue;
    ++compared;
    const auto there = got.find(time);
    INFO(time);
    REQUIRE(there != got.end());
    CHECK(there->second == sample["value"]);
  }
  CHECK(compared > 14);
}

}  // namespace zunth::apply_watched_test
