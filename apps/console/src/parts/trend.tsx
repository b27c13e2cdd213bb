import { useEffect, useRef, useState } from 'react';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { get } from '../api';
import { live } from '../live';
import type { Alarm, Mark, PastRow } from '../types';

/** Told apart without colour, too: each line has its own dashes. */
export const pens: { colour: string; dark: string; dash: number[] }[] = [
  { colour: '#1f4f52', dark: '#8cc4c0', dash: [] },
  { colour: '#b35900', dark: '#f0a860', dash: [8, 4] },
  { colour: '#7b4b6e', dark: '#cf9fc0', dash: [2, 3] },
  { colour: '#2f6fb0', dark: '#86b8ea', dash: [12, 3, 2, 3] },
  { colour: '#6b7a12', dark: '#c2d05a', dash: [5, 5] },
  { colour: '#a3211b', dark: '#ff9389', dash: [1, 5] },
];

export interface Line {
  node: string;
  name: string;
  unit: string;
  isStepped: boolean;
}

interface Props {
  lines: Line[];
  from: number; // ms; what is shown when it does not follow the present
  to: number;
  span: number; // ms, when it does
  isLive: boolean;
  height: number;
  alarms?: Alarm[];
  /** What stands beside the lines: alarms that came and went, remarks. */
  onMarks?: (marks: Mark[]) => void;
  /** A moment was pointed at, in ms. */
  onMoment?: (at: number) => void;
  /** Another number has what stands beside the lines asked for again. */
  round?: number;
  onZoom?: (from: number, to: number) => void;
  onCursor?: (values: (number | null)[], at: number | null) => void;
}

/** Times of day with 24 hours; the day below where it changes. */
const day = '\n{YYYY}-{MM}-{DD}';
const clock: uPlot.Axis.Values = [
  [86_400 * 300, '{YYYY}', null, null, null, null, null, null, 1],
  [86_400 * 28, '{MMM}', '\n{YYYY}', null, null, null, null, null, 1],
  [86_400, '{MM}-{DD}', '\n{YYYY}', null, null, null, null, null, 1],
  [60, '{HH}:{mm}', day, null, day, null, null, null, 1],
  [1, '{HH}:{mm}:{ss}', day, null, day, null, null, null, 1],
  [0.001, ':{ss}.{fff}', `\n{HH}:{mm} {YYYY}-{MM}-{DD}`, null, day, null, '\n{HH}:{mm}', null, 1],
];

type Series = { t: number[]; v: (number | null)[] };

function seriesOf(rows: PastRow[]): Series {
  const t: number[] = [];
  const v: (number | null)[] = [];
  for (const [time, value, status] of rows) {
    if (time === null) continue;
    t.push(time / 1_000);
    v.push(typeof value === 'number' && !status?.startsWith('Bad') ? value : null);
  }
  return { t, v };
}

/** Past and present on one axis. Where no value was good there is a gap, never a line across it. */
export function Trend({ lines, from, to, span, isLive, height, alarms, onMarks, onMoment, round, onZoom, onCursor }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const past = useRef<Map<string, Series>>(new Map());
  const marks = useRef<Map<string, Mark[]>>(new Map());
  const [isDark, setDark] = useState(document.documentElement.dataset.mantineColorScheme === 'dark');
  const shown = useRef({ lines, from, to, span, isLive, onZoom, onMoment, onCursor, alarms });
  shown.current = { lines, from, to, span, isLive, onZoom, onMoment, onCursor, alarms };
  const names = lines.map((line) => line.node).join('\n');

  useEffect(() => {
    const observer = new MutationObserver(() => setDark(document.documentElement.dataset.mantineColorScheme === 'dark'));
    observer.observe(document.documentElement, { attributes: true, attributeFilter: ['data-mantine-color-scheme'] });
    return () => observer.disconnect();
  }, []);

  const paint = () => {
    const now = shown.current;
    if (!plot.current) return;
    const end = now.isLive ? Date.now() : now.to;
    const begin = now.isLive ? end - now.span : now.from;
    const tables = now.lines.map((line) => {
      const before = past.current.get(line.node) ?? { t: [], v: [] };
      const t = [...before.t];
      const v = [...before.v];
      let last = t.length ? t[t.length - 1]! : -Infinity;
      for (const point of live.trailOf(line.node)) {
        if (point.t / 1_000 <= last || point.t > end) continue;
        last = point.t / 1_000;
        t.push(last);
        v.push(point.v);
      }
      // A value stands until there is another one: it is drawn up to now.
      const newest = v[v.length - 1];
      if (now.isLive && newest !== undefined && newest !== null && end / 1_000 > last) {
        t.push(end / 1_000);
        v.push(newest);
      }
      return [t, v] as [number[], (number | null)[]];
    });
    const data = tables.length ? uPlot.join(tables as uPlot.AlignedData[], tables.map(() => [1, 2])) : [[]];
    plot.current.setData(data as uPlot.AlignedData, false);
    plot.current.setScale('x', { min: begin / 1_000, max: end / 1_000 });
  };

  // The past is asked for once, and again where it is looked at more closely.
  useEffect(() => {
    const control = new AbortController();
    const end = isLive ? Date.now() : to;
    const begin = isLive ? end - span : from;
    const points = Math.max(200, Math.round((box.current?.clientWidth ?? 800) * 0.8));
    for (const line of lines)
      get<{ values: PastRow[] }>('history', { node: line.node, from: Math.round(begin), to: Math.round(end), points }, control.signal)
        .then(({ values }) => {
          past.current.set(line.node, seriesOf(values));
          paint();
        })
        .catch(() => past.current.set(line.node, { t: [], v: [] }));
    return () => control.abort();
  }, [names, from, to, span, isLive]);

  useEffect(() => {
    const control = new AbortController();
    const end = isLive ? Date.now() : to;
    const begin = isLive ? end - span : from;
    marks.current.clear();
    for (const line of lines)
      get<{ marks: Mark[] }>('marks', { node: line.node, from: Math.round(begin), to: Math.round(end) }, control.signal)
        .then((told) => {
          marks.current.set(line.node, told.marks);
          onMarks?.([...marks.current.values()].flat().sort((one, other) => one.time - other.time));
          paint();
        })
        .catch(() => {});
    return () => control.abort();
  }, [names, from, to, span, isLive, round]);

  useEffect(() => {
    const drops = lines.map((line) => live.watch(line.node, () => {}));
    return () => drops.forEach((drop) => drop());
  }, [names]);

  useEffect(() => {
    if (!box.current) return;
    const style = getComputedStyle(document.documentElement);
    const ink = style.getPropertyValue('--ink-soft').trim();
    const grid = { stroke: style.getPropertyValue('--line').trim(), width: 1 };
    const units = [...new Set(lines.map((line) => line.unit))];
    const font = '12px "Source Sans 3 Variable", sans-serif';
    const axes: uPlot.Axis[] = [{ stroke: ink, grid, font, ticks: grid, values: clock }];
    units.forEach((unit, index) =>
      axes.push({ scale: `y ${unit}`, stroke: ink, grid: index === 0 ? grid : { show: false }, ticks: grid, font, side: index % 2 ? 1 : 3, label: unit || undefined, labelSize: unit ? 18 : 0, labelFont: font, size: 58 }),
    );
    let dragged = 0;
    const scales: uPlot.Scales = { x: { time: true } };
    for (const unit of units) scales[`y ${unit}`] = { auto: true, range: (_, low, high) => (low === null || high === null ? [0, 1] : uPlot.rangeNum(low, high, 0.1, true)) };
    const chart = new uPlot(
      {
        width: box.current.clientWidth,
        height,
        scales,
        axes,
        legend: { show: false },
        cursor: { drag: { x: true, y: false, setScale: false }, focus: { prox: 24 } },
        series: [
          {},
          ...lines.map((line, index) => {
            const pen = pens[index % pens.length]!;
            return {
              label: line.name,
              scale: `y ${line.unit}`,
              stroke: isDark ? pen.dark : pen.colour,
              dash: pen.dash,
              width: 1.8,
              spanGaps: false,
              points: { show: false },
              paths: line.isStepped ? uPlot.paths.stepped!({ align: 1 }) : undefined,
            } as uPlot.Series;
          }),
        ],
        hooks: {
          setSelect: [
            (self) => {
              if (self.select.width < 8) return;
              dragged = Date.now();
              const begin = self.posToVal(self.select.left, 'x') * 1_000;
              const end = self.posToVal(self.select.left + self.select.width, 'x') * 1_000;
              self.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
              shown.current.onZoom?.(begin, end);
            },
          ],
          setCursor: [
            (self) => {
              const index = self.cursor.idx;
              const at = index === null || index === undefined ? null : (self.data[0]![index] ?? null);
              shown.current.onCursor?.(
                shown.current.lines.map((_, series) => {
                  // The last that was known at that time.
                  const column = self.data[series + 1];
                  for (let k = index ?? -1; column && k >= 0; k--) if (column[k] !== undefined) return column[k] ?? null;
                  return null;
                }),
                at === null ? null : at * 1_000,
              );
            },
          ],
          draw: [
            (self) => {
              // When an alarm came: a flag at the top; when it went, one that points up; a remark: a square below.
              const { ctx, bbox } = self;
              const flags = (shown.current.alarms ?? []).filter((alarm) => alarm.since).map((alarm) => ({ time: Date.parse(alarm.since!), what: 'came' }));
              for (const mark of [...[...marks.current.values()].flat(), ...flags]) {
                const x = self.valToPos(mark.time / 1_000, 'x', true);
                if (x < bbox.left || x > bbox.left + bbox.width) continue;
                ctx.save();
                ctx.setLineDash([]); // the last line's may be there still
                ctx.strokeStyle = ctx.fillStyle = mark.what === 'remark' ? ink : isDark ? '#ff9389' : '#a3211b';
                ctx.beginPath();
                if (mark.what === 'remark') {
                  ctx.rect(x - 5, bbox.top + bbox.height - 11, 10, 10);
                } else if (mark.what === 'went') {
                  ctx.moveTo(x - 6, bbox.top + 9);
                  ctx.lineTo(x + 6, bbox.top + 9);
                  ctx.lineTo(x, bbox.top);
                  ctx.closePath();
                  ctx.stroke();
                  ctx.restore();
                  continue;
                } else {
                  ctx.setLineDash([4, 4]);
                  ctx.moveTo(x, bbox.top);
                  ctx.lineTo(x, bbox.top + bbox.height);
                  ctx.stroke();
                  ctx.beginPath();
                  ctx.moveTo(x - 6, bbox.top);
                  ctx.lineTo(x + 6, bbox.top);
                  ctx.lineTo(x, bbox.top + 9);
                }
                ctx.fill();
                ctx.restore();
              }
            },
          ],
        },
      },
      [[]] as unknown as uPlot.AlignedData,
      box.current,
    );
    plot.current = chart;
    // Who points at a moment doesn't drag: the click that ends a drag is none.
    chart.over.addEventListener('click', (event) => {
      if (Date.now() - dragged > 300) shown.current.onMoment?.(chart.posToVal(event.offsetX, 'x') * 1_000);
    });
    paint();
    const resize = new ResizeObserver(() => box.current && chart.setSize({ width: box.current.clientWidth, height }));
    resize.observe(box.current);
    const timer = setInterval(() => shown.current.isLive && !document.hidden && paint(), 500);
    return () => {
      clearInterval(timer);
      resize.disconnect();
      chart.destroy();
      plot.current = null;
    };
  }, [names, lines.map((line) => line.unit).join('\n'), height, isDark]);

  useEffect(paint, [from, to, span, isLive, alarms]);
  return <div className="trend" ref={box} style={{ height }} />;
}
