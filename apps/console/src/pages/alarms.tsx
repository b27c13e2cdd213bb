import { useMemo, useState } from 'react';
import { Button, Menu, SegmentedControl, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get, post } from '../api';
import { useAlarms } from '../live';
import type { Alarm, PastEvent, Refusal } from '../types';
import { w } from '../words';
import { ageText, clockText } from '../parts/format';
import { Empty, Mark, Refused, useNow } from '../parts/status';
import { Table, type Column } from '../parts/table';
import { ApiError } from '../api';

const kinds = {
  all: () => true,
  active: (alarm: Alarm) => alarm.isActive,
  unacknowledged: (alarm: Alarm) => !alarm.isAcknowledged,
  putAside: (alarm: Alarm) => alarm.isShelved || alarm.isSuppressed || alarm.isOutOfService,
};
type Kind = keyof typeof kinds;

const keyOf = (alarm: Alarm) => `${alarm.id} ${alarm.branch}`;
const isAside = kinds.putAside;

/** Severity as a person weighs it; the number stands beside it. */
function severityLevel(alarm: Alarm) {
  if (isAside(alarm) || !(alarm.isActive || alarm.isAsked)) return 'plain' as const;
  return alarm.severity >= 500 ? ('bad' as const) : ('doubtful' as const);
}

export function AlarmTable({ area, isSmall }: { area?: string; isSmall?: boolean }) {
  const all = useAlarms();
  const now = useNow();
  const [kind, setKind] = useState<Kind>('all');
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const [comment, setComment] = useState('');
  const [failures, setFailures] = useState<{ alarm: string; error: Refusal }[]>([]);
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const rows = useMemo(() => (all ?? []).filter((alarm) => kinds[kind](alarm) && (!area || alarm.alarm.startsWith(area))), [all, kind, area]);
  const picked = (all ?? []).filter((alarm) => chosen.has(keyOf(alarm)));

  const act = async (what: string, more: object = {}) => {
    setBusy(true);
    const meant = picked.map(keyOf);
    try {
      const alarms = [...new Set(picked.map((alarm) => alarm.id))];
      const { outcomes } = await post<{ outcomes: { alarm: string; error?: Refusal }[] }>('alarms', { what, alarms, comment, ...more });
      setFailures(outcomes.filter((one): one is { alarm: string; error: Refusal } => !!one.error));
      setError(null);
      // What was chosen and written while the answer was on its way is meant for what comes next.
      setComment((now) => (now === comment ? '' : now));
      setChosen((now) => new Set([...now].filter((key) => !meant.includes(key))));
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
  };
  const columns = useMemo<Column<Alarm>[]>(() => {
    const list: Column<Alarm>[] = [
      { name: w.alarms.severity, of: (alarm) => alarm.severity, isNumber: true, width: 70, show: (alarm) => <Mark level={severityLevel(alarm)}>{alarm.severity}</Mark> },
      { name: w.alarms.alarm, of: (alarm) => alarm.alarm, show: (alarm) => <Link href={`/node/${encodeURIComponent(alarm.alarm)}`}>{alarm.alarm}</Link> },
      { name: w.alarms.message, of: (alarm) => alarm.message },
      { name: w.alarms.state, of: (alarm) => alarm.state, show: (alarm) => <span style={{ fontWeight: alarm.isActive && !isAside(alarm) ? 600 : 400 }}>{alarm.state}</span> },
      { name: w.alarms.since, of: (alarm) => alarm.since ?? '', isNumber: true, width: 70, show: (alarm) => (alarm.since ? <span title={alarm.since}>{ageText(now - Date.parse(alarm.since))}</span> : '') },
      { name: w.alarms.comment, of: (alarm) => alarm.comment },
    ];
    return isSmall ? [list[0]!, list[1]!, list[3]!] : list;
  }, [now, isSmall]);

  const does = (
    <>
      <SegmentedControl size="xs" aria-label={w.alarms.state} value={kind} onChange={(value) => setKind(value as Kind)} data={(Object.keys(kinds) as Kind[]).map((value) => ({ value, label: w.alarms[value] }))} />
      {picked.length > 0 && (
        <>
          <strong>{w.alarms.chosen(picked.length)}</strong>
          <TextInput aria-label={w.alarms.commentHint} placeholder={w.alarms.commentHint} value={comment} onChange={(event) => setComment(event.currentTarget.value)} w={170} />
          {picked.length === 1 &&
            picked[0]!.isAsked &&
            picked[0]!.options.map((option, place) => (
              <Button key={place} variant={place === 0 ? 'filled' : 'default'} loading={isBusy} onClick={() => act('respond', { answer: String(place) })}>
                {option}
              </Button>
            ))}
          <Button variant={picked.some((alarm) => !alarm.isAcknowledged) ? 'filled' : 'default'} loading={isBusy} onClick={() => act('acknowledge')} disabled={!picked.some((alarm) => !alarm.isAcknowledged)}>
            {w.alarms.acknowledge}
          </Button>
          <Menu>
            <Menu.Target>
              <Button>
                {w.alarms.shelve} <span aria-hidden="true">▾</span>
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              {Object.entries(w.alarms.minutes).map(([minutes, label]) => (
                <Menu.Item key={minutes} onClick={() => act('shelve', { minutes: Number(minutes) })}>
                  {label}
                </Menu.Item>
              ))}
              <Menu.Item onClick={() => act('shelve', { once: true })}>{w.alarms.once}</Menu.Item>
              <Menu.Item onClick={() => act('unshelve')}>{w.alarms.unshelve}</Menu.Item>
            </Menu.Dropdown>
          </Menu>
          <Menu>
            <Menu.Target>
              <Button>
                {w.alarms.more} <span aria-hidden="true">▾</span>
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              {['confirm', 'comment', 'suppress', 'unsuppress', 'remove', 'place', 'silence', 'reset', 'enable', 'disable'].map((what) => (
                <Menu.Item key={what} onClick={() => act(what)} disabled={what === 'comment' && !comment}>
                  {what}
                </Menu.Item>
              ))}
            </Menu.Dropdown>
          </Menu>
        </>
      )}
    </>
  );
  return (
    <div className="stack">
      {error !== null && <Refused error={error} />}
      {failures.map((failure) => (
        <div key={failure.alarm}>
          <strong>{failure.alarm}</strong>
          <Refused error={new ApiError(failure.error, 400)} />
        </div>
      ))}
      <Table
        label={w.alarms.title}
        rows={rows}
        columns={columns}
        keyOf={keyOf}
        exportAs={isSmall ? undefined : 'alarms'}
        chosen={chosen}
        onChoose={setChosen}
        tools={does}
        empty={<Empty title={all === null ? w.loading : kind === 'all' ? w.alarms.none : w.alarms.noneOf} />}
      />
    </div>
  );
}

const spans = { '1h': 3_600_000, '8h': 28_800_000, '24h': 86_400_000, '7d': 604_800_000 };
type Span = keyof typeof spans;

/** What happened in the last hours or days, as the server kept it. */
function PastEvents() {
  const [span, setSpan] = useState<Span>('24h');
  const [least, setLeast] = useState('');
  const [severity] = useDebouncedValue(least, 300);
  const told = useQuery({
    queryKey: ['events', span, severity],
    queryFn: () => get<{ events: PastEvent[]; isWhole: boolean }>('events', { from: Date.now() - spans[span], to: Date.now(), severity }),
    placeholderData: (before) => before,
    refetchInterval: 15_000,
  });
  const columns = useMemo<Column<PastEvent>[]>(
    () => [
      { name: w.alarms.time, of: (event) => event.time ?? 0, width: 130, show: (event) => <span style={{ whiteSpace: 'nowrap' }}>{event.time === null ? w.none : clockText(event.time)}</span> },
      { name: w.alarms.severity, of: (event) => event.severity, isNumber: true, width: 80, show: (event) => <span style={{ fontWeight: event.severity >= 500 ? 600 : 400 }}>{event.severity}</span> },
      { name: w.alarms.source, of: (event) => event.source },
      { name: w.alarms.type, of: (event) => event.type },
      { name: w.alarms.message, of: (event) => event.message, show: (event) => <span style={{ overflowWrap: 'anywhere' }}>{event.message}</span> },
    ],
    [],
  );
  const events = told.data?.events ?? [];
  return (
    <>
      {told.error && <Refused error={told.error} />}
      <Table
        label={w.alarms.past}
        rows={events}
        columns={columns}
        keyOf={(event) => `${event.time} ${event.source} ${event.type} ${event.message}`}
        exportAs="events"
        tools={
          <>
            <SegmentedControl size="xs" aria-label={w.alarms.time} value={span} onChange={(value) => setSpan(value as Span)} data={(Object.keys(spans) as Span[]).map((value) => ({ value, label: w.trend.last[value] }))} />
            <TextInput aria-label={w.alarms.least} placeholder={w.alarms.least} value={least} onChange={(event) => setLeast(event.currentTarget.value.replace(/\D/g, '').slice(0, 4))} w={120} inputMode="numeric" />
          </>
        }
        empty={<Empty title={told.data ? w.alarms.noEvents : w.loading} />}
      />
      {told.data && !told.data.isWhole && <div className="soft">{w.alarms.cutEvents(events.length)}</div>}
    </>
  );
}

export default function Alarms() {
  const [part, setPart] = useState('now');
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.alarms.title}</h1>
        <span className="does">
          <SegmentedControl size="xs" aria-label={w.alarms.title} value={part} onChange={setPart} data={[{ value: 'now', label: w.alarms.now }, { value: 'past', label: w.alarms.past }]} />
        </span>
      </div>
      {part === 'now' ? <AlarmTable /> : <PastEvents />}
    </div>
  );
}
