import { useState } from 'react';
import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get } from '../api';
import { useAlarms } from '../live';
import type { LogLine, Me, Status } from '../types';
import { w } from '../words';
import { ageText, dayText } from '../parts/format';
import { Empty, Mark, Refused, useNow } from '../parts/status';

/** A text with a button that copies it. */
export function Copyable({ text, octets }: { text: string; octets?: boolean }) {
  const [isCopied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard?.writeText(text);
    setCopied(true);
    setTimeout(() => setCopied(false), 1_500);
  };
  return (
    <span className="bar" style={{ flexWrap: 'nowrap' }}>
      <span className={octets ? 'octets' : ''} style={{ overflowWrap: 'anywhere' }}>
        {text}
      </span>
      <Button size="compact-xs" style={{ flexShrink: 0 }} onClick={copy} aria-label={`${w.copy}: ${text}`}>
        {isCopied ? w.copied : w.copy}
      </Button>
    </span>
  );
}

const kClockTolerance = 5_000; // ms

/** The last warnings and errors of the service's log, for those who may read it. */
function Lately({ now }: { now: number }) {
  const told = useQuery({ queryKey: ['log'], queryFn: () => get<{ level: string; lines: LogLine[] }>('log'), refetchInterval: 10_000 });
  const lines = (told.data?.lines ?? []).filter((line) => line.level === 'error' || line.level.startsWith('warn')).slice(-5).reverse();
  return (
    <section className="card" style={{ gridColumn: '1 / -1' }}>
      <h2>{w.overview.lately}</h2>
      {told.data && lines.length === 0 && <p className="soft">{w.overview.nothingLately}</p>}
      {lines.map((line) => (
        <div className="worry" key={line.time + line.text}>
          <Mark level={line.level === 'error' ? 'bad' : 'doubtful'}>{line.level === 'error' ? '!' : '?'}</Mark>
          <div>
            <div style={{ overflowWrap: 'anywhere' }}>{line.text}</div>
            <div className="soft" title={line.time}>
              {ageText(now - Date.parse(line.time))}
            </div>
          </div>
        </div>
      ))}
      <Link href="/record?part=log">{w.overview.wholeLog}</Link>
    </section>
  );
}

export function Overview({ me }: { me: Me }) {
  const status = useQuery({ queryKey: ['status'], queryFn: async () => ({ ...(await get<Status>('status')), heard: Date.now() }), refetchInterval: 3_000 });
  const now = useNow();
  const alarms = (useAlarms() ?? []).filter((alarm) => !alarm.isShelved && !alarm.isSuppressed && !alarm.isOutOfService);
  if (status.error && !status.data) return <Refused error={status.error} />;
  const told = status.data;
  if (!told) return <Empty title={w.loading} />;
  const apart = told.heard - told.now;
  return (
    <div className="stack">
      <div className="title">
        <h1>{told.name}</h1>
        <span className="soft">{told.uri}</span>
        <span className="does">
          <span className="soft">
            {w.overview.running} {new Date(told.since).toLocaleString('sv-SE')} ({ageText(now - told.since)})
          </span>
        </span>
      </div>
      <div className="cards">
        <section className="card">
          <h2>{w.overview.attention}</h2>
          {told.worries.length === 0 && <p className="soft">{w.overview.allWell}</p>}
          {told.worries.map((worry) => (
            <div className="worry" key={worry.what}>
              <Mark level={worry.how === 'bad' ? 'bad' : worry.how === 'warn' ? 'doubtful' : 'plain'}>{worry.how === 'bad' ? '!' : worry.how === 'warn' ? '?' : 'i'}</Mark>
              <div>
                <div>{worry.what}.</div>
                <div className="soft">
                  {w.next}: {worry.page ? <Link href={worry.page}>{worry.next}</Link> : worry.next}
                </div>
              </div>
            </div>
          ))}
        </section>
        <section className="card stack">
          <h2>{w.overview.endpoints}</h2>
          {told.endpoints.map((endpoint) => (
            <div key={endpoint.url}>
              <Copyable text={endpoint.url} octets />
              <Mark level={endpoint.isUnsecured ? 'doubtful' : 'good'}>{endpoint.isUnsecured ? w.overview.unsecured : w.overview.secured}</Mark>
            </div>
          ))}
          {told.certificate && (
            <dl className="facts">
              <dt>{w.overview.certificate}</dt>
              <dd>{told.certificate.subject}</dd>
              <dt>{w.overview.validTo}</dt>
              <dd>{dayText(told.certificate.validTo)}</dd>
              <dt>{w.overview.fingerprint}</dt>
              <dd>
                <span className="octets">{told.certificate.fingerprint}</span>
              </dd>
              <dt>{w.overview.clock}</dt>
              <dd>{Math.abs(apart) > kClockTolerance ? <Mark level="doubtful">{w.overview.clockOff(ageText(Math.abs(apart)))}</Mark> : w.overview.clockFine}</dd>
            </dl>
          )}
        </section>
      </div>
      <div className="cards">
        <section className="card">
          <h2 style={{ marginBottom: 8 }}>
            <Link href="/devices">{w.overview.devices}</Link>
          </h2>
          <table className="rows">
            <tbody>
              {told.devices.map((device) => (
                <tr key={device.device}>
                  <td>
                    <Link href={`/devices/${encodeURIComponent(device.device)}`}>{device.device}</Link>
                  </td>
                  <td className="soft">{device.driver}</td>
                  <td>
                    <Mark level={device.state === 'connected' ? 'good' : device.state === 'away' ? 'bad' : 'plain'}>{w.devices[device.state]}</Mark>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {told.devices.length === 0 && <p className="soft">{w.devices.emptyTitle}</p>}
        </section>
        <section className="card">
          <h2 style={{ marginBottom: 8 }}>
            <Link href="/access">{w.overview.clients}</Link>
          </h2>
          <table className="rows">
            <thead>
              <tr>
                <th>{w.access.name}</th>
                <th>{w.access.who}</th>
                <th>{w.access.from}</th>
                <th className="number">{w.access.items}</th>
              </tr>
            </thead>
            <tbody>
              {told.clients.map((client, index) => (
                <tr key={index}>
                  <td>{client.name}</td>
                  <td>{client.user}</td>
                  <td className="soft">{client.from}</td>
                  <td className="number">{client.items}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <h2 style={{ margin: '14px 0 8px' }}>{w.overview.load}</h2>
          <dl className="facts">
            <dt>{w.overview.processor}</dt>
            <dd>
              {told.load.processor.toFixed(told.load.processor < 10 ? 1 : 0)} % {w.overview.ofCore}
            </dd>
            <dt>{w.overview.memory}</dt>
            <dd>{(told.load.memory / 2 ** 20).toFixed(0)} MiB</dd>
            <dt>{w.overview.nodes}</dt>
            <dd>{told.counts.nodes.toLocaleString('en')}</dd>
            <dt>{w.overview.clients}</dt>
            <dd>{told.counts.clients}</dd>
            <dt>{w.overview.subscriptions}</dt>
            <dd>{told.counts.subscriptions}</dd>
            <dt>{w.overview.items}</dt>
            <dd>{told.counts.items.toLocaleString('en')}</dd>
          </dl>
        </section>
        <section className="card">
          <h2 style={{ marginBottom: 8 }}>
            <Link href="/alarms">{w.alarms.title}</Link>
          </h2>
          {alarms.length === 0 && <p className="soft">{w.alarms.none}</p>}
          {alarms.slice(0, 6).map((alarm) => (
            <div className="worry" key={alarm.id + alarm.branch}>
              <Mark level={!alarm.isActive ? 'plain' : alarm.severity >= 500 ? 'bad' : 'doubtful'}>{alarm.severity}</Mark>
              <div>
                <Link href={`/node/${encodeURIComponent(alarm.alarm)}`}>{alarm.alarm}</Link>
                <div className="soft">{alarm.state}</div>
              </div>
            </div>
          ))}
        </section>
        {me.roles?.some((role) => role === 'Engineer' || role === 'SecurityAdmin' || role === 'ConfigureAdmin') && <Lately now={now} />}
      </div>
    </div>
  );
}
