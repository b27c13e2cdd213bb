import { useMemo, useState } from 'react';
import { Button, NumberInput, Select, Textarea, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get, post } from '../api';
import type { DeviceKind, FoundPoint, TriedDevice, TriedPoint } from '../types';
import { w } from '../words';
import { Empty, Mark, Refused } from '../parts/status';
import { Table, type Column } from '../parts/table';

/** What is asked for first of each kind; the rest of its keys are written as lines. */
const usual: Record<string, { key: string; hint: string }[]> = {
  'modbus-tcp': [
    { key: 'host', hint: '127.0.0.1' },
    { key: 'port', hint: '502' },
    { key: 'unit', hint: '1' },
  ],
  'modbus-rtu': [
    { key: 'serial', hint: '/dev/ttyS0 19200 8E1' },
    { key: 'unit', hint: '1' },
  ],
  mqtt: [{ key: 'broker', hint: '127.0.0.1:1883' }],
  dnp3: [
    { key: 'host', hint: '127.0.0.1' },
    { key: 'port', hint: '20000' },
    { key: 'outstation', hint: '10' },
  ],
  line: [
    { key: 'port', hint: '4001' },
    { key: 'ask', hint: 'W\\r\\n' },
    { key: 'answer', hint: '{stable},{weight}{unit}' },
  ],
};
const places: Record<string, string> = { 'modbus-tcp': 'holding 0', 'modbus-rtu': 'holding 0', mqtt: 'hall1/a1/oxygen', dnp3: 'analog 0', line: 'weight', simulation: 'sine 0..10 every 10 s' };

/** "key: value" lines as an object. */
function linesOf(text: string): Record<string, string> {
  const out: Record<string, string> = {};
  for (const line of text.split('\n')) {
    const colon = line.indexOf(':');
    if (colon > 0) out[line.slice(0, colon).trim()] = line.slice(colon + 1).trim();
  }
  return out;
}

/** A name for a place that nobody has named: letters and digits of its words. */
const nameOf = (words: string) => words.replace(/[^A-Za-z0-9]+/g, '_').replace(/^_|_$/g, '') || 'value';

const valueMark = (point: { value: string; status: string }) =>
  point.status.startsWith('Good') ? <span className="value">{point.value}</span> : <Mark level={point.status.startsWith('Uncertain') ? 'doubtful' : 'bad'}>{point.status}</Mark>;

export default function LookPage() {
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: () => get<{ kinds: DeviceKind[] }>('device/kinds') });
  const [driver, setDriver] = useState('modbus-tcp');
  const [values, setValues] = useState<Record<string, string>>({});
  const [others, setOthers] = useState('');
  const [place, setPlace] = useState('');
  const [first, setFirst] = useState<number | string>(0);
  const [last, setLast] = useState<number | string>(99);
  const [tried, setTried] = useState<TriedDevice | null>(null);
  const [found, setFound] = useState<FoundPoint[]>([]);
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const [name, setName] = useState('');
  const [files, setFiles] = useState<string[] | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [busy, setBusy] = useState('');
  const kind = kinds.data?.kinds.find((one) => one.name === driver);
  const hasPlaces = driver.startsWith('modbus');
  const asked = () => ({ driver, settings: { ...values, ...linesOf(others) } });
  const doing = async (what: string, work: () => Promise<void>) => {
    setBusy(what);
    setError(null);
    setFiles(null);
    await work().catch(setError);
    setBusy('');
  };
  const attempt = (points: string[]) =>
    doing('try', async () => {
      setTried(null);
      setTried(await post<TriedDevice>('device/try', { ...asked(), ...(points.length ? { points } : {}) }));
    });
  const scan = () =>
    doing('scan', async () => {
      const told = await post<{ found: FoundPoint[] }>('device/scan', { ...asked(), ...(hasPlaces ? { first: Number(first), last: Number(last) } : {}) });
      // What was taken before stays.
      setFound([...found.filter((point) => chosen.has(point.name) && !told.found.some((one) => one.name === point.name)), ...told.found]);
      setTried(null);
    });
  const keep = () =>
    doing('keep', async () => {
      const points = found.filter((point) => chosen.has(point.name)).map(({ name: called, words, type }) => ({ name: called, words, type }));
      setFiles((await post<{ files: string[] }>('device/propose', { ...asked(), name, points })).files);
    });
  const take = (point: TriedPoint) => {
    const called = nameOf(point.words);
    const type = /^(true|false)$/.test(point.value) ? 'Boolean' : (point.words.match(/\b(U?Int(?:16|32|64)|Float|Double|String)\b/)?.[1] ?? 'Double');
    setFound((before) => [...before.filter((one) => one.name !== called), { name: called, words: point.words, value: point.value, type, status: point.status }]);
    setChosen((before) => new Set(before).add(called));
  };
  const foundColumns = useMemo<Column<FoundPoint>[]>(
    () => [
      { name: w.look.name, of: (point) => point.name },
      { name: w.look.now, of: (point) => point.value, isNumber: true, show: valueMark },
      { name: w.look.type, of: (point) => point.type },
      { name: w.devices.where, of: (point) => point.words, show: (point) => <span className="octets">{point.words}</span> },
    ],
    [],
  );
  const triedColumns = useMemo<Column<TriedPoint>[]>(
    () => [
      { name: w.look.way, of: (point) => point.words, show: (point) => <span className="octets">{point.words}</span> },
      { name: w.look.now, of: (point) => point.value, isNumber: true, show: valueMark },
      { name: w.look.octets, of: (point) => point.way.map((stage) => stage.shows).join(' '), show: (point) => <span className="octets soft">{point.way.slice(0, 3).map((stage) => stage.shows).join(' → ')}</span> },
      { name: '', of: () => '', show: (point) => <Button onClick={() => take(point)}>{w.look.take}</Button> },
    ],
    [],
  );
  return (
    <div className="stack">
      <div>
        <nav className="crumbs">
          <Link href="/devices">{w.devices.title}</Link> /
        </nav>
        <div className="title" style={{ marginBottom: 0 }}>
          <h1>{w.look.title}</h1>
          <span className="soft">{w.look.hint}</span>
        </div>
      </div>
      <section className="card stack" aria-label={w.look.how}>
        <div className="bar" style={{ alignItems: 'flex-end' }}>
          <Select
            label={w.devices.driver}
            data={(kinds.data?.kinds ?? []).map((one) => one.name)}
            value={driver}
            allowDeselect={false}
            onChange={(next) => {
              setDriver(next ?? driver);
              setValues({});
              setTried(null);
              setFound([]);
            }}
            w={150}
          />
          {(usual[driver] ?? []).map(({ key, hint }) => (
            <TextInput key={key} label={key} placeholder={hint} value={values[key] ?? ''} onChange={(event) => setValues({ ...values, [key]: event.currentTarget.value })} w={key === 'answer' || key === 'serial' ? 210 : 130} />
          ))}
          <Button variant="filled" onClick={() => attempt([])} loading={busy === 'try'} disabled={driver === 'dnp3' || driver === 'line'}>
            {w.look.answers}
          </Button>
        </div>
        <details>
          <summary>{w.look.others}</summary>
          <Textarea aria-label={w.look.others} placeholder={w.look.othersHint(kind?.keys ?? [])} value={others} onChange={(event) => setOthers(event.currentTarget.value)} autosize minRows={2} />
        </details>
        <div className="bar" style={{ alignItems: 'flex-end' }}>
          <TextInput label={w.look.place} placeholder={places[driver] ?? ''} value={place} onChange={(event) => setPlace(event.currentTarget.value)} w={300} />
          <Button onClick={() => attempt([place || places[driver] || ''])} loading={busy === 'try'}>
            {hasPlaces ? w.look.ways : w.look.read}
          </Button>
          {kind?.isScanned && (
            <>
              {hasPlaces && (
                <>
                  <NumberInput label={w.look.first} value={first} onChange={setFirst} min={0} max={65535} w={90} />
                  <NumberInput label={w.look.last} value={last} onChange={setLast} min={0} max={65535} w={90} />
                </>
              )}
              <Button onClick={scan} loading={busy === 'scan'}>
                {w.look.through}
              </Button>
            </>
          )}
        </div>
      </section>
      {error !== null && <Refused error={error} />}
      {tried && (
        <section className="stack" aria-label={w.look.tried}>
          <div role="status">
            <Mark level="good">{w.look.answered(tried.address)}</Mark> {tried.nameplate.length > 0 && <span>{tried.nameplate.map((line) => `${line.what}: ${line.says}`).join(' · ')}</span>} {tried.areWays && <span className="soft">{w.look.waysHint}</span>}
          </div>
          <Table label={w.look.tried} rows={tried.points} columns={triedColumns} keyOf={(point) => point.words} exportAs="tried" height={290} empty={<Empty title={w.look.nothing} />} />
        </section>
      )}
      {files && (
        <div role="status">
          <Mark level="good">{w.look.kept(files.length)}</Mark> <Link href={`/files?name=${encodeURIComponent(files[0] ?? '')}`}>{w.look.toFiles}</Link> <span className="soft">{files.join(', ')}</span>
        </div>
      )}
      {found.length > 0 && (
        <section className="stack">
          <h2>{w.look.found(found.length)}</h2>
          <Table
            label={w.look.foundLabel}
            rows={found}
            columns={foundColumns}
            keyOf={(point) => point.name}
            chosen={chosen}
            onChoose={setChosen}
            exportAs="found"
            empty={<Empty title={w.look.nothing} />}
            tools={
              <form
                className="bar"
                onSubmit={(event) => {
                  event.preventDefault();
                  void keep();
                }}
              >
                <TextInput aria-label={w.look.deviceName} placeholder={w.look.deviceName} value={name} onChange={(event) => setName(event.currentTarget.value)} w={160} />
                <Button type="submit" variant="filled" disabled={!name || chosen.size === 0} loading={busy === 'keep'}>
                  {w.look.keep(chosen.size)}
                </Button>
              </form>
            }
          />
        </section>
      )}
    </div>
  );
}
