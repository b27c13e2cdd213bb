// Requests made by a second implementation, whole and damaged, straight into the services.
#include "core/ua/json_type.hpp"

#include <fstream>

#include "tests/hex.hpp"
#include "tests/service/fake_peer.hpp"
#include <catch2/catch.hpp>

namespace zunth::recorded_test {

using namespace zunth::ua;

namespace {

std::vector<std::pair<std::string, Bytes>> recordedRequests() {
  std::vector<std::pair<std::string, Bytes>> out;
  std::ifstream file(ZUNTH_SOURCE_DIR "/tests/vectors/messages.jsonl");
  for (std::string line; std::getline(file, line);) {
    const auto json = Json::parse(line);
    const std::string name = json.at("structure");
    // The channel's own requests never reach the services.
    if (name.ends_with("Request") && name.find("SecureChannel") == std::string::npos)
      out.emplace_back(name, test::unhex(json.at("hex").get<std::string>()));
  }
  return out;
}

}  // namespace

TEST_CASE("every request is answered once, whoever made it", "[server][vectors]") {
  const auto requests = recordedRequests();
  CHECK(requests.size() >= 30);
  test::Bench b;
  for (const auto& [name, body] : requests) {
    INFO(name);
    b.server->handle(b.peer, 1, body);
    REQUIRE(b.peer->answers.size() == 1);
    const auto outcome = b.take<ServiceFault>();  // a fault comes back as its error, anything else as another structure
    // What needs no session is answered, or refused for its own reason: the recorded ones were meant for others.
    const std::map<std::string, StatusCode> without{{"FindServersRequest", status::BadUnknownResponse},
                                                    {"FindServersOnNetworkRequest", status::BadUnknownResponse},
                                                    {"GetEndpointsRequest", status::BadUnknownResponse},
                                                    {"CreateSessionRequest", status::BadServerUriInvalid},
                                                    {"RegisterServerRequest", status::BadRequestNotAllowed},
                                                    {"RegisterServer2Request", status::BadRequestNotAllowed}};
    const auto expected = without.find(name);
    if (expected != without.end())
      CHECK(outcome.code() == expected->second);
    else
      CHECK((outcome.code() == status::BadSessionIdInvalid || outcome.code() == status::BadServiceUnsupported));
  }
}

TEST_CASE("a damaged request is refused, never more", "[server][vectors]") {
  test::Bench b;
  for (const auto& [name, body] : recordedRequests()) {
    INFO(name);
    for (std::size_t size = 4; size < body.size(); size += 13) {
      b.server->handle(b.peer, 1, BytesView(body).first(size));
      REQUIRE(b.peer->answers.size() == 1);
      CHECK(b.take<ServiceFault>().code().isBad());
    }
    for (std::size_t bit = 0; bit < body.size() * 8; bit += 11) {
      Bytes flipped = body;
      flipped[bit / 8] ^= static_cast<std::byte>(1 << bit % 8);
      b.server->handle(b.peer, 1, flipped);
      REQUIRE(b.peer->answers.size() == 1);
      b.peer->answers.clear();
    }
  }
}

}  // namespace zunth::recorded_test
