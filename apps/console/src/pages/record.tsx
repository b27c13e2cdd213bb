import { useEffect, useMemo, useState } from 'react';
import { Button, Checkbox, SegmentedControl, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get, post } from '../api';
import type { AuditLine, LogLine, Me } from '../types';
import { w } from '../words';
import { clockText } from '../parts/format';
import { Empty, Mark, Refused } from '../parts/status';
import { Table, type Column } from '../parts/table';

const asked = () => new URLSearchParams(window.location.search);
/** From debug to error; what is worse is told as well. */
const levels = ['debug', 'info', 'warning', 'error'];

function Log() {
  const [least, setLeast] = useState('debug');
  const [words, setWords] = useState(() => asked().get('like') ?? '');
  const told = useQuery({ queryKey: ['log'], queryFn: () => get<{ level: string; parts: Record<string, string>; lines: LogLine[] }>('log'), refetchInterval: 2_000 });
  const [error, setError] = useState<unknown>(null);
  const [part, setPart] = useState<string | null>(() => asked().get('of'));
  const tellMore = () => post('log/level', { level: 'debug', minutes: 15, ...(part ? { part } : {}) }).then(() => told.refetch(), setError);
  const columns = useMemo<Column<LogLine>[]>(
    () => [
      { name: w.record.time, of: (line) => line.time, show: (line) => <span style={{ whiteSpace: 'nowrap' }}>{clockText(Date.parse(line.time))}</span>, width: 130 },
      { name: w.record.level, of: (line) => line.level, width: 90, show: (line) => <Mark level={line.level === 'error' ? 'bad' : line.level.startsWith('warn') ? 'doubtful' : 'plain'}>{line.level}</Mark> },
      { name: w.record.part, of: (line) => line.part, width: 90 },
      { name: w.record.text, of: (line) => line.text, show: (line) => <span style={{ overflowWrap: 'anywhere' }}>{line.text}</span> },
    ],
    [],
  );
  if (told.error) return <Refused error={told.error} />;
  const rows = (told.data?.lines ?? []).filter((line) => levels.indexOf(line.level) >= levels.indexOf(least) && line.text.includes(words) && (!part || line.part === part)).reverse();
  const level = told.data?.parts[part ?? ''] ?? told.data?.level;
  return (
    <>
      {error !== null && <Refused error={error} />}
      <Table
        label={w.record.log}
        rows={rows}
        columns={columns}
        keyOf={(line) => line.time + line.text}
        exportAs="log"
        tools={
          <>
            <TextInput aria-label={w.record.about} placeholder={w.record.aboutHint} value={words} onChange={(event) => setWords(event.currentTarget.value)} w={140} />
            <Select aria-label={w.record.least} data={levels.map((level) => ({ value: level, label: w.record.leastIs(level) }))} value={least} allowDeselect={false} onChange={(level) => setLeast(level ?? least)} w={125} />
            <Select aria-label={w.record.part} placeholder={w.record.allParts} data={Object.keys(told.data?.parts ?? {})} value={part} onChange={setPart} clearable w={110} />
            <Button onClick={tellMore}>{w.record.tellMore}</Button>
            <span className="soft">{level ? w.record.levelNow(level) : ''}</span>
          </>
        }
        empty={<Empty title={told.data ? w.record.noLog : w.loading} />}
      />
    </>
  );
}

export default function RecordPage({ me }: { me: Me }) {
  const [part, setPart] = useState(() => (asked().get('part') === 'log' ? 'log' : 'audit'));
  const [onlyFailed, setFailed] = useState(false);
  const [like, setLike] = useState(() => asked().get('like') ?? '');
  const [who, setWho] = useState<string | null>(() => asked().get('who'));
  const [what, setWhat] = useState<string | null>(() => asked().get('what'));
  const [settled] = useDebouncedValue(like, 250);
  const isAdministrator = me.roles?.includes('SecurityAdmin');
  const told = useQuery({
    queryKey: ['audit', onlyFailed, settled, who, what],
    queryFn: () => get<{ lines: AuditLine[] }>('audit', { failed: onlyFailed, like: settled, who: who ?? '', what: what ?? '', most: 2_000 }),
    refetchInterval: 3_000,
    enabled: isAdministrator,
    placeholderData: (before) => before,
  });
  const columns = useMemo<Column<AuditLine>[]>(
    () => [
      { name: w.record.time, of: (line) => line.time, show: (line) => <span style={{ whiteSpace: 'nowrap' }}>{clockText(Date.parse(line.time))}</span>, width: 130 },
      { name: w.record.what, of: (line) => line.what },
      { name: w.record.who, of: (line) => line.who },
      { name: w.record.from, of: (line) => line.from },
      { name: w.record.outcome, of: (line) => line.outcome, show: (line) => <Mark level={line.outcome.startsWith('Bad') ? 'bad' : line.outcome.startsWith('Uncertain') ? 'doubtful' : 'good'}>{line.outcome}</Mark> },
      { name: w.record.about, of: (line) => line.about, show: (line) => <span style={{ overflowWrap: 'anywhere' }}>{line.about}</span> },
    ],
    [],
  );
  // Those that have been seen, so that one can be chosen after another.
  const [seen, setSeen] = useState<{ who: string[]; what: string[] }>({ who: [], what: [] });
  const lines = told.data?.lines;
  useEffect(() => {
    const all = (before: string[], now: string[]) => [...new Set([...before, ...now.filter(Boolean)])].sort();
    if (lines) setSeen((before) => ({ who: all(before.who, lines.map((line) => line.who)), what: all(before.what, lines.map((line) => line.what)) }));
  }, [lines]);
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.record.title}</h1>
        <span className="soft">{part === 'audit' ? w.record.hint : ''}</span>
        <span className="does">
          <SegmentedControl size="xs" aria-label={w.record.title} value={part} onChange={setPart} data={[{ value: 'audit', label: w.record.audit }, { value: 'log', label: w.record.log }]} />
        </span>
      </div>
      {part === 'log' ? (
        <Log />
      ) : !isAdministrator ? (
        <div className="card bar">
          <span>{w.access.needs}</span>
          <Button component={Link} href={me.awaitsFirstUser ? '/first' : '/login'} variant="filled">
            {me.awaitsFirstUser ? w.access.first : w.login.go}
          </Button>
        </div>
      ) : told.error ? (
        <Refused error={told.error} />
      ) : (
        <Table
          label={w.record.title}
          rows={told.data?.lines ?? []}
          columns={columns}
          keyOf={(line) => JSON.stringify(line)}
          exportAs="audit"
          tools={
            <>
              <Select aria-label={w.record.who} placeholder={w.record.anybody} data={seen.who} value={who} onChange={setWho} clearable searchable w={140} />
              <Select aria-label={w.record.what} placeholder={w.record.anything} data={seen.what} value={what} onChange={setWhat} clearable searchable w={150} />
              <TextInput aria-label={w.record.about} placeholder={w.record.aboutHint} value={like} onChange={(event) => setLike(event.currentTarget.value)} w={160} />
              <Checkbox label={w.record.failed} checked={onlyFailed} onChange={(event) => setFailed(event.currentTarget.checked)} />
            </>
          }
          empty={<Empty title={told.data ? w.record.none : w.loading} />}
        />
      )}
    </div>
  );
}
