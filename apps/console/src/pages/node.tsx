import { useState } from 'react';
import { Button, Collapse, SegmentedControl } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'wouter';
import { get, post } from '../api';
import { useLive } from '../live';
import type { NodePage, Value } from '../types';
import { w } from '../words';
import { ageText, levelOf, nodeHref, sampleText, valueText } from '../parts/format';
import { Drawn } from '../parts/drawn';
import { Icon } from '../parts/icons';
import { Outline } from '../parts/outline';
import { Empty, Refused, StatusMark, useNow } from '../parts/status';
import { Trend } from '../parts/trend';
import { ValueField, WriteBox } from '../parts/write_box';
import { removeFromList, useWatchList } from '../parts/watch_list';
import { Copyable } from './overview';

function Folded({ title, children, isOpen }: { title: string; children: React.ReactNode; isOpen?: boolean }) {
  const [open, setOpen] = useState(isOpen ?? false);
  return (
    <section className="card">
      <h2>
        <button onClick={() => setOpen(!open)} aria-expanded={open} style={{ all: 'unset', cursor: 'pointer', display: 'flex', alignItems: 'center', gap: 6 }}>
          <Icon name={open ? 'unfold' : 'fold'} size={14} />
          {title}
        </button>
      </h2>
      <Collapse in={open}>{open && <div style={{ marginTop: 10 }}>{children}</div>}</Collapse>
    </section>
  );
}

function Explained({ node }: { node: string }) {
  const told = useQuery({ queryKey: ['explain', node], queryFn: () => get<{ stages: { stage: string; shows: string }[] }>('explain', { node }), refetchInterval: 2_000 });
  if (told.error) return <Refused error={told.error} />;
  return (
    <div className="stages">
      {(told.data?.stages ?? []).flatMap((stage, index) => [
        <span className="soft" key={`${index} stage`}>
          {stage.stage}
        </span>,
        <span key={`${index} shows`}>{stage.shows}</span>,
      ])}
    </div>
  );
}

const spans = { '15m': 900_000, '1h': 3_600_000, '8h': 28_800_000, '24h': 86_400_000, '7d': 604_800_000 } as const;

function VariableHead({ page }: { page: NodePage }) {
  const sample = useLive(page.id);
  const now = useNow();
  const facts = page.facts!;
  const [span, setSpan] = useState<keyof typeof spans>('1h');
  const isNumeric = facts.valueRank < 0 && (facts.kind === 'number' || facts.kind === 'integer' || facts.kind === 'boolean');
  const isBad = levelOf(sample?.status ?? null) === 'bad' || !!sample?.error;
  return (
    <section className="card stack">
      <div className="big">
        {isBad ? (
          <StatusMark sample={sample} />
        ) : (
          <>
            <span className="value">{sample ? sampleText(sample) : '…'}</span>
            <span className="unit">{facts.unit}</span>
            <StatusMark sample={sample} />
          </>
        )}
        {sample?.time && (
          <span className="soft" title={new Date(sample.time).toISOString()}>
            {w.node.measured} {ageText(now - sample.time)} {now - sample.time >= 1_000 ? w.node.age : ''}
          </span>
        )}
      </div>
      {facts.isWritable && <WriteBox node={page.id} facts={facts} />}
      {isNumeric && (
        <>
          <div className="bar">
            <SegmentedControl size="xs" data={Object.entries(w.trend.last).map(([value, label]) => ({ value, label }))} value={span} onChange={(value) => setSpan(value as keyof typeof spans)} aria-label={w.node.trend} />
            {!facts.hasHistory && <span className="soft">{w.node.noHistory}</span>}
          </div>
          <Trend lines={[{ node: page.id, name: page.name, unit: facts.unit, isStepped: facts.kind !== 'number' }]} from={0} to={0} span={spans[span]} isLive height={200} />
        </>
      )}
    </section>
  );
}

function MethodForm({ page }: { page: NodePage }) {
  const [inputs, setInputs] = useState<Record<string, string>>({});
  const [asks, setAsks] = useState(false);
  const [outcome, setOutcome] = useState<{ status: string; outputs: { name: string; value: Value; text: string }[] } | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const call = async () => {
    setAsks(false);
    setBusy(true);
    setOutcome(null);
    try {
      const given = Object.fromEntries((page.inputs ?? []).map((input) => [input.name, inputs[input.name] ?? (input.kind === 'boolean' ? 'false' : '')]));
      setOutcome(await post('call', { method: page.id, inputs: given }));
      setError(null);
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
  };
  return (
    <section className="card stack">
      <h2>{w.node.call}</h2>
      {page.inputs?.length === 0 && <div className="soft">{w.node.noInputs}</div>}
      <dl className="facts">
        {page.inputs?.flatMap((input) => [
          <dt key={input.name}>
            {input.name} <span style={{ fontSize: 12 }}>{input.dataType}</span>
          </dt>,
          <dd key={`${input.name} field`}>
            <ValueField facts={input} value={inputs[input.name] ?? ''} onChange={(value) => setInputs({ ...inputs, [input.name]: value })} label={input.name} />
            <div className="soft">{input.description}</div>
          </dd>,
        ])}
      </dl>
      <div className="bar">
        {asks ? (
          <>
            <span>{w.node.callAsk}</span>
            <Button variant="filled" onClick={call}>
              {w.node.call}
            </Button>
            <Button onClick={() => setAsks(false)}>{w.cancel}</Button>
          </>
        ) : (
          <Button variant="filled" onClick={() => setAsks(true)} loading={isBusy} disabled={page.isCallable === false}>
            {w.node.call} {page.name}
          </Button>
        )}
        {page.isCallable === false && <span className="soft">{w.node.notCallable}</span>}
      </div>
      {outcome && (
        <div role="status">
          <span className="mark" data-level="good">
            {w.node.answered}: {outcome.status}
          </span>
          <dl className="facts" style={{ marginTop: 8 }}>
            {outcome.outputs.flatMap((output) => [<dt key={output.name}>{output.name}</dt>, <dd key={`${output.name} value`}>{valueText(output.value, null, output.text)}</dd>])}
          </dl>
        </div>
      )}
      {error !== null && <Refused error={error} />}
    </section>
  );
}

export default function NodeView({ name }: { name: string }) {
  const told = useQuery({ queryKey: ['node', name], queryFn: () => get<NodePage>('node', { node: name }) });
  const list = useWatchList();
  const [, go] = useLocation();
  if (told.error) return <Refused error={told.error} />;
  const page = told.data;
  if (!page) return <Empty title={w.loading} />;
  const isVariable = page.class === 'Variable';
  const isWatched = list.nodes.includes(page.path);
  return (
    <div className="stack">
      <div>
        <nav className="crumbs" aria-label={w.node.path}>
          {page.ancestors.map((step) => (
            <span key={step.id}>
              <Link href={nodeHref(step)}>{step.name}</Link> /
            </span>
          ))}
        </nav>
        <div className="title" style={{ marginBottom: 0 }}>
          <h1>{page.displayName ?? page.name}</h1>
          <span className="soft">
            {isVariable ? page.facts?.dataType : page.class}
            {page.type && page.type !== 'BaseDataVariableType' && page.type !== 'PropertyType' ? `, ${page.type}` : ''}
          </span>
          {isVariable && (
            <span className="does">
              <Button onClick={() => (isWatched ? removeFromList(page.path) : list.add(page.path))} aria-pressed={isWatched}>
                {isWatched ? w.node.unwatch : w.node.watch}
              </Button>
              <Button onClick={() => go(`/trend?node=${encodeURIComponent(page.path)}`)}>{w.node.trend}</Button>
              <Button onClick={() => go(`/record?like=${encodeURIComponent(page.path)}`)}>{w.record.happened}</Button>
            </span>
          )}
        </div>
        {page.description && <div className="soft">{page.description}</div>}
      </div>
      {isVariable && <VariableHead page={page} />}
      {page.class === 'Method' && <MethodForm page={page} />}
      {page.hasChildren && (
        <section>
          <h2 style={{ marginBottom: 6 }}>{w.node.below}</h2>
          <Outline root={page.id} />
        </section>
      )}
      {((page.class === 'Object' && page.hasChildren) || page.class.endsWith('Type')) && (
        <Folded title={w.node.drawn}>
          <Drawn node={page.id} />
        </Folded>
      )}
      {isVariable && (
        <Folded title={w.node.from}>
          <div className="soft" style={{ marginBottom: 6 }}>
            {w.node.explain}
          </div>
          <Explained node={page.id} />
        </Folded>
      )}
      <Folded title={w.node.addresses}>
        <dl className="facts">
          <dt>{w.node.path}</dt>
          <dd>
            <Copyable text={page.addresses.path} />
          </dd>
          <dt>{w.node.nodeId}</dt>
          <dd>
            <Copyable text={page.addresses.nodeId} octets />
          </dd>
          <dt>{w.node.nodeIdWithUri}</dt>
          <dd>
            <Copyable text={page.addresses.nodeIdWithUri} octets />
          </dd>
        </dl>
      </Folded>
      <Folded title={w.node.attributes}>
        <dl className="facts">
          {page.attributes.flatMap((attribute) => [<dt key={attribute.name}>{attribute.name}</dt>, <dd key={`${attribute.name} text`}>{attribute.text}</dd>])}
        </dl>
      </Folded>
      <Folded title={`${w.node.references} (${page.references.length})`}>
        <table className="rows">
          <tbody>
            {page.references.map((reference, index) => (
              <tr key={index}>
                <td className="soft">
                  {reference.isForward ? '→' : '←'} {reference.type}
                </td>
                <td>
                  <Link href={nodeHref(reference)}>{reference.name}</Link>
                </td>
                <td className="soft">{reference.class}</td>
                <td className="octets">{reference.id}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {page.moreReferences && <div className="soft">{w.node.moreReferences}</div>}
      </Folded>
    </div>
  );
}
