import { useMemo, useState } from 'react';
import { Button, Modal } from '@mantine/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get, post } from '../api';
import type { Policy, WayIn } from '../types';
import { w } from '../words';
import { Empty, Mark, Refused } from '../parts/status';
import { Table, type Column } from '../parts/table';

const levels = { open: 'good', inhibited: 'doubtful', closed: 'bad' } as const;

/** How connections may be secured, and how many are. */
export function Policies() {
  const told = useQuery({ queryKey: ['policies'], queryFn: () => get<{ policies: Policy[] }>('policies'), refetchInterval: 5_000 });
  const columns = useMemo<Column<Policy>[]>(
    () => [
      { name: w.access.state, of: (row) => (row.isSecure ? w.access.secured : w.access.unsecured), width: 190, show: (row) => <Mark level={row.isSecure ? 'good' : 'doubtful'}>{row.isSecure ? w.access.secured : w.access.unsecured}</Mark> },
      { name: w.access.transport, of: (row) => row.transport, width: 120 },
      { name: w.access.policy, of: (row) => row.policy },
      { name: w.access.mode, of: (row) => row.mode, width: 150 },
      { name: w.access.usersMay, of: (row) => row.users.join(', ') },
      { name: w.access.connected, of: (row) => row.clients, isNumber: true, width: 100 },
    ],
    [],
  );
  if (told.error) return <Refused error={told.error} />;
  return (
    <>
      <Table label={w.access.policies} rows={told.data?.policies ?? []} columns={columns} keyOf={(row) => `${row.transport} ${row.policy} ${row.mode}`} exportAs="policies" empty={<Empty title={w.access.noPolicies} />} />
      <p className="soft">
        <Link href="/files?name=site.yaml">{w.access.policiesHint}</Link>
      </p>
    </>
  );
}

/** By which ways the site is reached; who may, shuts one and opens it again. */
export function WaysIn({ mayChange }: { mayChange: boolean }) {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['interfaces'], queryFn: () => get<{ interfaces: WayIn[] }>('interfaces'), refetchInterval: 3_000 });
  const [asked, setAsked] = useState<WayIn | null>(null);
  const [error, setError] = useState<unknown>(null);
  const change = async (way: WayIn) => {
    try {
      await post('interfaces', { change: way.state === 'inhibited' ? 'admit' : 'inhibit', name: way.name });
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    setAsked(null);
    await queries.invalidateQueries({ queryKey: ['interfaces'] });
  };
  const columns = useMemo<Column<WayIn>[]>(
    () => [
      { name: w.access.state, of: (way) => way.state, width: 110, show: (way) => <Mark level={levels[way.state]}>{w.access[way.state]}</Mark> },
      { name: w.access.name, of: (way) => way.name },
      { name: w.access.kind, of: (way) => way.kind, width: 120 },
      { name: w.access.address, of: (way) => way.at, show: (way) => (way.why ? <span title={way.why}>{way.why}</span> : way.at) },
      { name: w.access.connected, of: (way) => way.clients, isNumber: true, width: 100 },
      { name: w.access.requests, of: (way) => way.requests ?? '', isNumber: true, width: 100 },
      { name: w.access.refusedRequests, of: (way) => way.refused ?? '', isNumber: true, width: 90 },
      ...(mayChange
        ? [
            {
              name: '',
              of: () => '',
              show: (way: WayIn) =>
                way.state === 'inhibited' ? (
                  <Button aria-label={`${w.access.admit} ${way.name}`} onClick={() => void change(way)}>
                    {w.access.admit}
                  </Button>
                ) : (
                  <Button aria-label={`${w.access.inhibit} ${way.name}`} onClick={() => setAsked(way)}>
                    {w.access.inhibit}
                  </Button>
                ),
            },
          ]
        : []),
    ],
    [mayChange],
  );
  if (told.error) return <Refused error={told.error} />;
  return (
    <>
      {error !== null && <Refused error={error} />}
      <Table label={w.access.interfaces} rows={told.data?.interfaces ?? []} columns={columns} keyOf={(way) => way.name} exportAs="interfaces" empty={<Empty title={w.access.noInterfaces} />} />
      <Modal opened={asked !== null} onClose={() => setAsked(null)} title={asked ? `${w.access.inhibit} ${asked.name}` : ''}>
        {asked && (
          <div className="stack">
            <p>{w.access.inhibitAsk}</p>
            {asked.name === 'console' && <p>{w.access.inhibitConsole}</p>}
            <div className="bar">
              <Button variant="filled" onClick={() => void change(asked)}>
                {w.access.inhibit}
              </Button>
              <Button onClick={() => setAsked(null)}>{w.cancel}</Button>
            </div>
          </div>
        )}
      </Modal>
    </>
  );
}
