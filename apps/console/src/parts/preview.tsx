import { useMemo } from 'react';
import { useQuery } from '@tanstack/react-query';
import { post } from '../api';
import type { Preview, PreviewLine, ShownValue } from '../types';
import { w } from '../words';
import { levelOf } from './format';
import { Empty, Mark, Refused } from './status';
import { Table, type Column } from './table';

const textOf = (value?: ShownValue, unit = '') => (!value ? '' : levelOf(value.status) === 'bad' ? value.status : `${value.text} ${unit}`.trim());

function Value({ value, unit }: { value?: ShownValue | undefined; unit?: string | undefined }) {
  if (!value) return <span className="soft">{w.none}</span>;
  const level = levelOf(value.status);
  return (
    <>
      {level !== 'bad' && textOf(value, unit)} {level !== 'good' && <Mark level={level}>{value.status}</Mark>}
    </>
  );
}

/** What a file of devices or bindings would show if it counted, from the devices as they are, while it is being edited. */
export function PreviewOf({ name, round }: { name: string; round: string }) {
  const told = useQuery({
    queryKey: ['preview', name, round],
    queryFn: () => post<Preview>('drafts/preview', { name }),
    refetchInterval: 3_000,
    retry: false,
    placeholderData: (before) => before,
  });
  const columns = useMemo<Column<PreviewLine>[]>(
    () => [
      { name: w.preview.node, of: (line) => line.node || line.point, show: (line) => line.node || <span className="soft">{w.preview.noNode}</span> },
      { name: w.preview.shown, of: (line) => textOf(line.shown, line.unit), isNumber: true, show: (line) => <Value value={line.shown} unit={line.unit} /> },
      { name: w.preview.now, of: (line) => textOf(line.now, line.now?.unit), isNumber: true, show: (line) => <Value value={line.now} unit={line.now?.unit} /> },
      { name: w.preview.point, of: (line) => `${line.point} ${line.words}`, show: (line) => <span className="octets one-line" title={line.words}>{line.point}</span> },
      { name: w.look.octets, of: (line) => line.way.map((stage) => stage.shows).join(' '), show: (line) => (line.why ? <span className="soft">{line.why}</span> : <span className="octets soft one-line" title={line.way.map((stage) => `${stage.stage}: ${stage.shows}`).join('\n')}>{line.way.slice(1).map((stage) => stage.shows).join(' → ')}</span>) },
    ],
    [],
  );
  return (
    <section className="stack" aria-label={w.preview.title} style={{ marginTop: 12 }}>
      <p className="soft" style={{ margin: 0 }}>
        {w.preview.hint}
      </p>
      {told.error && <Refused error={told.error} />}
      {told.data && told.data.left > 0 && <p style={{ margin: 0 }}>{w.preview.left(told.data.left)}</p>}
      {told.data ? (
        <Table label={w.preview.title} rows={told.data.lines} columns={columns} keyOf={(line) => `${line.point} ${line.node}`} exportAs="preview" height={300} empty={<Empty title={w.preview.none} />} />
      ) : (
        !told.error && <Empty title={w.loading} />
      )}
    </section>
  );
}
