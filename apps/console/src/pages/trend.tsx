import { useCallback, useEffect, useMemo, useState } from 'react';
import { ActionIcon, Button, NativeSelect, SegmentedControl, TextInput } from '@mantine/core';
import { useLocation, useSearch } from 'wouter';
import { post } from '../api';
import { useLive, useAlarms } from '../live';
import type { Mark } from '../types';
import { w } from '../words';
import { clockText, levelOf, numberText, sampleText } from '../parts/format';
import { Icon } from '../parts/icons';
import { NodePicker } from '../parts/seek';
import { Empty, Refused, StatusMark } from '../parts/status';
import { pens, Trend, type Line } from '../parts/trend';

const spans = { '15m': 900_000, '1h': 3_600_000, '8h': 28_800_000, '24h': 86_400_000, '7d': 604_800_000 } as const;
type Span = keyof typeof spans;
const moves = [
  ['earlier', -0.5, 1],
  ['later', 0.5, 1],
  ['closer', 0, 0.5],
  ['wider', 0, 2],
] as const; // parts of the width, and how much wider
const mostMarks = 50; // in the list; the picture has all

/** A moment as a field for dates takes it, in local time. */
const fieldText = (at: number) => new Date(at - new Date(at).getTimezoneOffset() * 60_000).toISOString().slice(0, 19);

/** The line's pen, as it is drawn: colour and dashes. */
function Pen({ index }: { index: number }) {
  const pen = pens[index % pens.length]!;
  return (
    <svg width="34" height="10" aria-hidden="true">
      <line x1="1" x2="33" y1="5" y2="5" strokeWidth="2.400" strokeDasharray={pen.dash.join(' ')} style={{ stroke: `light-dark(${pen.colour}, ${pen.dark})` }} />
    </svg>
  );
}

function Legend({ node, index, atCursor, onRemove, onFacts }: { node: string; index: number; atCursor: number | null | undefined; onRemove: () => void; onFacts: (line: Line) => void }) {
  const sample = useLive(node);
  const facts = sample?.facts;
  useEffect(() => {
    if (facts) onFacts({ node, name: node.split('/').slice(-2).join(' '), unit: facts.unit, isStepped: facts.kind !== 'number' });
  }, [facts?.unit, facts?.kind, node]);
  const isBad = levelOf(sample?.status ?? null) === 'bad' || !!sample?.error;
  return (
    <tr>
      <td style={{ width: 44 }}>
        <Pen index={index} />
      </td>
      <td>{node}</td>
      <td className="number" style={{ width: 120 }}>
        {atCursor === undefined ? isBad ? <StatusMark sample={sample} /> : <span className="value">{sampleText(sample)}</span> : atCursor === null ? w.none : numberText(atCursor)}
      </td>
      <td className="soft" style={{ width: 70 }}>
        {facts?.unit}
      </td>
      <td style={{ width: 34 }}>
        <ActionIcon size="sm" aria-label={`${w.remove}: ${node}`} onClick={onRemove}>
          <Icon name="close" size={13} />
        </ActionIcon>
      </td>
    </tr>
  );
}

/** A word on a moment of one of the variables, for whoever looks at it later. */
function Remark({ nodes, at, onMove, onDone }: { nodes: string[]; at: number; onMove: (at: number) => void; onDone: () => void }) {
  const [node, setNode] = useState(nodes[0]!);
  const [text, setText] = useState('');
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const say = async () => {
    setBusy(true);
    try {
      await post('marks', { node: nodes.includes(node) ? node : nodes[0], moment: String(Math.round(at / 1_000) * 1_000), text });
      setText('');
      setError(null);
      onDone();
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
  };
  return (
    <form
      style={{ display: 'flex', flexWrap: 'wrap', gap: 8, alignItems: 'center', marginTop: 8 }}
      onSubmit={(event) => {
        event.preventDefault();
        void say();
      }}
    >
      <TextInput size="xs" type="datetime-local" step={1} aria-label={w.trend.remarkAt} value={fieldText(at)} onChange={(event) => event.currentTarget.value && onMove(new Date(event.currentTarget.value).getTime())} />
      {nodes.length > 1 && <NativeSelect size="xs" aria-label={w.trend.remarkOn} data={nodes} value={nodes.includes(node) ? node : nodes[0]} onChange={(event) => setNode(event.currentTarget.value)} />}
      <TextInput size="xs" style={{ flex: 1, minWidth: 180 }} placeholder={w.trend.remarkText} aria-label={w.trend.remarkText} value={text} onChange={(event) => setText(event.currentTarget.value)} />
      <Button size="xs" type="submit" loading={isBusy} disabled={!text.trim()}>
        {w.trend.remark}
      </Button>
      {error !== null && <Refused error={error} />}
    </form>
  );
}

export default function TrendPage() {
  const search = useSearch();
  const [, go] = useLocation();
  const nodes = new URLSearchParams(search).getAll('node');
  const [span, setSpan] = useState<Span>('1h');
  const [zoom, setZoom] = useState<{ from: number; to: number } | null>(null);
  const [lines, setLines] = useState<Record<string, Line>>({});
  const [cursor, setCursor] = useState<{ values: (number | null)[]; at: number } | null>(null);
  const [marks, setMarks] = useState<Mark[]>([]);
  const [moment, setMoment] = useState<number | null>(null);
  const [round, setRound] = useState(0);
  const alarms = useAlarms();
  const draw = (list: string[]) => go(`/trend${list.length ? `?${list.map((node) => `node=${encodeURIComponent(node)}`).join('&')}` : ''}`);
  const known = nodes.map((node) => lines[node]).filter((line): line is Line => line !== undefined);
  // Alarms of what the variables belong to.
  const names = nodes.join('\n');
  const near = useMemo(() => (alarms ?? []).filter((alarm) => names.split('\n').some((node) => alarm.alarm.startsWith(node.split('/').slice(0, -1).join('/')))), [alarms, names]);
  /** Moves what is looked at by parts of its width, or makes it wider; what reaches up to now goes on with it. */
  const look = (by: number, scale: number) => {
    const now = Date.now();
    const { from, to } = zoom ?? { from: now - spans[span], to: now };
    const middle = (from + to) / 2 + by * (to - from), half = (scale * (to - from)) / 2;
    setZoom(middle + half < now ? { from: middle - half, to: middle + half } : by > 0 ? null : { from: now - 2 * half, to: now });
  };
  // The picture tells where the cursor is each time that it is painted: only what is news is rendered.
  const point = useCallback(
    (values: (number | null)[], at: number | null) =>
      setCursor((before) => {
        if (at === null) return null;
        const isSame = before?.at === at && before.values.length === values.length && before.values.every((value, place) => value === values[place]);
        return isSame ? before : { values, at };
      }),
    [],
  );
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.trend.title}</h1>
        <span className="does">
          {zoom ? (
            <Button variant="filled" onClick={() => setZoom(null)}>
              {w.trend.zoomOut}
            </Button>
          ) : (
            <SegmentedControl size="xs" data={Object.entries(w.trend.last).map(([value, label]) => ({ value, label }))} value={span} onChange={(value) => setSpan(value as Span)} aria-label={w.trend.title} />
          )}
        </span>
      </div>
      <NodePicker label={w.trend.add} onPick={(node) => !nodes.includes(node.path) && draw([...nodes, node.path])} only={(node) => node.class === 'Variable'} />
      {nodes.length === 0 ? (
        <Empty title={w.trend.emptyTitle}>{w.trend.empty}</Empty>
      ) : (
        <>
          <section className="card">
            <Trend
              lines={known}
              from={zoom?.from ?? 0}
              to={zoom?.to ?? 0}
              span={spans[span]}
              isLive={!zoom}
              height={380}
              alarms={near}
              onMarks={setMarks}
              onMoment={setMoment}
              round={round}
              onZoom={(from, to) => setZoom({ from, to })}
              onCursor={point}
            />
            <div className="bar" role="toolbar" aria-label={w.trend.title}>
              {moves.map(([name, by, scale]) => (
                <Button key={name} size="compact-xs" onClick={() => look(by, scale)} disabled={by > 0 && !zoom}>
                  {w.trend[name]}
                </Button>
              ))}
              {moment === null && (
                <Button size="compact-xs" onClick={() => setMoment(zoom ? (zoom.from + zoom.to) / 2 : Date.now())}>
                  {w.trend.remarkNow}
                </Button>
              )}
            </div>
            <div className="soft" style={{ fontSize: 12 }}>
              {cursor ? clockText(cursor.at) : `${w.trend.drag} ${w.trend.gaps} ${w.trend.remarkHint}`}
            </div>
            {moment !== null && <Remark nodes={nodes} at={moment} onMove={setMoment} onDone={() => (setMoment(null), setRound(round + 1))} />}
          </section>
          <table className="rows">
            <tbody>
              {nodes.map((node, index) => (
                <Legend
                  key={node}
                  node={node}
                  index={known.findIndex((line) => line.node === node) >= 0 ? known.findIndex((line) => line.node === node) : index}
                  atCursor={cursor ? (cursor.values[known.findIndex((line) => line.node === node)] ?? null) : undefined}
                  onRemove={() => draw(nodes.filter((one) => one !== node))}
                  onFacts={(line) => setLines((all) => ({ ...all, [node]: line }))}
                />
              ))}
            </tbody>
          </table>
          {marks.length > 0 && (
            <section className="card">
              <h2>{w.trend.marks}</h2>
              <table className="rows">
                <thead>
                  <tr>
                    <th style={{ width: 170 }}>{w.trend.when}</th>
                    <th style={{ width: 120 }}>{w.trend.what}</th>
                    <th>{w.trend.text}</th>
                  </tr>
                </thead>
                <tbody>
                  {marks.slice(-mostMarks).reverse().map((mark, index) => (
                    <tr key={index}>
                      <td>{clockText(mark.time)}</td>
                      <td>{w.trend.kinds[mark.what]}</td>
                      <td>
                        {mark.text}
                        {mark.who && <span className="soft"> {mark.who}</span>}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )}
        </>
      )}
    </div>
  );
}
