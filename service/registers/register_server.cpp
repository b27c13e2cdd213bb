#include "service/registers/register_server.hpp"

#include "core/ua/foreign.hpp"
#include "service/inner/inner_carrier.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::registers {

using namespace ua;
using client::Awaitable;

namespace {

/// What became of a write, in the words of Modbus.
std::optional<Exception> exceptionOf(StatusCode code) {
  if (!code.isBad()) return std::nullopt;
  if (code == status::BadOutOfRange || code == status::BadTypeMismatch) return Exception::IllegalDataValue;
  if (code == status::BadNotWritable || code == status::BadUserAccessDenied ||
      code == status::BadSecurityModeInsufficient || code == status::BadNodeIdUnknown)
    return Exception::IllegalDataAddress;
  if (code == status::BadTimeout || code == status::BadNoCommunication || code == status::BadNotConnected)
    return Exception::GatewayTargetFailed;
  if (code == status::BadTooManyOperations || code == status::BadResourceUnavailable)
    return Exception::ServerDeviceBusy;
  return Exception::ServerDeviceFailure;
}

}  // namespace

RegisterServer::RegisterServer(Parts parts, RegisterFile file)
    : parts_(std::move(parts)),
      file_(std::move(file)),
      map_(std::make_shared<const RegisterMap>(file_.registers)),
      account_(std::make_shared<server::Account>(server::Account{{file_.roleId}})) {}

void RegisterServer::adopt(RegisterFile file) {
  const bool isOther = !(file.roleId == file_.roleId);
  file_ = std::move(file);
  map_ = std::make_shared<const RegisterMap>(file_.registers);
  told_.clear();
  if (!isOther) return;
  endSessions("the registers are another role's");
  account_ = std::make_shared<server::Account>(server::Account{{file_.roleId}});
}

void RegisterServer::endSessions(const char* why) {
  for (const auto& [host, own] : std::exchange(hosts_, {}))
    parts_.server.endSession(own.session->id(), {status::BadSessionClosed, why, {}});
}

void RegisterServer::close() {
  isOpen_ = false;
  endSessions("the registers are closed");
}

Awaitable<Result<RegisterServer::Session>> RegisterServer::openSession(std::string host) {
  client::Session::Options options;
  options.name = "registers/" + file_.name;
  options.sessionTimeout = 3'600'000;
  options.reconnects = false;
  options.reach = [this, host]() -> Awaitable<Result<std::shared_ptr<client::Carrier>>> {
    server::Entrance entrance{String("modbus-tcp://" + file_.address()), String()};
    inner::InnerCarrier::Parts parts{
        parts_.loops.services(), parts_.server, parts_.served, parts_.nextChannelId(), host + ":0",
        std::move(entrance),     account_};
    std::shared_ptr<client::Carrier> carrier = std::make_shared<inner::InnerCarrier>(std::move(parts));
    co_return carrier;
  };
  auto opened = co_await client::Session::open("modbus-tcp://" + file_.address(), std::move(options));
  co_return opened;
}

/// Made when it is first needed, and anew when somebody has ended it. Of hosts that come and go, the last ones keep
/// theirs.
Awaitable<RegisterServer::Session> RegisterServer::sessionOf(std::string host) {
  constexpr std::size_t kMostHosts = 32;
  const auto isThere = [&] {
    const auto known = hosts_.find(host);
    return known != hosts_.end() && parts_.server.isSession(known->second.session->id());
  };
  const auto now = std::chrono::steady_clock::now();
  if (isOpen_ && !isThere()) {
    auto opened = co_await openSession(host);
    if (!opened) {
      tell("no session", opened.error());
      co_return nullptr;
    }
    // Closed meanwhile, or two have asked for it at once.
    if (!isOpen_ || isThere())
      parts_.server.endSession((*opened)->id(), {status::BadSessionClosed, "it is not needed", {}});
    else
      hosts_[host] = {*opened, now};
    while (hosts_.size() > kMostHosts) {
      const auto oldest = std::ranges::min_element(hosts_, {}, [](const auto& each) { return each.second.lastAsked; });
      parts_.server.endSession(oldest->second.session->id(), {status::BadSessionClosed, "others came", {}});
      hosts_.erase(oldest);
    }
  }
  if (!isOpen_) co_return nullptr;
  const auto known = hosts_.find(host);
  if (known == hosts_.end()) co_return nullptr;
  known->second.lastAsked = now;
  co_return known->second.session;
}

/// Once for each cause: a client asks again many times a second.
void RegisterServer::tell(const std::string& what, const Error& why) {
  constexpr std::size_t kMost = 1'000;
  if (told_.size() < kMost && told_.insert(what + why.text()).second)
    logs::clients().warn("registers/{}: {}: {}", file_.name, what, why.text());
}

Awaitable<Bytes> RegisterServer::answer(Bytes pdu, std::string host) {
  ++requests_;
  const auto request = parseRequest(pdu);
  const std::uint8_t function = pdu.empty() ? std::uint8_t{0} : std::to_integer<std::uint8_t>(pdu.front());
  Bytes out;
  if (request)
    out = co_await carryOut(*request, std::move(host));
  else
    out = answerException(function, request.exception());
  if (!out.empty() && std::to_integer<unsigned>(out.front()) & 0x80) ++refused_;
  co_return out;
}

Awaitable<Bytes> RegisterServer::carryOut(const Request& request, std::string host) {
  using Kind = Request::Kind;
  if (request.kind == Kind::Identify) {
    const std::vector<std::string> texts{"Zunth", parts_.server.settings().applicationName, file_.name};
    co_return answerIdentity(request, texts);
  }
  const auto session = co_await sessionOf(std::move(host));
  if (!session) co_return answerException(request.function, Exception::ServerDeviceBusy);
  std::optional<Exception> failed;
  if (request.kind == Kind::Mask)
    failed = co_await writeMasked(request, session);
  else if (request.kind != Kind::Read)
    failed = co_await write(request.written, request.words, 0xFFFF, session);
  if (failed) co_return answerException(request.function, *failed);
  if (request.kind == Kind::Write || request.kind == Kind::Mask) co_return answerWritten(request);
  const auto words = co_await read(request.read, session);
  if (!words) co_return answerException(request.function, words.exception());
  co_return answerRead(request, *words);
}

Awaitable<Outcome<std::vector<std::uint16_t>>> RegisterServer::read(Span span, Session session) {
  const auto map = map_;
  const auto touched = map->touched(span.table, span.first, span.count);
  if (!touched) co_return touched.exception();
  std::vector<ReadValueId> wanted;
  for (const auto number : *touched) {
    wanted.push_back({map->registers()[number].node, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  }
  const auto values = co_await session->read(std::move(wanted), TimestampsToReturn::Neither);
  if (!values) {
    tell("can't be read", values.error());
    co_return Exception::ServerDeviceFailure;
  }
  std::vector<DataValue> list(values->begin(), values->end());
  co_return map->image(span.table, span.first, span.count, *touched, list);
}

Awaitable<std::optional<Exception>> RegisterServer::write(Span span, std::vector<std::uint16_t> words,
                                                          std::uint16_t mask, Session session) {
  const auto map = map_;
  auto writes = map->writes(span.table, span.first, words, mask);
  if (!writes) co_return writes.exception();
  if (writes->empty()) co_return std::nullopt;
  WriteRequest request;
  for (const auto& one : *writes) {
    WriteValue value;
    value.nodeId = map->registers()[one.number].node;
    value.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
    value.value = DataValue(one.value);
    request.nodesToWrite.push_back(std::move(value));
  }
  const auto response = co_await session->request(std::move(request));
  if (!response) {
    tell("can't be written", response.error());
    co_return exceptionOf(response.code()).value_or(Exception::ServerDeviceFailure);
  }
  // What was taken stays; the client hears of the first that was not.
  for (std::size_t i = 0; i < response->results.size() && i < writes->size(); ++i)
    if (const auto exception = exceptionOf(response->results[i])) {
      const Register& refused = map->registers()[(*writes)[i].number];
      tell(fmt::format("{} is not written", shown(refused.path)), Error{response->results[i], {}, {}});
      co_return *exception;
    }
  co_return std::nullopt;
}

/// Single bits of a register: those that are nodes of their own are written, a number is read first.
Awaitable<std::optional<Exception>> RegisterServer::writeMasked(const Request& request, Session session) {
  const auto map = map_;
  const auto touched = map->touched(Table::HoldingRegister, request.written.first, 1);
  if (!touched) co_return touched.exception();
  const auto changed = static_cast<std::uint16_t>(~request.andMask);
  const bool areBits = map->registers()[touched->front()].conversion.bit >= 0;
  if (areBits) {
    std::vector<std::uint16_t> words{static_cast<std::uint16_t>(request.orMask & changed)};
    co_return co_await write(request.written, std::move(words), changed, session);
  }
  const auto now = co_await read(request.written, session);
  if (!now) co_return now.exception();
  std::vector<std::uint16_t> words{
      static_cast<std::uint16_t>((now->front() & request.andMask) | (request.orMask & changed))};
  co_return co_await write(request.written, std::move(words), 0xFFFF, session);
}

}  // namespace zunth::registers
