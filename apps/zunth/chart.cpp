#include "apps/zunth/chart.hpp"

#include "apps/zunth/output.hpp"
#include "core/aggregate/bound.hpp"
#include "core/model/markup.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/chrono.h>

namespace zunth::cli {

using namespace ua;

namespace {

struct Span {
  double low = 0, high = 1;
};

/// A step of 1, 2 or 5 times a power of ten, of which a span has `count` or somewhat fewer.
double niceStep(double span, double count) {
  const double raw = span / count, ten = std::pow(10, std::floor(std::log10(raw)));
  for (const double factor : {1.0, 2.0, 5.0})
    if (raw <= factor * ten * 1.0000001) return factor * ten;
  return 10 * ten;
}

/// What the values span, with round ends.
Span spanOf(const Series& series) {
  Span out{HUGE_VAL, -HUGE_VAL};
  for (const auto& value : series.values) {
    const double number = aggregate::numberOf(value.value);
    if (value.status.isBad() || !std::isfinite(number)) continue;
    out.low = std::min(out.low, number);
    out.high = std::max(out.high, number);
  }
  if (out.low > out.high) return {0, 1};
  if (out.high - out.low < 1e-12 * std::max(1.0, std::fabs(out.high))) {
    const double around = std::max(std::fabs(out.low) * 0.05, 0.5);
    out = {out.low - around, out.high + around};
  }
  const double step = niceStep(out.high - out.low, 4);
  return {std::floor(out.low / step) * step, std::ceil(out.high / step) * step};
}

std::string numberText(double number, double step) {
  const int decimals = std::clamp(static_cast<int>(-std::floor(std::log10(step) + 1e-9)), 0, 9);
  return fmt::format("{:.{}f}", number == 0 ? 0.0 : number, decimals);
}

/// Ticks of time that people count in, of which a span has `count` or somewhat fewer.
std::int64_t timeStep(std::int64_t ticks, std::int64_t count) {
  constexpr std::int64_t kSecond = 10'000'000;
  constexpr std::array<std::int64_t, 20> kSteps{1,   2,    5,    10,   15,    30,    60,    120,   300,    600,
                                                900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 604800};
  for (const auto step : kSteps)
    if (ticks / (step * kSecond) <= count) return step * kSecond;
  return 30 * 86400 * kSecond;
}

/// Moments of the axis, round by the local clock.
std::vector<DateTime> timeTicks(DateTime from, DateTime to, std::int64_t count) {
  const std::int64_t step = timeStep(to.ticks - from.ticks, count);
  const std::tm local = fmt::localtime(std::chrono::system_clock::to_time_t(from.time()));
  const std::int64_t zone = local.tm_gmtoff * 10'000'000;
  std::vector<DateTime> out;
  for (std::int64_t at = (from.ticks + zone + step - 1) / step * step; at - zone <= to.ticks; at += step)
    out.push_back({at - zone});
  return out;
}

std::string timeText(DateTime time, std::int64_t span) {
  const std::tm local = fmt::localtime(std::chrono::system_clock::to_time_t(time.time()));
  constexpr std::int64_t kDay = 864'000'000'000;
  if (span > 3 * kDay) return fmt::format("{:%m-%d}", local);
  return span < kDay / 144 ? fmt::format("{:%H:%M:%S}", local) : fmt::format("{:%H:%M}", local);
}

std::string titleOf(const Series& series) {
  return series.unit.empty() ? series.name : series.name + "  (" + series.unit + ")";
}

// Terminals

/// Dots, two columns and four rows in each character (Unicode's braille patterns).
class Canvas {
 public:
  Canvas(std::size_t columns, std::size_t lines) : columns_(columns), lines_(lines), cells_(columns * lines, 0) {}
  std::size_t width() const { return columns_ * 2; }
  std::size_t height() const { return lines_ * 4; }
  void set(std::size_t x, std::size_t y) {
    static constexpr unsigned char kDots[4][2] = {{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}};
    if (x < width() && y < height()) cells_[y / 4 * columns_ + x / 2] |= kDots[y % 4][x % 2];
  }
  void line(double x0, double y0, double x1, double y1) {
    const double steps = std::max({std::fabs(x1 - x0), std::fabs(y1 - y0), 1.0});
    for (double i = 0; i <= steps; ++i)
      set(static_cast<std::size_t>(std::lround(x0 + (x1 - x0) * i / steps)),
          static_cast<std::size_t>(std::lround(y0 + (y1 - y0) * i / steps)));
  }
  std::string text(std::size_t line) const {
    std::string out;
    for (std::size_t i = 0; i < columns_; ++i) {
      const unsigned code = 0x2800 + cells_[line * columns_ + i];
      out += static_cast<char>(0xE0 | code >> 12);
      out += static_cast<char>(0x80 | (code >> 6 & 0x3F));
      out += static_cast<char>(0x80 | (code & 0x3F));
    }
    return out;
  }

 private:
  std::size_t columns_, lines_;
  std::vector<unsigned char> cells_;
};

/// Calls `line(t0, v0, t1, v1)` for each piece of the drawn line, within the time that is shown.
template <class Line>
void eachPiece(const Series& series, DateTime from, DateTime to, Line line) {
  const DataValue* last = nullptr;
  const auto piece = [&](DateTime t0, double v0, DateTime t1, double v1) {
    if (t1 < from || t0 > to) return;
    const auto at = [&](DateTime t) {
      return v0 + (v1 - v0) * static_cast<double>(t.ticks - t0.ticks) /
                      static_cast<double>(std::max<std::int64_t>(t1.ticks - t0.ticks, 1));
    };
    const DateTime a = std::max(t0, from), b = std::min(t1, to);
    line(a, at(a), b, at(b));
  };
  for (const auto& value : series.values) {
    const double number = aggregate::numberOf(value.value);
    const bool isDrawn = !value.status.isBad() && std::isfinite(number);
    if (last) {
      const double before = aggregate::numberOf(last->value);
      if (!isDrawn || series.isStepped) {
        piece(last->sourceTimestamp, before, value.sourceTimestamp, before);
        if (isDrawn) piece(value.sourceTimestamp, before, value.sourceTimestamp, number);
      } else {
        piece(last->sourceTimestamp, before, value.sourceTimestamp, number);
      }
    } else if (isDrawn) {
      piece(value.sourceTimestamp, number, value.sourceTimestamp, number);
    }
    last = isDrawn ? &value : nullptr;
  }
}

}  // namespace

std::string textChart(const std::vector<Series>& series, DateTime from, DateTime to, std::size_t columns,
                      std::size_t lines) {
  constexpr std::size_t kMargin = 11;
  const std::size_t width = std::max<std::size_t>(columns, 40) - kMargin;
  const auto span = static_cast<double>(std::max<std::int64_t>(to.ticks - from.ticks, 1));
  std::string out;
  for (const auto& each : series) {
    const Span values = spanOf(each);
    Canvas canvas(width, lines);
    const auto x = [&](DateTime t) {
      return static_cast<double>(t.ticks - from.ticks) / span * static_cast<double>(canvas.width() - 1);
    };
    const auto y = [&](double v) {
      return (values.high - v) / (values.high - values.low) * static_cast<double>(canvas.height() - 1);
    };
    eachPiece(each, from, to,
              [&](DateTime t0, double v0, DateTime t1, double v1) { canvas.line(x(t0), y(v0), x(t1), y(v1)); });
    out += bold(titleOf(each)) + "\n";
    const double step = niceStep(values.high - values.low, std::max(1.0, static_cast<double>(lines) / 3));
    for (std::size_t line = 0; line < lines; ++line) {
      // A label stands where its value is.
      const double top =
          values.high - (values.high - values.low) * static_cast<double>(line) / static_cast<double>(lines);
      const double bottom =
          values.high - (values.high - values.low) * static_cast<double>(line + 1) / static_cast<double>(lines);
      const double mark = std::floor(top / step + 1e-9) * step;
      const bool isMarked = mark > bottom + 1e-12 || (line + 1 == lines && mark >= bottom - 1e-12);
      out += dim(fmt::format("{:>9} {}", isMarked ? numberText(mark, step) : "", isMarked ? "┤" : "│")) +
             accented(canvas.text(line)) + "\n";
    }
    std::string axis(width + kMargin, ' ');
    for (const auto tick : timeTicks(from, to, static_cast<std::int64_t>(width / 12))) {
      const std::string label = timeText(tick, to.ticks - from.ticks);
      const auto at = kMargin + static_cast<std::size_t>(x(tick) / 2);
      const std::size_t begin = at - std::min(at, label.size() / 2);
      if (begin + label.size() <= axis.size() &&
          axis.substr(begin - 1, label.size() + 2).find_first_not_of(' ') == std::string::npos)
        axis.replace(begin, label.size(), label);
    }
    out += dim(axis.substr(0, axis.find_last_not_of(' ') + 1)) + "\n";
  }
  return out;
}

// Pictures

std::string svgChart(const std::vector<Series>& series, DateTime from, DateTime to) {
  constexpr double kWidth = 1200, kHeight = 300, kLeft = 90, kRight = 30, kTop = 44, kBottom = 24;
  static constexpr const char* kColours[] = {"#1f6f8b", "#b4552d", "#4f7a3a", "#7b4f8c", "#8a6d1f"};
  const double whole = kHeight * static_cast<double>(series.size()) + 30;
  const auto span = static_cast<double>(std::max<std::int64_t>(to.ticks - from.ticks, 1));
  const auto x = [&](DateTime t) {
    return kLeft + static_cast<double>(t.ticks - from.ticks) / span * (kWidth - kLeft - kRight);
  };
  std::string out = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {0} {1}\" width=\"{0}\" height=\"{1}\" "
      "font-family=\"sans-serif\" font-size=\"13\">\n<rect width=\"{0}\" height=\"{1}\" fill=\"#ffffff\"/>\n",
      kWidth, whole);
  const auto ticks = timeTicks(from, to, 10);
  for (std::size_t i = 0; i < series.size(); ++i) {
    const Series& each = series[i];
    const double begin = kHeight * static_cast<double>(i), top = begin + kTop, bottom = begin + kHeight - kBottom;
    Span values = spanOf(each);
    for (const auto& [limit, name] : each.limits) {
      // A limit that is near is shown; one that is far off would flatten the line.
      const double room = (values.high - values.low) * 0.75;
      if (limit > values.high && limit <= values.high + room) values.high = limit;
      if (limit < values.low && limit >= values.low - room) values.low = limit;
    }
    const auto y = [&](double v) { return bottom - (v - values.low) / (values.high - values.low) * (bottom - top); };
    out += fmt::format("<text x=\"{}\" y=\"{}\" font-weight=\"bold\" fill=\"#222\">{}</text>\n", kLeft, top - 16,
                       model::escaped(titleOf(each)));
    const double step = niceStep(values.high - values.low, 5);
    for (double v = std::ceil(values.low / step - 1e-9) * step; v <= values.high + step * 1e-6; v += step)
      out += fmt::format(
          "<line x1=\"{}\" x2=\"{}\" y1=\"{:.1f}\" y2=\"{:.1f}\" stroke=\"#e3e6e8\"/>"
          "<text x=\"{}\" y=\"{:.1f}\" text-anchor=\"end\" fill=\"#555\">{}</text>\n",
          kLeft, kWidth - kRight, y(v), y(v), kLeft - 8, y(v) + 4, numberText(v, step));
    for (const auto tick : ticks)
      out += fmt::format("<line x1=\"{0:.1f}\" x2=\"{0:.1f}\" y1=\"{1}\" y2=\"{2}\" stroke=\"#eef0f1\"/>\n", x(tick),
                         top, bottom);
    // What is bad or unknown is shown as such.
    const auto gap = [&](DateTime a, DateTime b) {
      if (b > a)
        out += fmt::format("<rect x=\"{:.1f}\" y=\"{}\" width=\"{:.1f}\" height=\"{}\" fill=\"#f3dcd6\"/>\n", x(a), top,
                           std::max(1.0, x(b) - x(a)), bottom - top);
    };
    for (std::size_t k = 0; k < each.values.size(); ++k)
      if (each.values[k].status.isBad())
        gap(std::max(each.values[k].sourceTimestamp, from),
            std::min(k + 1 < each.values.size() ? each.values[k + 1].sourceTimestamp : to, to));
    for (const auto& [limit, name] : each.limits)
      if (limit >= values.low && limit <= values.high)
        out += fmt::format(
            "<line x1=\"{0}\" x2=\"{1}\" y1=\"{2:.1f}\" y2=\"{2:.1f}\" stroke=\"#a33\" stroke-dasharray=\"6 4\"/>"
            "<text x=\"{1}\" y=\"{3:.1f}\" text-anchor=\"end\" fill=\"#a33\" font-size=\"12\" paint-order=\"stroke\" "
            "stroke=\"#fff\" "
            "stroke-width=\"4\">{4}</text>\n",
            kLeft, kWidth - kRight, y(limit), y(limit) - 5, model::escaped(name));
    std::string path;
    DateTime at;
    double lastY = 0;
    eachPiece(each, from, to, [&](DateTime t0, double v0, DateTime t1, double v1) {
      if (path.empty() || t0 != at || y(v0) != lastY) path += fmt::format("M{:.1f} {:.1f}", x(t0), y(v0));
      path += fmt::format("L{:.1f} {:.1f}", x(t1), y(v1));
      at = t1;
      lastY = y(v1);
    });
    out += fmt::format(
        "<path d=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"1.8\" stroke-linecap=\"round\" "
        "stroke-linejoin=\"round\"/>\n",
        path, kColours[i % std::size(kColours)]);
    out += fmt::format("<line x1=\"{}\" x2=\"{}\" y1=\"{}\" y2=\"{}\" stroke=\"#888\"/>\n", kLeft, kWidth - kRight,
                       bottom, bottom);
  }
  for (const auto tick : ticks)
    out += fmt::format("<text x=\"{:.1f}\" y=\"{}\" text-anchor=\"middle\" fill=\"#555\">{}</text>\n", x(tick),
                       whole - 32, timeText(tick, to.ticks - from.ticks));
  const std::tm day = fmt::localtime(std::chrono::system_clock::to_time_t(to.time()));
  out +=
      fmt::format("<text x=\"{}\" y=\"{}\" text-anchor=\"end\" fill=\"#777\" font-size=\"12\">{:%Y-%m-%d}, {}</text>\n",
                  kWidth - kRight, whole - 12, day, localZone());
  return out + "</svg>\n";
}

}  // namespace zunth::cli
