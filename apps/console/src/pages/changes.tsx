import { useMemo, useState } from 'react';
import { Button } from '@mantine/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { get, post } from '../api';
import type { Change, Changes } from '../types';
import { w } from '../words';
import { Empty, Mark, Refused } from '../parts/status';
import { Table, type Column } from '../parts/table';

export default function ChangesPage() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['changes'], queryFn: () => get<Changes>('changes') });
  const [outcome, setOutcome] = useState<Changes | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const apply = async () => {
    setBusy(true);
    try {
      setOutcome(await post<Changes>('apply'));
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    setBusy(false);
    await queries.invalidateQueries();
  };
  const columns = useMemo<Column<Change>[]>(
    () => [
      { name: w.changes.change, of: (change) => change.change, width: 90, show: (change) => <Mark level="plain">{change.change}</Mark> },
      { name: w.changes.node, of: (change) => change.node },
      { name: w.changes.what, of: (change) => change.what },
      { name: w.changes.before, of: (change) => change.before },
      { name: w.changes.after, of: (change) => change.after },
      { name: w.changes.clients, of: (change) => change.clients },
    ],
    [],
  );
  const changes = told.data;
  const findings = changes?.findings ?? outcome?.findings;
  const count = (changes?.changes?.length ?? 0) + (changes?.restart?.length ?? 0);
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.changes.title}</h1>
        <span className="soft">{w.changes.hint}</span>
        <span className="does">
          <Button onClick={() => told.refetch()} loading={told.isFetching}>
            {w.changes.look}
          </Button>
          <Button variant="filled" onClick={apply} loading={isBusy} disabled={!changes || !!findings || count === 0}>
            {w.changes.apply}
          </Button>
        </span>
      </div>
      {told.error && <Refused error={told.error} />}
      {error !== null && <Refused error={error} />}
      {outcome?.applied && (
        <div role="status">
          <Mark level="good">{w.changes.applied(outcome.added ?? 0, outcome.changed ?? 0, outcome.removed ?? 0)}</Mark>
        </div>
      )}
      {findings && (
        <section className="refusal">
          <strong>{w.changes.findings}</strong>
          <pre className="octets" style={{ whiteSpace: 'pre-wrap', margin: '6px 0 0' }}>
            {findings.join('\n')}
          </pre>
        </section>
      )}
      {changes && !findings && count === 0 && <Empty title={w.changes.same} />}
      {(changes?.changes?.length ?? 0) > 0 && <Table label={w.changes.title} rows={changes!.changes!} columns={columns} keyOf={(change) => `${change.node} ${change.what} ${change.change}`} exportAs="changes" empty={null} />}
      {changes?.total !== undefined && changes.total > (changes.changes?.length ?? 0) && <div className="soft">{w.changes.cut(changes.changes?.length ?? 0, changes.total)}</div>}
      {(changes?.restart?.length ?? 0) > 0 && (
        <section className="card">
          <h2>{w.changes.restart}</h2>
          <ul>
            {changes!.restart!.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}
