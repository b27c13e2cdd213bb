import { useEffect, useMemo, useRef, useState } from 'react';
import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get } from '../api';
import type { Device, DevicePoint, WireLine } from '../types';
import { w } from '../words';
import { ageText, nodeHref } from '../parts/format';
import { Empty, LiveUnit, LiveValue, Mark, Refused, useNow } from '../parts/status';
import { Table, type Column } from '../parts/table';

const deviceMark = (device: Device) => <Mark level={device.state === 'connected' ? 'good' : device.state === 'away' ? 'bad' : 'plain'}>{w.devices[device.state]}</Mark>;
const msText = (ms: number) => (ms ? `${ms < 10 ? ms.toFixed(1) : Math.round(ms)} ms` : w.none);

/** What goes over the line, from when it is first looked at. */
function Wire({ device }: { device: string }) {
  const [lines, setLines] = useState<WireLine[]>([]);
  const [error, setError] = useState<unknown>(null);
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let last = 0;
    let isOver = false;
    const look = async () => {
      try {
        const told = await get<{ lines: WireLine[] }>('wire', { device, after: last });
        if (isOver) return;
        if (told.lines.length) {
          last = told.lines[told.lines.length - 1]!.number;
          setLines((before) => [...before, ...told.lines].slice(-300));
        }
        setError(null);
      } catch (refused) {
        if (!isOver) setError(refused);
      }
    };
    void look();
    const timer = setInterval(look, 1_000);
    return () => {
      isOver = true;
      clearInterval(timer);
    };
  }, [device]);
  useEffect(() => {
    void box.current?.scrollTo(0, box.current.scrollHeight);
  }, [lines]);
  if (error !== null) return <Refused error={error} />;
  if (lines.length === 0) return <div className="soft">{w.devices.noWire}</div>;
  return (
    <div className="wire" ref={box} tabIndex={0} role="log" aria-label={w.devices.wire}>
      {lines.map((line) => (
        <div key={line.number}>
          <span>{line.time.slice(11, 23)}</span>
          <span>{line.way}</span>
          <span>
            {line.octets} <span className="soft">{line.words}</span>
          </span>
        </div>
      ))}
    </div>
  );
}

function OneDevice({ device }: { device: Device }) {
  const now = useNow();
  const told = useQuery({ queryKey: ['points', device.device], queryFn: () => get<{ points: DevicePoint[] }>('device/points', { device: device.device }) });
  const columns = useMemo<Column<DevicePoint>[]>(
    () => [
      { name: w.devices.point, of: (point) => point.point },
      { name: w.devices.where, of: (point) => point.where },
      {
        name: w.devices.node,
        of: (point) => point.nodes.map((node) => node.path).join(' '),
        show: (point) =>
          point.nodes.length ? (
            point.nodes.slice(0, 3).map((node) => (
              <div key={node.id}>
                <Link href={nodeHref(node)}>{node.path}</Link>
              </div>
            ))
          ) : (
            <span className="soft">{w.devices.unbound}</span>
          ),
      },
      { name: w.watch.value, of: () => '', isNumber: true, show: (point) => (point.nodes[0] ? <LiveValue node={point.nodes[0].id} /> : '') },
      { name: w.watch.unit, of: () => '', show: (point) => (point.nodes[0] ? <LiveUnit node={point.nodes[0].id} /> : '') },
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
          <h1>{device.device}</h1>
          {deviceMark(device)}
          <span className="soft">
            {w.devices.since} {ageText(now - Date.parse(device.since))}
          </span>
          <span className="does">
            <Button component={Link} href={`/record?part=log&like=${encodeURIComponent(`device ${device.device}`)}`}>
              {w.record.told}
            </Button>
          </span>
        </div>
      </div>
      {device.lastError && (
        <div className="refusal">
          {w.devices.lastError}: {device.lastError}
        </div>
      )}
      <section className="card">
        <dl className="facts wide">
          <dt>{w.devices.driver}</dt>
          <dd>{device.driver}</dd>
          <dt>{w.devices.address}</dt>
          <dd>{device.address}</dd>
          <dt>{w.devices.every}</dt>
          <dd>{msText(device.every)}</dd>
          <dt>{w.devices.points}</dt>
          <dd>{device.points}</dd>
          <dt>{w.devices.polls}</dt>
          <dd>{device.polls.toLocaleString('en')}</dd>
          <dt>{w.devices.failures}</dt>
          <dd>{device.failures.toLocaleString('en')}</dd>
          <dt>{w.devices.roundTrip}</dt>
          <dd>{msText(device.roundTrip)}</dd>
        </dl>
      </section>
      {told.error ? (
        <Refused error={told.error} />
      ) : (
        <section className="stack">
          <h2>{w.devices.variables}</h2>
          <Table label={w.devices.variables} rows={told.data?.points ?? []} columns={columns} keyOf={(point) => point.point} exportAs={`${device.device} points`} empty={<Empty title={told.data ? w.devices.noPoints : w.loading} />} />
        </section>
      )}
      <section className="card">
        <h2>{w.devices.wire}</h2>
        <div className="soft" style={{ marginBottom: 6 }}>
          {w.devices.wireHint}
        </div>
        <Wire device={device.device} />
      </section>
    </div>
  );
}

export default function Devices({ name }: { name?: string }) {
  const told = useQuery({ queryKey: ['devices'], queryFn: () => get<{ devices: Device[] }>('devices'), refetchInterval: 2_000 });
  const columns = useMemo<Column<Device>[]>(
    () => [
      { name: w.devices.device, of: (device) => device.device, show: (device) => <Link href={`/devices/${encodeURIComponent(device.device)}`}>{device.device}</Link> },
      { name: w.devices.state, of: (device) => device.state, show: (device) => <>{deviceMark(device)} {device.state === 'away' && <span className="soft">{device.lastError}</span>}</> },
      { name: w.devices.driver, of: (device) => device.driver },
      { name: w.devices.address, of: (device) => device.address },
      { name: w.devices.points, of: (device) => device.points, isNumber: true },
      { name: w.devices.polls, of: (device) => device.polls, isNumber: true },
      { name: w.devices.failures, of: (device) => device.failures, isNumber: true },
      { name: w.devices.roundTrip, of: (device) => device.roundTrip, show: (device) => msText(device.roundTrip), isNumber: true },
    ],
    [],
  );
  if (told.error && !told.data) return <Refused error={told.error} />;
  if (!told.data) return <Empty title={w.loading} />;
  if (name !== undefined) {
    const device = told.data.devices.find((one) => one.device === name);
    return device ? <OneDevice device={device} /> : <Empty title={w.notFound.title}>{w.notFound.text}</Empty>;
  }
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.devices.title}</h1>
        <span className="does">
          <Button component={Link} href="/devices-look">
            {w.devices.look}
          </Button>
        </span>
      </div>
      <Table label={w.devices.title} rows={told.data.devices} columns={columns} keyOf={(device) => device.device} exportAs="devices" empty={<Empty title={w.devices.emptyTitle}>{w.devices.empty}</Empty>} />
    </div>
  );
}
