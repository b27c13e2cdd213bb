#include "service/admin/push_configuration.hpp"

#include <algorithm>

#include <boost/asio/ip/host_name.hpp>
#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using server::CallOutcome;
using server::refused;

namespace {

constexpr std::size_t kMostOctets = 1u << 20;  // of a trust list
constexpr std::size_t kMostFiles = 10;
constexpr auto kIdle = std::chrono::minutes(1);
constexpr std::uint32_t kAllLists = TrustListMasks::TrustedCertificates | TrustListMasks::TrustedCrls |
                                    TrustListMasks::IssuerCertificates | TrustListMasks::IssuerCrls;
constexpr const char* kTrustList = "CertificateGroups/DefaultApplicationGroup/TrustList";

CallOutcome answer(std::vector<Variant> outputs = {}) {
  CallOutcome out;
  out.outputs = std::move(outputs);
  return out;
}

bool isDefaultGroup(const Variant& group) {
  const auto* id = group.get<NodeId>();
  return id && (id->isNull() || id->is(id::ServerConfiguration_CertificateGroups_DefaultApplicationGroup));
}
/// The kind of key that a type of certificates stands for (Part 12, 7.8.4); RSA when none is named.
secure::KeyKind kindOf(const Variant& type) {
  const auto* id = type.get<NodeId>();
  if (id && (id->isNull() || id->is(id::RsaSha256ApplicationCertificateType))) return secure::KeyKind::Rsa;
  if (id && id->is(id::EccNistP256ApplicationCertificateType)) return secure::KeyKind::NistP256;
  if (id && id->is(id::EccNistP384ApplicationCertificateType)) return secure::KeyKind::NistP384;
  return secure::KeyKind::Other;
}
const char* const kWhatThereIs =
    "this server has one group, and certificates with RSA keys and with keys on NIST's P-256 and P-384";
std::string textOf(const Variant& value) {
  const auto* text = value.get<String>();
  return text ? text->str() : std::string();
}

std::string_view trimmed(std::string_view text) {
  const auto from = text.find_first_not_of(' ');
  return from == std::string_view::npos ? text.substr(0, 0) : text.substr(from, text.find_last_not_of(' ') - from + 1);
}

/// The part of a distinguished name as "CN=Intake,O=Fernhollow" or with slashes between.
std::string partOf(const std::string& subject, const std::string& key) {
  const std::string_view text = subject;
  for (std::size_t from = 0; from < text.size();) {
    const auto to = std::min(text.find_first_of(",/", from), text.size());
    const auto part = text.substr(from, to - from);
    from = to + 1;
    const auto equals = part.find('=');
    if (equals == std::string_view::npos || trimmed(part.substr(0, equals)) != key) continue;
    return std::string(trimmed(part.substr(equals + 1)));
  }
  return {};
}

}  // namespace

PushConfiguration::PushConfiguration(server::Server& server, TrustStore& store, std::string applicationUri,
                                     std::function<void()> changed)
    : server_(server), store_(store), applicationUri_(std::move(applicationUri)), changed_(std::move(changed)) {
  if (nodeAt("") == space::kNoNode) return;
  bind("UpdateCertificate", &PushConfiguration::updateCertificate);
  bind("CreateSigningRequest", &PushConfiguration::createSigningRequest);
  bind("ApplyChanges", &PushConfiguration::applyChanges);
  bind("GetRejectedList", &PushConfiguration::getRejectedList);
  for (const auto& [name, method] :
       {std::pair{"Open", &PushConfiguration::open}, std::pair{"OpenWithMasks", &PushConfiguration::openWithMasks},
        std::pair{"Read", &PushConfiguration::read}, std::pair{"Write", &PushConfiguration::write},
        std::pair{"GetPosition", &PushConfiguration::getPosition},
        std::pair{"SetPosition", &PushConfiguration::setPosition}, std::pair{"Close", &PushConfiguration::close},
        std::pair{"CloseAndUpdate", &PushConfiguration::closeAndUpdate},
        std::pair{"AddCertificate", &PushConfiguration::addCertificate},
        std::pair{"RemoveCertificate", &PushConfiguration::removeCertificate}})
    bind((std::string(kTrustList) + "/" + name).c_str(), method);
  show("ServerCapabilities", Variant::array(std::vector<String>{String("NA")}));
  show("SupportedPrivateKeyFormats", Variant::array(std::vector<String>{String("PEM")}));
  show("MaxTrustListSize", Variant(static_cast<std::uint32_t>(kMostOctets)));
  show("MulticastDnsEnabled", Variant(false));
  const std::string list = kTrustList;
  show((list + "/Writable").c_str(), Variant(true));
  show("CertificateGroups/DefaultApplicationGroup/CertificateTypes",
       Variant::array(std::vector<NodeId>{NodeId(id::RsaSha256ApplicationCertificateType),
                                          NodeId(id::EccNistP256ApplicationCertificateType),
                                          NodeId(id::EccNistP384ApplicationCertificateType)}));
  auto& space = server_.space();
  // Who reads it is told what Open would say.
  if (const auto own = nodeAt((list + "/UserWritable").c_str()); own != space::kNoNode)
    space.setSource(own, [] { return DataValue(Variant(true)); });
  if (const auto size = nodeAt((list + "/Size").c_str()); size != space::kNoNode)
    space.setSource(size, [this] {
      return DataValue(Variant(static_cast<std::uint64_t>(encode(store_.lists(kAllLists)).size())));
    });
  if (const auto count = nodeAt((list + "/OpenCount").c_str()); count != space::kNoNode)
    space.setSource(count, [this] { return DataValue(Variant(static_cast<std::uint16_t>(files_.size()))); });
  if (const auto updated = nodeAt((list + "/LastUpdateTime").c_str()); updated != space::kNoNode)
    space.setSource(updated, [this] { return DataValue(Variant(store_.updated())); });
}

space::NodeIndex PushConfiguration::nodeAt(const char* path) const {
  auto& space = server_.space();
  auto node = space.find(NodeId(id::ServerConfiguration));
  std::string_view rest = path;
  while (node != space::kNoNode && !rest.empty()) {
    const auto slash = rest.find('/');
    node = space.child(node, {0, String(rest.substr(0, slash))});
    rest = slash == std::string_view::npos ? std::string_view() : rest.substr(slash + 1);
  }
  return node;
}

void PushConfiguration::bind(const char* path, Outcome (PushConfiguration::*method)(const Inputs&, const NodeId&)) {
  const auto node = nodeAt(path);
  if (node == space::kNoNode) return;
  server_.space().setPermissions(node, space::securityAdministrators());
  server_.setSessionMethod(
      node, [this, method](const Inputs& inputs, const NodeId& session) { return (this->*method)(inputs, session); });
}

void PushConfiguration::show(const char* path, Variant value) {
  if (const auto node = nodeAt(path); node != space::kNoNode)
    server_.space().setValue(node, DataValue(std::move(value)));
}

// The trust list as a file (Part 12, 7.8.2; Part 20)

namespace {

const Error kBeingWritten{status::BadInvalidState, "somebody is writing the trust list", "try again when it is closed"};

bool isBeingWritten(const auto& files) {
  return std::ranges::any_of(files, [](const auto& file) { return file.second.isWritten; });
}

}  // namespace

void PushConfiguration::dropIdleFiles() {
  const auto now = std::chrono::steady_clock::now();
  std::erase_if(files_, [&](const auto& file) {
    return now - file.second.used > kIdle || !server_.isSession(file.second.session);
  });
}

Result<PushConfiguration::OpenFile*> PushConfiguration::file(const Variant& handle, const NodeId& session) {
  dropIdleFiles();
  const auto* number = handle.get<std::uint32_t>();
  const auto found = number ? files_.find(*number) : files_.end();
  if (found == files_.end() || !(found->second.session == session))
    return Error{status::BadInvalidArgument, "no file is open under this handle", {}};
  found->second.used = std::chrono::steady_clock::now();
  return &found->second;
}

CallOutcome PushConfiguration::openFile(const NodeId& session, OpenFile file) {
  dropIdleFiles();
  if (files_.size() >= kMostFiles) return refused(status::BadResourceUnavailable, "too many files are open");
  if (isBeingWritten(files_)) return refused(status::BadNotReadable, "somebody is writing the trust list");
  if (file.isWritten && !files_.empty()) return refused(status::BadNotWritable, "somebody has the trust list open");
  file.session = session;
  file.used = std::chrono::steady_clock::now();
  files_[++lastHandle_] = std::move(file);
  return answer({Variant(lastHandle_)});
}

CallOutcome PushConfiguration::open(const Inputs& inputs, const NodeId& session) {
  constexpr std::uint8_t kReads = 1, kErasesAndWrites = 2 | 4;
  const auto* mode = inputs[0].get<std::uint8_t>();
  if (!mode || (*mode != kReads && *mode != kErasesAndWrites))
    return refused(status::BadInvalidArgument, "a trust list is opened to be read, or to be written anew");
  OpenFile file;
  file.isWritten = *mode != kReads;
  if (!file.isWritten) file.octets = encode(store_.lists(kAllLists));
  return openFile(session, std::move(file));
}

CallOutcome PushConfiguration::openWithMasks(const Inputs& inputs, const NodeId& session) {
  OpenFile file;
  file.octets = encode(store_.lists(*inputs[0].get<std::uint32_t>() & kAllLists));
  return openFile(session, std::move(file));
}

CallOutcome PushConfiguration::read(const Inputs& inputs, const NodeId& session) {
  auto open = file(inputs[0], session);
  if (!open) return refused(open.error());
  const std::int32_t length = *inputs[1].get<std::int32_t>();
  if (length < 0) return refused(status::BadInvalidArgument, "a length can't be negative");
  if ((*open)->isWritten) return refused(status::BadInvalidState, "the file was opened to be written");
  auto& position = (*open)->position;
  const std::size_t count = std::min<std::size_t>(static_cast<std::size_t>(length), (*open)->octets.size() - position);
  const ByteString part((*open)->octets.data() + position, count);
  position += count;
  return answer({Variant(part)});
}

CallOutcome PushConfiguration::write(const Inputs& inputs, const NodeId& session) {
  auto open = file(inputs[0], session);
  if (!open) return refused(open.error());
  if (!(*open)->isWritten) return refused(status::BadInvalidState, "the file was opened to be read");
  const auto data = inputs[1].get<ByteString>()->bytes();
  auto& octets = (*open)->octets;
  auto& position = (*open)->position;
  if (position + data.size() > kMostOctets)
    return refused(status::BadEncodingLimitsExceeded, "a trust list has a megabyte at most");
  if (octets.size() < position + data.size()) octets.resize(position + data.size());
  std::ranges::copy(data, octets.begin() + static_cast<std::ptrdiff_t>(position));
  position += data.size();
  return answer();
}

CallOutcome PushConfiguration::getPosition(const Inputs& inputs, const NodeId& session) {
  auto open = file(inputs[0], session);
  if (!open) return refused(open.error());
  return answer({Variant(static_cast<std::uint64_t>((*open)->position))});
}

CallOutcome PushConfiguration::setPosition(const Inputs& inputs, const NodeId& session) {
  auto open = file(inputs[0], session);
  if (!open) return refused(open.error());
  (*open)->position =
      static_cast<std::size_t>(std::min<std::uint64_t>(*inputs[1].get<std::uint64_t>(), (*open)->octets.size()));
  return answer();
}

CallOutcome PushConfiguration::close(const Inputs& inputs, const NodeId& session) {
  if (auto open = file(inputs[0], session); !open) return refused(open.error());
  files_.erase(*inputs[0].get<std::uint32_t>());
  return answer();
}

CallOutcome PushConfiguration::closeAndUpdate(const Inputs& inputs, const NodeId& session) {
  auto open = file(inputs[0], session);
  if (!open) return refused(open.error());
  if (!(*open)->isWritten) return refused(status::BadInvalidState, "the file was opened to be read");
  const Bytes octets = std::move((*open)->octets);
  files_.erase(*inputs[0].get<std::uint32_t>());
  auto lists = decode<TrustListDataType>(octets);
  if (!lists) return refused(status::BadInvalidArgument, "what was written is no trust list: " + lists.error().cause);
  if (auto replaced = store_.replace(*lists); !replaced) return refused(replaced.error());
  changed_();
  return answer({Variant(false)});
}

CallOutcome PushConfiguration::addCertificate(const Inputs& inputs, const NodeId&) {
  dropIdleFiles();
  // Part 12, 7.8.2.9: what is being written anew is not changed meanwhile.
  if (isBeingWritten(files_)) return refused(kBeingWritten);
  auto certificate = secure::Certificate::fromDer(*inputs[0].get<ByteString>());
  if (!certificate) return refused(status::BadCertificateInvalid, certificate.error().cause);
  if (!*inputs[1].get<bool>())
    return refused(status::BadCertificateInvalid, "issuers are pushed together with their revocation lists");
  if (auto added = store_.trust(*certificate); !added) return refused(added.error());
  changed_();
  return answer();
}

CallOutcome PushConfiguration::removeCertificate(const Inputs& inputs, const NodeId&) {
  dropIdleFiles();
  if (isBeingWritten(files_)) return refused(kBeingWritten);
  const std::string thumbprint = textOf(inputs[0]);
  const auto kind = *inputs[1].get<bool>() ? TrustStore::Kind::Trusted : TrustStore::Kind::Issuer;
  for (const auto& entry : store_.entries()) {
    if (entry.kind != kind || entry.certificate.thumbprintText() != thumbprint) continue;
    if (auto removed = store_.remove(entry); !removed) return refused(removed.error());
    changed_();
    return answer();
  }
  return refused(status::BadInvalidArgument, "no such certificate is on the list");
}

// The server's own certificate (Part 12, 7.10.4 to 7.10.7)

CallOutcome PushConfiguration::updateCertificate(const Inputs& inputs, const NodeId& session) {
  // Part 12, 7.10.3: what one session has begun, it brings to its end.
  if (pushed_ && !server_.isSession(pushed_->session)) pushed_.reset();
  if (pushed_ && !(pushed_->session == session))
    return refused(status::BadTransactionPending, "another session has pushed a certificate and not applied it yet");
  const auto kind = kindOf(inputs[1]);
  if (!isDefaultGroup(inputs[0]) || kind == secure::KeyKind::Other)
    return refused(status::BadInvalidArgument, kWhatThereIs);
  const std::string format = textOf(inputs[4]);
  const auto* key = inputs[5].get<ByteString>();
  if (!format.empty() && format != "PEM") return refused(status::BadNotSupported, "keys come in PEM");
  auto certificate = secure::Certificate::fromFile(inputs[2].get<ByteString>()->view());
  if (certificate && certificate->keyKind() != kind)
    return refused(status::BadCertificateInvalid, "the certificate's key is of another kind than was named");
  std::string chain(inputs[2].get<ByteString>()->view());
  for (const auto& issuer : inputs[3].items<ByteString>()) chain += issuer.view();
  Pushed pushed{session, std::move(chain), format.empty() || !key ? std::string() : std::string(key->view())};
  if (auto fine = store_.checkImport(pushed.certificate, pushed.key); !fine)
    return refused(status::BadSecurityChecksFailed, fine.error().cause);
  pushed_ = std::move(pushed);
  return answer({Variant(true)});
}

CallOutcome PushConfiguration::createSigningRequest(const Inputs& inputs, const NodeId&) {
  const auto kind = kindOf(inputs[1]);
  if (!isDefaultGroup(inputs[0]) || kind == secure::KeyKind::Other)
    return refused(status::BadInvalidArgument, kWhatThereIs);
  const auto identity = server_.settings().identities.of(kind);
  secure::Certificate::Wish wish;
  // Part 12, 7.10.9: without a subject, the one that the certificate has now; and no other than was asked for.
  std::string subject = textOf(inputs[2]);
  if (subject.empty() && identity) subject = identity->certificate.subject();
  wish.commonName = partOf(subject, "CN");
  wish.organization = partOf(subject, "O");
  if (wish.commonName.empty() && subject.empty()) wish.commonName = server_.settings().applicationName;
  const auto equals = static_cast<std::size_t>(std::ranges::count(subject, '='));
  if (wish.commonName.empty() || (!subject.empty() && equals != 1u + (wish.organization.empty() ? 0u : 1u)))
    return refused(status::BadInvalidArgument, "a subject has a CN and, if wanted, an O, and nothing else here");
  wish.applicationUri = applicationUri_;
  wish.hosts = identity ? identity->certificate.hosts() : std::vector<std::string>{boost::asio::ip::host_name()};
  auto request = store_.signingRequest(wish, *inputs[3].get<bool>(), kind);
  if (!request) return refused(request.error());
  return answer({Variant(ByteString(request->data(), request->size()))});
}

CallOutcome PushConfiguration::applyChanges(const Inputs&, const NodeId& session) {
  if (!pushed_ || !(pushed_->session == session))
    return refused(status::BadNothingToDo, "no certificate waits to be applied");
  auto taken = store_.import(pushed_->certificate, pushed_->key);
  pushed_.reset();
  if (!taken) return refused(taken.error());
  changed_();
  return answer();
}

CallOutcome PushConfiguration::getRejectedList(const Inputs&, const NodeId&) {
  std::vector<ByteString> out;
  for (const auto& entry : store_.entries())
    if (entry.kind == TrustStore::Kind::Rejected) out.push_back(entry.certificate.der());
  return answer({Variant::array(out)});
}

}  // namespace zunth::admin
