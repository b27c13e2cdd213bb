import { useState } from 'react';
import { Button, Select, Switch } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { get, post } from '../api';
import { useLive, type Sample } from '../live';
import type { Facts, NodeBrief, NodePage, Widget, WidgetKind } from '../types';
import { w } from '../words';
import { ageText, levelOf, sampleText } from './format';
import { Refused, StatusMark, useNow } from './status';
import { Trend } from './trend';
import { ValueField, writeValue } from './write_box';
import { AlarmTable } from '../pages/alarms';

/** What fits a node best, by its type, unit, range and access; the first is proposed. */
export function fitting(node: NodeBrief): WidgetKind[] {
  if (node.class === 'Method') return ['button'];
  if (node.class !== 'Variable' || !node.facts) return ['alarms'];
  const { kind, isWritable, members, valueRank } = node.facts;
  const range = node.facts.range ?? node.facts.limits;
  if (valueRank >= 0) return ['text'];
  if (members?.length) return isWritable ? ['choice', 'text'] : ['text'];
  if (kind === 'boolean') return isWritable ? ['switch', 'lamp', 'text'] : ['lamp', 'text'];
  if (kind === 'number' || kind === 'integer') {
    const shows: WidgetKind[] = range ? ['gauge', 'bar', 'number', 'trend'] : ['number', 'trend'];
    return isWritable ? ['setpoint', ...shows] : shows;
  }
  return ['text'];
}

const sizes: Record<WidgetKind, [number, number]> = {
  number: [3, 2], gauge: [3, 3], bar: [4, 2], lamp: [2, 2], switch: [3, 2], button: [3, 2], setpoint: [4, 3], choice: [4, 2], text: [4, 2], trend: [6, 4], alarms: [12, 6], heading: [12, 1],
};

export function widgetFor(node: NodeBrief, kind?: WidgetKind): Widget {
  const shown = kind ?? fitting(node)[0]!;
  const [columns, rows] = sizes[shown];
  const parts = node.path.split('/');
  return { id: crypto.randomUUID?.() ?? String(Math.random()), kind: shown, node: node.path, title: parts.slice(-2).join(' '), columns, rows };
}

export function plainWidget(kind: 'heading' | 'alarms', title: string): Widget {
  const [columns, rows] = sizes[kind];
  return { id: crypto.randomUUID?.() ?? String(Math.random()), kind, title, columns, rows };
}

const rangeOf = (facts: Facts) => facts.range ?? facts.limits ?? { low: 0, high: 100 };

function shareOf(sample: Sample): number {
  const { low, high } = rangeOf(sample.facts!);
  return Math.max(0, Math.min(1, (Number(sample.value) - low) / (high - low || 1)));
}

/** Half a circle with a hand of ink; the numbers say the rest. */
function Gauge({ sample }: { sample: Sample }) {
  const share = shareOf(sample);
  const { low, high } = rangeOf(sample.facts!);
  const at = (part: number, radius: number) => {
    const angle = Math.PI * (1 - part);
    return `${60 + radius * Math.cos(angle)} ${62 - radius * Math.sin(angle)}`;
  };
  return (
    <svg viewBox="0 0 120 70" style={{ width: '100%', flex: 1, minHeight: 0 }} aria-hidden="true">
      <path d={`M${at(0, 50)}A50 50 0 0 1 ${at(1, 50)}`} fill="none" stroke="var(--paper-sunk)" strokeWidth="11" />
      <path d={`M${at(0, 50)}A50 50 0 0 1 ${at(share, 50)}`} fill="none" stroke="var(--teal)" strokeWidth="11" />
      <path d={`M${at(share, 40)}L${at(share, 57)}`} stroke="var(--ink)" strokeWidth="2.500" />
      <text x="6" y="70" fontSize="8" fill="var(--ink-soft)">{low}</text>
      <text x="114" y="70" fontSize="8" fill="var(--ink-soft)" textAnchor="end">{high}</text>
    </svg>
  );
}

function Reading({ sample }: { sample: Sample | null }) {
  return (
    <div className="reading">
      {sample ? sampleText(sample) : '…'} <small>{sample?.facts?.unit}</small>
    </div>
  );
}

function CallButton({ node, isIdle }: { node: string; isIdle: boolean }) {
  const page = useQuery({ queryKey: ['node', node], queryFn: () => get<NodePage>('node', { node }) });
  const [asks, setAsks] = useState(false);
  const [inputs, setInputs] = useState<Record<string, string>>({});
  const [told, setTold] = useState('');
  const [error, setError] = useState<unknown>(null);
  const call = async () => {
    setAsks(false);
    try {
      const outcome = await post<{ status: string }>('call', { method: node, inputs });
      setTold(outcome.status);
      setError(null);
    } catch (refused) {
      setError(refused);
    }
  };
  if (page.error) return <Refused error={page.error} />;
  return (
    <div className="stack">
      {asks ? (
        <>
          {page.data?.inputs?.map((input) => (
            <label key={input.name} className="bar">
              {input.name}
              <ValueField facts={input} label={input.name} value={inputs[input.name] ?? ''} onChange={(value) => setInputs({ ...inputs, [input.name]: value })} />
            </label>
          ))}
          <div className="bar">
            <Button variant="filled" onClick={call}>
              {w.pages.sure}
            </Button>
            <Button onClick={() => setAsks(false)}>{w.cancel}</Button>
          </div>
        </>
      ) : (
        <Button size="md" variant="filled" fullWidth disabled={isIdle || page.data?.isCallable === false} onClick={() => setAsks(true)}>
          {page.data?.name ?? '…'}
        </Button>
      )}
      {told && <span className="mark" data-level="good" role="status">{told}</span>}
      {error !== null && <Refused error={error} />}
    </div>
  );
}

/** Takes a value by one touch or one field, and says what it was refused with. */
function Operate({ widget, sample, isIdle }: { widget: Widget; sample: Sample | null; isIdle: boolean }) {
  const [text, setText] = useState<string | null>(null);
  const [error, setError] = useState<unknown>(null);
  const facts = sample?.facts;
  const write = async (value: string | boolean) => {
    try {
      await writeValue(widget.node!, value);
      setText(null);
      setError(null);
    } catch (refused) {
      setError(refused);
    }
  };
  if (!facts) return null;
  const off = isIdle || !facts.isWritable;
  return (
    <>
      {widget.kind === 'switch' && (
        <Switch size="lg" aria-label={widget.title} disabled={off} checked={sample.value === true} onChange={(event) => write(event.currentTarget.checked)} label={sampleText(sample)} />
      )}
      {widget.kind === 'choice' && (
        <Select aria-label={widget.title} disabled={off} data={facts.members?.map((member) => member.name) ?? []} value={facts.members?.find((member) => member.value === sample.value)?.name ?? null} onChange={(name) => name && write(name)} />
      )}
      {widget.kind === 'setpoint' && (
        <div className="bar" style={{ flexWrap: 'nowrap', alignItems: 'flex-start' }}>
          <ValueField facts={facts} label={widget.title ?? ''} value={text ?? String(sample.value ?? '')} onChange={setText} onEnter={() => text !== null && !off && write(text)} />
          <Button variant="filled" disabled={off || text === null} onClick={() => text !== null && write(text)}>
            {w.pages.set}
          </Button>
        </div>
      )}
      {error !== null && <Refused error={error} />}
    </>
  );
}

/** One thing on an operator's page. A bad value never looks like a good one. */
export function WidgetView({ widget, isIdle }: { widget: Widget; isIdle: boolean }) {
  const isVariable = widget.node && widget.kind !== 'button' && widget.kind !== 'alarms';
  const sample = useLive(isVariable ? widget.node : null);
  const now = useNow();
  const level = !isVariable ? 'good' : sample?.error ? 'bad' : sample && sample.changes > 0 ? levelOf(sample.status) : 'good';
  const bad = level === 'bad';
  if (widget.kind === 'heading') return <h2 style={{ alignSelf: 'end' }}>{widget.title}</h2>;
  if (widget.kind === 'alarms') return <AlarmTable area={widget.node} isSmall />;
  const age = sample?.time ? now - sample.time : 0;
  return (
    <>
      <div className="caption" title={widget.node}>
        {widget.title}
      </div>
      {widget.kind === 'button' ? (
        <CallButton node={widget.node!} isIdle={isIdle} />
      ) : bad ? (
        <StatusMark sample={sample} />
      ) : (
        <>
          {(widget.kind === 'number' || widget.kind === 'text') && <Reading sample={sample} />}
          {widget.kind === 'gauge' && sample?.facts && typeof sample.value === 'number' && (
            <>
              <Gauge sample={sample} />
              <Reading sample={sample} />
            </>
          )}
          {widget.kind === 'bar' && sample?.facts && typeof sample.value === 'number' && (
            <>
              <Reading sample={sample} />
              <div className="track" role="meter" aria-label={widget.title} aria-valuenow={sample.value} aria-valuemin={rangeOf(sample.facts).low} aria-valuemax={rangeOf(sample.facts).high}>
                <div style={{ width: `${100 * shareOf(sample)}%` }} />
              </div>
            </>
          )}
          {widget.kind === 'lamp' && (
            <div className="bar">
              <span className="lamp" data-on={sample?.value === true || undefined}>
                {sample?.value === true ? '✓' : ''}
              </span>
              <strong>{sampleText(sample)}</strong>
            </div>
          )}
          {widget.kind === 'setpoint' && <Reading sample={sample} />}
          {['switch', 'choice', 'setpoint'].includes(widget.kind) && <Operate widget={widget} sample={sample} isIdle={isIdle} />}
          {widget.kind === 'trend' && sample?.facts && (
            <div style={{ flex: 1, minHeight: 0 }}>
              <Trend lines={[{ node: widget.node!, name: widget.title ?? '', unit: sample.facts.unit, isStepped: sample.facts.kind !== 'number' }]} from={0} to={0} span={3_600_000} isLive height={widget.rows * 68 - 62} />
            </div>
          )}
        </>
      )}
      {level === 'doubtful' && <StatusMark sample={sample} />}
      {age > 60_000 && (
        <div className="soft" style={{ fontSize: 12 }}>
          {ageText(age)} {w.node.age}
        </div>
      )}
    </>
  );
}
