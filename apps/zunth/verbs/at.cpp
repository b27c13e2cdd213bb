#include "apps/zunth/command.hpp"
#include "core/ua/text.hpp"
#include "core/channel/url.hpp"

#include <filesystem>

#include <fmt/format.h>

namespace zunth::cli {

namespace {

int listPlaces(const Options& options) {
  const Places places = Places::load();
  const auto here = places.chosen.find(std::filesystem::current_path().string());
  Records records({"name", "url", "chosen"});
  for (const auto& [name, url] : places.urls) {
    const bool isChosen = here != places.chosen.end() && here->second == name;
    records.add({name, url, Cell(isChosen ? "for this folder" : "", isChosen)});
  }
  if (records.empty() && options.format == Format::Table)
    std::fprintf(stderr, "no place is saved yet\ntry: zunth at add hatchery opc.tcp://127.0.0.1:4840\n");
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

int save(const Places& places, const std::string& said, bool quiet) {
  auto saved = places.save();
  if (!saved) return fail(saved.error());
  if (!quiet) std::printf("%s\n", said.c_str());
  return kDone;
}

int addPlace(const Options& options, const std::string& name, const std::string& url) {
  auto parsed = channel::Url::parse(url);
  if (!parsed) {
    fail(parsed.error());
    return kWrongUse;
  }
  Places places = Places::load();
  places.urls[name] = url;
  return save(places, fmt::format("{} is {}", name, url), options.quiet);
}

int removePlace(const Options& options, const std::string& name) {
  Places places = Places::load();
  if (!places.urls.erase(name)) return wrongUse(fmt::format("there is no place '{}'", name), "zunth at");
  std::erase_if(places.chosen, [&](const auto& entry) { return entry.second == name; });
  return save(places, fmt::format("{} is forgotten", name), options.quiet);
}

int choosePlace(const Options& options, const std::string& name) {
  Places places = Places::load();
  auto url = places.urls.contains(name) ? ua::Result<std::string>(places.urls[name]) : places.resolve(name);
  if (!url) return fail(url.error()), kWrongUse;
  if (!places.urls.contains(name)) places.urls[name] = *url;
  const std::string folder = std::filesystem::current_path().string();
  places.chosen[folder] = name;
  return save(places, fmt::format("in {} commands now go to {}", folder, *url), options.quiet);
}

}  // namespace

void addAt(Program program) {
  const auto verb = program.top.verb("at", "Save servers under a name, choose one for this folder; alone: list them.");
  verb.example("zunth at add hatchery opc.tcp://127.0.0.1:4840\n         zunth at use hatchery");
  Options& options = program.options;
  addOutput(verb, options);
  auto name = std::make_shared<std::string>();
  auto url = std::make_shared<std::string>();
  const auto add = verb.verb("add", "Save a server under a name.");
  add.option("NAME", *name, "Any word").required();
  add.option("URL", *url, "opc.tcp://HOST:PORT").required();
  const auto remove = verb.verb("remove", "Forget a saved name.");
  remove.option("NAME", *name, "A saved name").required();
  const auto use = verb.verb("use", "Choose a server for commands in this folder.");
  use.option("NAME", *name, "A saved name").required();
  verb.runs([program, name, url, add, remove, use] {
    if (add.isGiven())
      program.exitCode = addPlace(program.options, *name, *url);
    else if (remove.isGiven())
      program.exitCode = removePlace(program.options, *name);
    else if (use.isGiven())
      program.exitCode = choosePlace(program.options, *name);
    else
      program.exitCode = listPlaces(program.options);
  });
}

}  // namespace zunth::cli
