#include "service/console/feed.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json_parser.hpp"
#include "service/console/node_pages.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>

namespace zunth::console {

using namespace ua;

namespace {

constexpr std::size_t kMostRows = 20'000, kMostAsked = 100;
constexpr std::size_t kHigh = 256 << 10;      // octets that may wait for a browser
constexpr std::size_t kMostUnsent = 8 << 20;  // octets; who is that far behind has gone, or wants harm
constexpr double kInterval = 100;             // ms between two publishings

}  // namespace

Json valueRow(std::int64_t key, const DataValue& value, const client::VariableFacts& facts) {
  Json row = Json::array();
  row.push_back(key);
  const bool isBad = value.status.isBad();
  row.push_back(isBad ? Json() : client::valueJson(value.value, facts));
  const bool hasWords = !facts.enumeration.empty() || facts.structure || value.value.isArray();
  row.push_back(hasWords && !isBad ? Json(client::valueText(value.value, facts)) : Json());
  row.push_back(value.status.isGood() ? Json() : Json(std::string(value.status.name())));
  row.push_back(timeJson(value.sourceTimestamp.isNull() ? value.serverTimestamp : value.sourceTimestamp));
  return row;
}

Feed::Feed(net::Executor services, server::Server& server, std::shared_ptr<Login> login,
           std::shared_ptr<LiveSocket> socket)
    : executor_(std::move(services)), server_(server), login_(std::move(login)), socket_(std::move(socket)) {}

void Feed::start() {
  ++login_->feeds;
  const std::weak_ptr<Feed> weak = weak_from_this();
  socket_->start({[weak](std::string text) {
                    if (const auto feed = weak.lock()) feed->said(std::move(text));
                  },
                  [weak] {
                    if (const auto feed = weak.lock()) feed->flush();
                  },
                  [weak] {
                    if (const auto feed = weak.lock()) feed->end({status::BadConnectionClosed, {}, {}});
                  }});
}

void Feed::end(const Error& why) {
  if (std::exchange(isOver_, true)) return;
  --login_->feeds;
  if (!why.cause.empty()) send({{"error", admin::jsonOf(why)}});
  socket_->close();
  alarms_.reset();
  if (subscription_ && login_->desk->isOpen())
    boost::asio::co_spawn(
        executor_, [subscription = subscription_]() -> Awaitable<void> { co_await subscription->close(); },
        boost::asio::detached);
  subscription_.reset();
  if (ended_) ended_();
}

void Feed::said(std::string text) {
  auto json = parseJson(text);
  if (!json || !json->is_object()) return end({status::BadSyntaxError, "that was no JSON object", {}});
  if (asked_.size() >= kMostAsked) return end({status::BadTooManyOperations, "too much at once", {}});
  asked_.push_back(std::move(*json));
  if (std::exchange(isWorking_, true)) return;
  boost::asio::co_spawn(executor_, work(), boost::asio::detached);
}

Awaitable<void> Feed::work() {
  const auto self = shared_from_this();
  while (!asked_.empty() && !isOver_) {
    const Json asked = std::move(asked_.front());
    asked_.pop_front();
    if (const auto wanted = asked.find("watch"); wanted != asked.end() && wanted->is_array()) {
      if (auto fine = co_await watch(*wanted); !fine) send({{"error", admin::jsonOf(fine.error())}});
    }
    if (const auto keys = asked.find("drop"); keys != asked.end() && keys->is_array()) co_await drop(*keys);
    if (const auto wanted = asked.find("alarms"); wanted != asked.end()) {
      if (*wanted == true)
        co_await showAlarms();
      else
        alarms_.reset();
    }
  }
  isWorking_ = false;
}

Awaitable<Result<void>> Feed::subscribe() {
  if (subscription_) co_return Result<void>();
  client::Subscription::Settings settings;
  settings.interval = kInterval;
  client::Subscription::Handlers handlers;
  const std::weak_ptr<Feed> weak = weak_from_this();
  handlers.change = [weak](std::uint32_t handle, const DataValue& value) {
    if (const auto feed = weak.lock()) feed->changed(handle, value);
  };
  handlers.failed = [weak](const Error& why) {
    if (const auto feed = weak.lock()) feed->end(why);
  };
  auto made = co_await client::Subscription::create(login_->desk->session(), settings, std::move(handlers));
  if (!made) co_return made.error();
  if (isOver_) {
    co_await (*made)->close();
    co_return Error{status::BadConnectionClosed, "the page has gone", {}};
  }
  subscription_ = *made;
  co_return Result<void>();
}

Awaitable<Result<void>> Feed::watch(Json wanted) {
  if (rows_.size() + wanted.size() > kMostRows)
    co_return Error{status::BadTooManyMonitoredItems, "one page watches 20,000 values at most", "drop some first"};
  if (auto fine = co_await subscribe(); !fine) co_return fine;
  // The page may go while others are waited for.
  const auto subscription = subscription_;
  const auto& space = server_.space();
  Json told = Json::array();
  std::vector<MonitoredItemCreateRequest> items;
  std::vector<NodeId> ids;
  std::vector<std::uint32_t> handles;
  for (const auto& one : wanted) {
    if (!one.is_object()) continue;
    const auto key = one.find("key"), name = one.find("node"), every = one.find("every");
    if (key == one.end() || !key->is_number_integer() || name == one.end() || !name->is_string()) continue;
    const std::int64_t number = key->get<std::int64_t>();
    if (handles_.contains(number)) continue;
    const auto& rights = login_->desk->rights();
    const auto node = nodeNamed(space, rights, name->get<std::string>());
    if (node == space::kNoNode || space.nodeClass(node) != NodeClass::Variable) {
      const Error why = node == space::kNoNode
                            ? noNode(space, name->get<std::string>())
                            : Error{status::BadAttributeIdInvalid, "it has no value", "name a variable"};
      told.push_back({{"key", number}, {"error", admin::jsonOf(why)}});
      continue;
    }
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {space.nodeId(node), static_cast<std::uint32_t>(AttributeId::Value), {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters.clientHandle = ++lastHandle_;
    item.requestedParameters.samplingInterval =
        every != one.end() && every->is_number() ? every->get<double>() : kInterval;
    item.requestedParameters.queueSize = 1;
    item.requestedParameters.discardOldest = true;
    rows_[lastHandle_].key = number;
    handles_[number] = lastHandle_;
    told.push_back({{"key", number},
                    {"id", space.nodeId(node).text()},
                    {"path", space.path(node)},
                    {"facts", briefOf(space, rights, node)["facts"]}});
    ids.push_back(space.nodeId(node));
    handles.push_back(lastHandle_);
    items.push_back(std::move(item));
  }
  if (!items.empty()) {
    auto facts = co_await client::factsOf(login_->desk->session(), ids);
    if (!facts) co_return facts.error();
    if (isOver_) co_return Result<void>();
    for (std::size_t i = 0; i < handles.size(); ++i)
      if (const auto row = rows_.find(handles[i]); row != rows_.end()) row->second.facts = std::move((*facts)[i]);
    auto added = co_await subscription->add(std::move(items));
    if (!added) co_return added.error();
    for (std::size_t i = 0; i < handles.size() && i < added->size(); ++i) {
      const auto row = rows_.find(handles[i]);
      if (row == rows_.end()) continue;
      const auto& result = (*added)[i];
      if (!result.statusCode.isBad()) {
        row->second.item = result.monitoredItemId;
        continue;
      }
      told.push_back({{"key", row->second.key}, {"error", admin::jsonOf(Error{result.statusCode, {}, {}})}});
      handles_.erase(row->second.key);
      rows_.erase(row);
    }
  }
  send({{"watching", std::move(told)}});
  co_return Result<void>();
}

Awaitable<void> Feed::drop(Json keys) {
  std::vector<std::uint32_t> items;
  for (const auto& key : keys) {
    if (!key.is_number_integer()) continue;
    const auto handle = handles_.find(key.get<std::int64_t>());
    if (handle == handles_.end()) continue;
    if (const auto row = rows_.find(handle->second); row != rows_.end()) {
      if (row->second.item) items.push_back(row->second.item);
      waiting_.erase(row->second.key);
      rows_.erase(row);
    }
    handles_.erase(handle);
  }
  const auto subscription = subscription_;
  if (subscription && !items.empty()) (void)co_await subscription->remove(std::move(items));
}

Awaitable<void> Feed::showAlarms() {
  const auto book = login_->desk->alarms;
  auto open = co_await book->open(login_->desk->session());
  if (isOver_) co_return;
  if (!open) co_return send({{"error", admin::jsonOf(open.error())}});
  Json all = Json::array();
  for (const auto& condition : book->standing()) all.push_back(jsonOf(condition));
  send({{"alarms", std::move(all)}});
  alarms_ = book->listen([weak = weak_from_this()](const client::Condition& condition, bool isGone) {
    if (const auto feed = weak.lock()) feed->send({{"alarm", jsonOf(condition)}, {"isGone", isGone}});
  });
}

void Feed::changed(std::uint32_t handle, const DataValue& value) {
  const auto row = rows_.find(handle);
  if (row == rows_.end() || isOver_) return;
  waiting_[row->second.key] = valueRow(row->second.key, value, row->second.facts);
  // What comes in one message leaves in one.
  if (std::exchange(isFlushPosted_, true)) return;
  boost::asio::post(executor_, [weak = weak_from_this()] {
    const auto feed = weak.lock();
    if (!feed) return;
    feed->isFlushPosted_ = false;
    feed->flush();
  });
}

void Feed::flush() {
  if (waiting_.empty() || isOver_ || socket_->unsent() > kHigh) return;
  Json values = Json::array();
  for (auto& [key, row] : waiting_) values.push_back(std::move(row));
  waiting_.clear();
  send({{"values", std::move(values)}});
}

void Feed::send(const Json& json) {
  if (!isOver_ && socket_->unsent() > kMostUnsent)
    return end({status::BadTcpNotEnoughResources, "the page takes what it asked for too slowly", "watch less"});
  socket_->send(json.dump(-1, ' ', false, Json::error_handler_t::replace));
}

}  // namespace zunth::console
