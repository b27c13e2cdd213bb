import { memo, useEffect, useMemo, useRef, useState } from 'react';
import { ActionIcon, Button, Menu, Modal, TextInput } from '@mantine/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { Link, useLocation } from 'wouter';
import { get, post } from '../api';
import { live, useLive, useLivePart, useLiveSlowly, type Sample } from '../live';
import type { Sheet, WatchList } from '../types';
import { w } from '../words';
import { clockText, csvField, download, levelOf, sampleText } from '../parts/format';
import { Icon } from '../parts/icons';
import { NodePicker } from '../parts/seek';
import { Sparkline } from '../parts/sparkline';
import { Empty, Mark, Refused, StatusMark } from '../parts/status';
import { removeFromList, standing, useWatchList } from '../parts/watch_list';
import { WriteBox } from '../parts/write_box';

/** How often it changes, over the last seconds. */
function rateOf(node: string): string {
  const trail = live.trailOf(node);
  if (trail.length < 3) return '';
  const span = (trail[trail.length - 1]!.t - trail[0]!.t) / 1_000;
  if (span <= 0) return '';
  const rate = (trail.length - 1) / span;
  return `${rate < 1 ? rate.toFixed(2) : rate.toFixed(1)} ${w.watch.perSecond}`;
}

/** What is known of a node, or was when the list was paused. */
function usePausable(sample: Sample | null, isPaused: boolean): Sample | null {
  const kept = useRef<Sample | null>(null);
  if (!isPaused || !kept.current) kept.current = sample;
  return kept.current;
}

// The cells of a row are drawn by themselves: of a thousand values that change ten times a second, the numbers are.
function ValueCell({ node, isPaused }: { node: string; isPaused: boolean }) {
  const sample = usePausable(useLive(node), isPaused);
  if (levelOf(sample?.status ?? null) === 'bad' || sample?.error) return null;
  return (
    <span className="value" data-fresh={!isPaused && sample && sample.lit > 1 ? 1 + (sample.lit % 2) : undefined}>
      {sampleText(sample)}
    </span>
  );
}

function TimeCells({ node, isPaused }: { node: string; isPaused: boolean }) {
  useLiveSlowly(node);
  const sample = usePausable(live.sampleOf(node), isPaused);
  return (
    <>
      <span role="cell" className="soft hide-small">
        {clockText(sample?.time ?? null)}
      </span>
      <span role="cell" className="soft number hide-small">
        {rateOf(node)}
      </span>
      <span role="cell" className="hide-small">
        <Sparkline node={node} />
      </span>
    </>
  );
}

function StatusCell({ node, isPaused }: { node: string; isPaused: boolean }) {
  useLivePart(node, (sample) => (sample ? `${sample.status} ${sample.error?.code} ${sample.changes > 0}` : ''));
  return <StatusMark sample={usePausable(live.sampleOf(node), isPaused)} />;
}

const unitOf = (sample: Sample | null) => sample?.facts?.unit ?? '';
const isWritable = (sample: Sample | null) => sample?.facts?.isWritable ?? false;

const Row = memo(function Row({ node, isPaused, onWrite, top }: { node: string; isPaused: boolean; onWrite: (node: string) => void; top: number }) {
  const unit = useLivePart(node, unitOf);
  const mayWrite = useLivePart(node, isWritable);
  const path = node.split('/');
  return (
    <div className="watch-row" role="row" style={{ position: 'absolute', top, left: 0, right: 0 }}>
      <span role="cell" className="cut">
        <Link href={`/node/${encodeURIComponent(node)}`} title={node}>
          {path.at(-1)}
        </Link>{' '}
        <span className="soft where">
          <span className="hide-small">{path.slice(0, -2).map((part) => `${part}/`)}</span>
          {path.at(-2)}
        </span>
      </span>
      <span role="cell" className="number cut">
        <ValueCell node={node} isPaused={isPaused} />
      </span>
      <span role="cell" className="soft cut">
        {unit}
      </span>
      <span role="cell" className="cut">
        <StatusCell node={node} isPaused={isPaused} />
      </span>
      <TimeCells node={node} isPaused={isPaused} />
      <span role="cell" className="number">
        {mayWrite && (
          <Button size="compact-xs" onClick={() => onWrite(node)}>
            {w.watch.write}
          </Button>
        )}
        <ActionIcon size="sm" aria-label={`${w.remove}: ${node}`} onClick={() => removeFromList(node)}>
          <Icon name="close" size={13} />
        </ActionIcon>
      </span>
    </div>
  );
});

export default function Watch() {
  const list = useWatchList();
  const queries = useQueryClient();
  const [, go] = useLocation();
  const [filter, setFilter] = useState('');
  const [isPaused, setPaused] = useState(false);
  const [writes, setWrites] = useState<string | null>(null);
  const [saves, setSaves] = useState(false);
  const [name, setName] = useState(list.name);
  const [error, setError] = useState<unknown>(null);
  const box = useRef<HTMLDivElement>(null);
  const sheets = useQuery({ queryKey: ['lists'], queryFn: () => get<{ sheets: Sheet<WatchList>[] }>('sheets', { kind: 'lists' }) });
  const shown = useMemo(() => list.nodes.filter((node) => node.toLowerCase().includes(filter.toLowerCase())), [list.nodes, filter]);
  const virtual = useVirtualizer({ count: shown.length, getScrollElement: () => box.current, estimateSize: () => (matchMedia('(pointer: coarse)').matches ? 44 : 30), overscan: 8 });
  const writing = useLive(writes);
  // A link brings its list along.
  useEffect(() => {
    const wanted = new URLSearchParams(location.search).getAll('node');
    if (wanted.length) list.begin(wanted);
  }, []);
  const attempt = async (work: () => Promise<unknown>) => {
    try {
      await work();
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    await queries.invalidateQueries({ queryKey: ['lists'] });
  };
  const saved = sheets.data?.sheets.find((sheet) => sheet.name === list.name);
  const stands = sheets.data ? standing(list, saved) : 'same';
  useEffect(() => {
    if (stands === 'there' && saved) list.open(saved);
  }, [stands, saved]);
  /** In place of the version that was looked at, and of no other. */
  const save = (as: string, version: string) =>
    attempt(async () => {
      const nodes = list.nodes;
      const now = await post<{ version: string }>('sheets', { kind: 'lists', name: as, content: { nodes }, version });
      // What is known of the saved ones changes at once with the list: an older version would look like somebody's newer.
      queries.setQueryData<{ sheets: Sheet<WatchList>[] }>(['lists'], (known) => ({
        sheets: [...(known?.sheets ?? []).filter((sheet) => sheet.name !== as), { name: as, version: now.version, content: { nodes } }],
      }));
      list.saved(as, now.version, nodes);
      setSaves(false);
    });
  const exportRows = () => {
    const lines = ['node,value,unit,status,time'];
    for (const node of shown) {
      const sample = live.sampleOf(node);
      lines.push([node, sampleText(sample), sample?.facts?.unit ?? '', sample?.status ?? 'Good', sample?.time ? new Date(sample.time).toISOString() : ''].map(csvField).join(','));
    }
    download(`${list.name || 'watch'}.csv`, 'text/csv', lines.join('\r\n') + '\r\n');
  };
  return (
    <div className="stack" style={{ height: '100%', display: 'flex', flexDirection: 'column' }}>
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.watch.title}</h1>
        <Menu position="bottom-start">
          <Menu.Target>
            <Button aria-label={`${w.watch.list}: ${list.name || w.watch.unsaved}`}>
              {list.name || w.watch.unsaved}
              <span aria-hidden="true" style={{ marginLeft: 6 }}>
                ▾
              </span>
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            {(sheets.data?.sheets ?? []).map((sheet) => (
              <Menu.Item key={sheet.name} onClick={() => list.open(sheet)}>
                {sheet.name} <span className="soft">({sheet.content.nodes?.length ?? 0})</span>
              </Menu.Item>
            ))}
            <Menu.Divider />
            <Menu.Item onClick={() => list.begin([])}>{w.watch.newList}</Menu.Item>
            <Menu.Item onClick={() => setSaves(true)} disabled={list.nodes.length === 0}>
              {w.watch.saveAs}
            </Menu.Item>
            {list.name && (
              <Menu.Item color="red" onClick={() => attempt(() => post('sheets/delete', { kind: 'lists', name: list.name })).then(() => list.begin(list.nodes))}>
                {w.watch.deleteList}
              </Menu.Item>
            )}
          </Menu.Dropdown>
        </Menu>
        {stands === 'new' && list.nodes.length > 0 && <Mark level="plain">{w.watch.here}</Mark>}
        {(stands === 'here' || stands === 'both') && <Mark level="doubtful">{w.watch.changed}</Mark>}
        {stands === 'here' && saved && (
          <>
            <Button variant="filled" onClick={() => save(list.name, list.version)}>
              {w.save}
            </Button>
            <Button onClick={() => list.open(saved)}>{w.files.drop}</Button>
          </>
        )}
        <span className="does">
          <Button onClick={() => setPaused(!isPaused)} aria-pressed={isPaused}>
            {isPaused ? w.watch.go : w.watch.pause}
          </Button>
          <Button onClick={() => go(`/trend?${list.nodes.slice(0, 6).map((node) => `node=${encodeURIComponent(node)}`).join('&')}`)} disabled={list.nodes.length === 0}>
            {w.watch.trendAll}
          </Button>
          <Button onClick={exportRows} disabled={shown.length === 0}>
            {w.exportCsv}
          </Button>
        </span>
      </div>
      <div className="bar">
        <NodePicker label={w.watch.add} onPick={(node) => list.add(node.path)} only={(node) => node.class === 'Variable'} />
        <TextInput aria-label={w.filter} placeholder={w.filter} value={filter} onChange={(event) => setFilter(event.currentTarget.value)} w={160} />
      </div>
      {error !== null && <Refused error={error} />}
      {stands === 'both' && saved && (
        <div className="bar">
          <Mark level="bad">{w.watch.both}</Mark>
          <Button onClick={() => list.open(saved)}>{w.watch.takeTheirs}</Button>
          <Button onClick={() => setSaves(true)}>{w.watch.saveAs}</Button>
        </div>
      )}
      {stands === 'gone' && <Mark level="doubtful">{w.watch.gone}</Mark>}
      <div
        className="table-box"
        ref={box}
        style={{ flex: 1, minHeight: 160 }}
        role="table"
        aria-label={w.watch.title}
        tabIndex={0}
        onDragOver={(event) => event.preventDefault()}
        onDrop={(event) => {
          event.preventDefault();
          const path = event.dataTransfer.getData('text/plain');
          if (path) list.add(path);
        }}
      >
        <div className="watch-row watch-head" role="row">
          <span role="columnheader">{w.watch.name}</span>
          <span role="columnheader" className="number">
            {w.watch.value}
          </span>
          <span role="columnheader">{w.watch.unit}</span>
          <span role="columnheader">{w.watch.status}</span>
          <span role="columnheader" className="hide-small">
            {w.watch.measured}
          </span>
          <span role="columnheader" className="number hide-small">
            {w.watch.rate}
          </span>
          <span role="columnheader" className="hide-small">
            {w.watch.course}
          </span>
          <span role="columnheader" />
        </div>
        {list.nodes.length === 0 ? (
          <Empty title={w.watch.emptyTitle}>{w.watch.empty}</Empty>
        ) : (
          <div style={{ height: virtual.getTotalSize(), position: 'relative' }} role="rowgroup">
            {virtual.getVirtualItems().map((item) => {
              const node = shown[item.index]!;
              return <Row key={node} node={node} isPaused={isPaused} top={item.start} onWrite={setWrites} />;
            })}
          </div>
        )}
      </div>
      <Modal opened={writes !== null} onClose={() => setWrites(null)} title={writes ?? ''}>
        {writes && writing?.facts && <WriteBox node={writes} facts={writing.facts} />}
      </Modal>
      <Modal opened={saves} onClose={() => setSaves(false)} title={w.watch.saveAs}>
        <form
          className="stack"
          onSubmit={(event) => {
            event.preventDefault();
            void save(name, name === saved?.name ? list.version : '');
          }}
        >
          <TextInput label={w.watch.name} value={name} onChange={(event) => setName(event.currentTarget.value)} required data-autofocus />
          {error !== null && <Refused error={error} />}
          <Button type="submit" variant="filled">
            {w.save}
          </Button>
        </form>
      </Modal>
    </div>
  );
}
