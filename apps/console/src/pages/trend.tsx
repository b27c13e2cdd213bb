import { useEffect, useState } from 'react';
import { ActionIcon, Button, SegmentedControl } from '@mantine/core';
import { useLocation, useSearch } from 'wouter';
import { useLive, useAlarms } from '../live';
import type { Mark } from '../types';
import { w } from '../words';
import { clockText, levelOf, numberText, sampleText } from '../parts/format';
import { Icon } from '../parts/icons';
import { NodePicker } from '../parts/seek';
import { Empty, StatusMark } from '../parts/status';
import { pens, Trend, type Line } from '../parts/trend';

const spans = { '15m': 900_000, '1h': 3_600_000, '8h': 28_800_000, '24h': 86_400_000, '7d': 604_800_000 } as const;
type Span = keyof typeof spans;
const mostMarks = 50; // in the list; the picture has all

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

export default function TrendPage() {
  const search = useSearch();
  const [, go] = useLocation();
  const nodes = new URLSearchParams(search).getAll('node');
  const [span, setSpan] = useState<Span>('1h');
  const [zoom, setZoom] = useState<{ from: number; to: number } | null>(null);
  const [lines, setLines] = useState<Record<string, Line>>({});
  const [cursor, setCursor] = useState<{ values: (number | null)[]; at: number } | null>(null);
  const [marks, setMarks] = useState<Mark[]>([]);
  const alarms = useAlarms() ?? [];
  const draw = (list: string[]) => go(`/trend${list.length ? `?${list.map((node) => `node=${encodeURIComponent(node)}`).join('&')}` : ''}`);
  const known = nodes.map((node) => lines[node]).filter((line): line is Line => line !== undefined);
  // Alarms of what the variables belong to.
  const near = alarms.filter((alarm) => nodes.some((node) => alarm.alarm.startsWith(node.split('/').slice(0, -1).join('/'))));
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
              onZoom={(from, to) => setZoom({ from, to })}
              onCursor={(values, at) => setCursor(at === null ? null : { values, at })}
            />
            <div className="soft" style={{ fontSize: 12 }}>
              {cursor ? clockText(cursor.at) : `${w.trend.drag} ${w.trend.gaps}`}
            </div>
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
