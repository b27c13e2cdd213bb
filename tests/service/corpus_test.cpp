// The fuzz targets over their committed corpora: each builds with the rest, and what once was found stays mended.
#define LLVMFuzzerTestOneInput answersTarget
#include "fuzz/fuzz_answers.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput certificateTarget
#include "fuzz/fuzz_certificate.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput channelTarget
#include "fuzz/fuzz_channel.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput decodeTarget
#include "fuzz/fuzz_decode.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput documentTarget
#include "fuzz/fuzz_document.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput framesTarget
#include "fuzz/fuzz_frames.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput historyTarget
#include "fuzz/fuzz_history.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput modelTarget
#include "fuzz/fuzz_model.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput nodesetTarget
#include "fuzz/fuzz_nodeset.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput servicesTarget
#include "fuzz/fuzz_services.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput stateTarget
#include "fuzz/fuzz_state.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput tableTarget
#include "fuzz/fuzz_table.cpp"
#undef LLVMFuzzerTestOneInput
#define LLVMFuzzerTestOneInput textTarget
#include "fuzz/fuzz_text.cpp"
#undef LLVMFuzzerTestOneInput

#include <filesystem>
#include <fstream>

#include <catch2/catch.hpp>

namespace zunth::corpus_test {

TEST_CASE("the fuzz targets take their corpora, and what has been cut off", "[fuzz]") {
  using Target = int (*)(const std::uint8_t*, std::size_t);
  for (const auto& [name, target] :
       std::initializer_list<std::pair<const char*, Target>>{{"answers", answersTarget},
                                                             {"certificate", certificateTarget},
                                                             {"channel", channelTarget},
                                                             {"decode", decodeTarget},
                                                             {"document", documentTarget},
                                                             {"frames", framesTarget},
                                                             {"history", historyTarget},
                                                             {"model", modelTarget},
                                                             {"nodeset", nodesetTarget},
                                                             {"services", servicesTarget},
                                                             {"state", stateTarget},
                                                             {"table", tableTarget},
                                                             {"text", textTarget}}) {
    INFO(name);
    CHECK(target(nullptr, 0) == 0);
    const auto folder = std::filesystem::path(ZUNTH_SOURCE_DIR) / "fuzz/corpus" / (std::string("fuzz_") + name);
    if (!std::filesystem::exists(folder)) continue;
    for (const auto& file : std::filesystem::directory_iterator(folder)) {
      INFO(file.path());
      std::ifstream in(file.path(), std::ios::binary);
      const std::string octets{std::istreambuf_iterator<char>(in), {}};
      const auto* data = reinterpret_cast<const std::uint8_t*>(octets.data());
      CHECK(target(data, octets.size()) == 0);
      CHECK(target(data, octets.size() / 2) == 0);
    }
  }
}

}  // namespace zunth::corpus_test
