#include "core/aggregate/function.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/client/past.hpp"
#include "service/console/console.hpp"
#include "service/console/node_pages.hpp"

namespace zunth::console {

using namespace ua;

namespace {

Json rowsOf(const std::vector<DataValue>& values) {
  Json rows = Json::array();
  for (const auto& value : values) {
    double number = 0;
    const bool isNumber = !value.status.isBad() && value.value.toDouble(number) && std::isfinite(number);
    Json row = Json::array();
    row.push_back(timeJson(value.sourceTimestamp));
    row.push_back(isNumber ? Json(number) : value.status.isBad() ? Json() : Json(format(value.value, {200, 4})));
    row.push_back(value.status.isGood() ? Json() : Json(std::string(value.status.name())));
    rows.push_back(std::move(row));
  }
  return rows;
}

/// The lowest and the highest of each interval, at their own times: what a plot of so many columns would show. Where no
/// more than half of an interval was good there is a gap.
Awaitable<Result<std::vector<DataValue>>> envelope(std::shared_ptr<client::Session> session, NodeId node, DateTime from,
                                                   DateTime to, std::size_t columns) {
  std::vector<DataValue> all;
  const double every = static_cast<double>(to.ticks - from.ticks) / 10'000 / static_cast<double>(columns);
  constexpr const char* kBad = "PercentBad";
  for (const auto* name : {"MinimumActualTime", "MaximumActualTime", kBad}) {
    client::PastWish wish;
    wish.from = from;
    wish.to = to;
    wish.every = std::max(1.0, every);
    wish.function = aggregate::functionNamed(name);
    auto past = co_await client::readPast(session, std::vector<NodeId>(1, node), wish, {});
    if (!past) co_return past.error();
    if (past->front().error.code.isBad()) co_return past->front().error;
    for (auto& value : past->front().values) {
      double percent = 0;
      if (name != kBad) {
        if (!value.value.isNull() || value.status != status::BadNoData) all.push_back(std::move(value));
      } else if (value.value.toDouble(percent) && percent >= 50) {
        all.emplace_back(Variant(), value.sourceTimestamp, status::BadNoData);
      }
    }
  }
  std::ranges::stable_sort(all, {}, &DataValue::sourceTimestamp);
  co_return all;
}

Awaitable<Answer> tellHistory(Console& console, Visit visit) {
  const auto span = spanOf(visit);
  if (!span) co_return Answer::of(span.error());
  const std::size_t points = std::max<std::size_t>(10, visit.request.number("points", 1'000, 20'000));
  const auto name = visit.request.value("node");
  const auto node = nodeNamed(console.space(), visit.rights(), name);
  if (node == space::kNoNode) co_return Answer::of(noNode(console.space(), name));
  const NodeId id = console.space().nodeId(node);
  client::PastWish wish;
  wish.from = span->from;
  wish.to = span->to;
  wish.most = static_cast<std::uint32_t>(2 * points + 1);
  wish.withBounds = true;
  auto past = co_await client::readPast(visit.session(), std::vector<NodeId>(1, id), wish, {});
  if (!past) co_return Answer::of(past.error());
  if (past->front().error.code.isBad()) co_return Answer::of(past->front().error);
  auto& values = past->front().values;
  const bool isWhole = values.size() <= 2 * points;
  if (!isWhole) {
    auto thinned = co_await envelope(visit.session(), id, span->from, span->to, points);
    if (!thinned) co_return Answer::of(thinned.error());
    values = std::move(*thinned);
  }
  co_return Answer::of(Json{{"values", rowsOf(values)}, {"isWhole", isWhole}});
}

}  // namespace

std::vector<Route> pastRoutes() {
  return {{"GET",
           "/api/history",
           "A variable's past: every sample, or the lowest and highest of as many intervals as there are points",
           Needs::Login,
           tellHistory,
           {{"node", "a path or a NodeId", true},
            {"from", "a moment, in ms since 1970 or as 2026-05-04T07:30:00Z", true},
            {"to", "a moment after it", true},
            {"points", "how many a plot can show"}},
           "zunth history NODE --from --to"}};
}

}  // namespace zunth::console
