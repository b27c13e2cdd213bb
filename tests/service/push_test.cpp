// Push configuration: an administrator reads and writes the trust list and hands over a certificate, over the wire's
// own services; and what is pushed is what the store holds.
#include "service/admin/push_configuration.hpp"

#include "tests/authority.hpp"
#include "tests/identity.hpp"
#include "tests/service/fake_peer.hpp"
#include "tests/service/process.hpp"
#include <catch2/catch.hpp>

namespace zunth::push_test {

using namespace zunth::ua;
using test::Authority;
using test::Bench;

namespace {

struct Pushing {
  Pushing() : store(folder.path / "trust") {
    bench = std::make_unique<Bench>(true, [](server::Settings& settings) {
      settings.identities = test::identity("urn:fernhollow.example:test");
      settings.roles = server::rolesForEveryone(id::WellKnownRole_SecurityAdmin);
    });
    REQUIRE(store.identity("Fernhollow test", "urn:fernhollow.example:test", {"localhost"}));
    push = std::make_unique<admin::PushConfiguration>(*bench->server, store, "urn:fernhollow.example:test",
                                                      [this] { ++changes; });
    bench->peer->pretend(MessageSecurityMode::SignAndEncrypt);
    bench->open();
  }
  CallMethodResult call(StandardId object, StandardId method, std::vector<Variant> inputs) {
    CallRequest request;
    request.methodsToCall.push_back({object, method, List<Variant>(std::move(inputs))});
    auto response = bench->call(std::move(request));
    REQUIRE(response);
    return response->results[0];
  }
  CallMethodResult list(StandardId method, std::vector<Variant> inputs) {
    return call(id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup_TrustList, method, std::move(inputs));
  }
  CallMethodResult configure(StandardId method, std::vector<Variant> inputs) {
    return call(id::ServerConfiguration, method, std::move(inputs));
  }
  test::TemporaryFolder folder;
  admin::TrustStore store;
  std::unique_ptr<Bench> bench;
  std::unique_ptr<admin::PushConfiguration> push;
  int changes = 0;
};

#define TRUST_LIST(Method) id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup_TrustList_##Method

std::uint32_t handleOf(const CallMethodResult& result) {
  REQUIRE(result.statusCode.isGood());
  return *result.outputArguments.at(0).get<std::uint32_t>();
}

}  // namespace

TEST_CASE("a trust list is read and written as a file", "[push][cu:Push Model for Certificate and TrustList]") {
  Pushing p;
  const Authority authority;
  Authority::Wish wish;
  const auto device = authority.issue(wish);

  auto handle = handleOf(p.list(TRUST_LIST(Open), {Variant(std::uint8_t{6})}));
  CHECK(p.list(TRUST_LIST(Open), {Variant(std::uint8_t{1})}).statusCode == status::BadNotReadable);
  TrustListDataType wanted;
  wanted.specifiedLists = 15;
  wanted.trustedCertificates.push_back(device.certificate.der());
  wanted.issuerCertificates.push_back(authority.certificate().der());
  wanted.issuerCrls.push_back(authority.revoke({}).der());
  const Bytes octets = encode(wanted);
  // In two pieces, as a large one would come.
  for (const auto part : {BytesView(octets).first(100), BytesView(octets).subspan(100)})
    CHECK(p.list(TRUST_LIST(Write), {Variant(handle), Variant(ByteString(part))}).statusCode.isGood());
  const auto updated = p.list(TRUST_LIST(CloseAndUpdate), {Variant(handle)});
  REQUIRE(updated.statusCode.isGood());
  CHECK(*updated.outputArguments[0].get<bool>() == false);
  CHECK(p.changes == 1);
  CHECK(p.store.load().trusted.size() == 1);
  CHECK(p.store.load().revocations.size() == 1);

  handle = handleOf(p.list(TRUST_LIST(OpenWithMasks), {Variant(std::uint32_t{1})}));
  const auto read = p.list(TRUST_LIST(Read), {Variant(handle), Variant(std::int32_t{100'000})});
  REQUIRE(read.statusCode.isGood());
  const auto got = decode<TrustListDataType>(read.outputArguments[0].get<ByteString>()->bytes());
  REQUIRE(got);
  REQUIRE(got->trustedCertificates.size() == 1);
  CHECK(got->trustedCertificates[0] == device.certificate.der());
  CHECK(got->issuerCertificates.empty());
  CHECK(p.list(TRUST_LIST(Close), {Variant(handle)}).statusCode.isGood());
  CHECK(p.list(TRUST_LIST(Read), {Variant(handle), Variant(std::int32_t{1})}).statusCode == status::BadInvalidArgument);

  // One by one
  const auto other = Authority::self(wish);
  CHECK(p.list(TRUST_LIST(AddCertificate), {Variant(other.certificate.der()), Variant(true)}).statusCode.isGood());
  CHECK(p.store.load().trusted.size() == 2);
  const String print(other.certificate.thumbprintText());
  CHECK(p.list(TRUST_LIST(RemoveCertificate), {Variant(print), Variant(true)}).statusCode.isGood());
  CHECK(p.list(TRUST_LIST(RemoveCertificate), {Variant(print), Variant(true)}).statusCode ==
        status::BadInvalidArgument);
  // What is being written anew is not changed meanwhile (Part 12, 7.8.2.9).
  handle = handleOf(p.list(TRUST_LIST(Open), {Variant(std::uint8_t{6})}));
  CHECK(
      p.list(TRUST_LIST(AddCertificate), {Variant(Authority::self({}).certificate.der()), Variant(true)}).statusCode ==
      status::BadInvalidState);
  CHECK(p.list(TRUST_LIST(RemoveCertificate), {Variant(print), Variant(true)}).statusCode == status::BadInvalidState);
  CHECK(p.list(TRUST_LIST(Close), {Variant(handle)}).statusCode.isGood());
  // A list left open is closed with its session.
  handleOf(p.list(TRUST_LIST(Open), {Variant(std::uint8_t{6})}));
  CHECK(p.bench->call(CloseSessionRequest{}));
  p.bench->open();
  CHECK(p.list(TRUST_LIST(RemoveCertificate), {Variant(print), Variant(true)}).statusCode ==
        status::BadInvalidArgument);
  // What is no trust list changes nothing.
  handle = handleOf(p.list(TRUST_LIST(Open), {Variant(std::uint8_t{6})}));
  CHECK(p.list(TRUST_LIST(Write), {Variant(handle), Variant(ByteString("trout", 5))}).statusCode.isGood());
  CHECK(p.list(TRUST_LIST(CloseAndUpdate), {Variant(handle)}).statusCode == status::BadInvalidArgument);
  CHECK(p.store.load().trusted.size() == 1);
}

TEST_CASE("a certificate is asked for, made by an authority and taken", "[push]") {
  Pushing p;
  const Authority authority;
  const auto request = p.configure(id::ServerConfiguration_CreateSigningRequest,
                                   {Variant(NodeId()), Variant(NodeId()), Variant(String("CN=Intake,O=Fernhollow")),
                                    Variant(true), Variant(ByteString())});
  REQUIRE(request.statusCode.isGood());
  const auto der = request.outputArguments[0].get<ByteString>()->view();
  const auto* at = reinterpret_cast<const unsigned char*>(der.data());
  std::unique_ptr<X509_REQ, decltype(&X509_REQ_free)> parsed(d2i_X509_REQ(nullptr, &at, static_cast<long>(der.size())),
                                                             &X509_REQ_free);
  REQUIRE(parsed);
  CHECK(X509_REQ_verify(parsed.get(), X509_REQ_get0_pubkey(parsed.get())) == 1);
  // The authority's part: a certificate for the key of the request.
  const auto made = authority.sign(parsed.get());
  const auto update = [&](const secure::Certificate& certificate) {
    return p.configure(id::ServerConfiguration_UpdateCertificate,
                       {Variant(NodeId()), Variant(NodeId()), Variant(certificate.der()),
                        Variant::array(std::vector<ByteString>{authority.certificate().der()}), Variant(String()),
                        Variant(ByteString())});
  };
  CHECK(p.configure(id::ServerConfiguration_ApplyChanges, {}).statusCode == status::BadNothingToDo);
  CHECK(update(Authority::self({}).certificate).statusCode == status::BadSecurityChecksFailed);
  REQUIRE(update(made).statusCode.isGood());
  CHECK(p.changes == 0);
  // Another session neither takes its place nor applies it.
  const NodeId first = p.bench->token;
  p.bench->open();
  CHECK(update(made).statusCode == status::BadTransactionPending);
  CHECK(p.configure(id::ServerConfiguration_ApplyChanges, {}).statusCode == status::BadNothingToDo);
  p.bench->token = first;
  CHECK(p.configure(id::ServerConfiguration_ApplyChanges, {}).statusCode.isGood());
  CHECK(p.changes == 1);
  CHECK(p.store.identity({}, {}, {})->certificate == made);
  p.store.reject(Authority::self({}).certificate);
  const auto rejected = p.configure(id::ServerConfiguration_GetRejectedList, {});
  REQUIRE(rejected.statusCode.isGood());
  CHECK(rejected.outputArguments[0].items<ByteString>().size() == 1);
}

TEST_CASE("a signing request has the subject that was asked for, or the present one", "[push]") {
  Pushing p;
  const auto subjectOf = [&](const char* asked) -> std::string {
    const auto made = p.configure(
        id::ServerConfiguration_CreateSigningRequest,
        {Variant(NodeId()), Variant(NodeId()), Variant(String(asked)), Variant(true), Variant(ByteString())});
    if (made.statusCode.isBad()) return std::string(made.statusCode.name());
    const auto der = made.outputArguments[0].get<ByteString>()->view();
    const auto* at = reinterpret_cast<const unsigned char*>(der.data());
    std::unique_ptr<X509_REQ, decltype(&X509_REQ_free)> request(
        d2i_X509_REQ(nullptr, &at, static_cast<long>(der.size())), &X509_REQ_free);
    char* text = X509_NAME_oneline(X509_REQ_get_subject_name(request.get()), nullptr, 0);
    const std::string out = text;
    OPENSSL_free(text);
    return out;
  };
  CHECK(subjectOf("CN=Intake,O=Fernhollow") == "/CN=Intake/O=Fernhollow");
  CHECK(subjectOf("CN=Intake") == "/CN=Intake");
  CHECK(subjectOf("CN=Intake,OU=Hatchery") == "BadInvalidArgument");
  CHECK(subjectOf("O=Fernhollow") == "BadInvalidArgument");
  CHECK(subjectOf("").starts_with("/CN="));
}

TEST_CASE("only security administrators on encrypted channels push", "[push]") {
  Pushing p;
  p.bench->peer->pretend(MessageSecurityMode::Sign);
  (void)p.bench->call(ActivateSessionRequest{});
  CHECK(p.configure(id::ServerConfiguration_GetRejectedList, {}).statusCode == status::BadSecurityModeInsufficient);
  Bench engineer(
      true, [](server::Settings& settings) { settings.roles = server::rolesForEveryone(id::WellKnownRole_Engineer); });
  admin::PushConfiguration push(*engineer.server, p.store, "urn:x", [] {});
  engineer.peer->pretend(MessageSecurityMode::SignAndEncrypt);
  engineer.open();
  CallRequest request;
  request.methodsToCall.push_back({id::ServerConfiguration, id::ServerConfiguration_GetRejectedList, {}});
  CHECK(engineer.call(request)->results[0].statusCode == status::BadUserAccessDenied);

  // What a file says of its reader is what Open would say.
  const auto isOwn = [](Bench& bench) {
    ReadRequest read;
    read.nodesToRead.push_back(
        {id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup_TrustList_UserWritable, 13, {}, {}});
    return bench.call(read)->results[0].value;
  };
  CHECK(isOwn(engineer) == Variant(false));
  Pushing administrator;
  CHECK(isOwn(*administrator.bench) == Variant(true));
}

}  // namespace zunth::push_test
