import { useEffect, useState } from 'react';
import { Link, useLocation } from 'wouter';
import { Button, Menu, useMantineColorScheme } from '@mantine/core';
import { useHotkeys } from '@mantine/hooks';
import { logOut } from './api';
import { live, useAlarms, useLiveState } from './live';
import { mayMake } from './roles';
import type { Me } from './types';
import { w } from './words';
import { Icon } from './parts/icons';
import { useEdited } from './parts/edited';
import { Seek } from './parts/seek';
import { Mark } from './parts/status';

const places = ['overview', 'plant', 'watch', 'trend', 'pages', 'alarms', 'devices', 'access', 'record', 'files', 'changes'] as const;
const hrefOf = (place: string) => (place === 'overview' ? '/' : `/${place}`);

export function Shell({ me, children }: { me: Me; children: React.ReactNode }) {
  const [isSeeking, setSeeking] = useState(false);
  const [path] = useLocation();
  const alarms = useAlarms();
  const state = useLiveState();
  const edited = useEdited(!me.isAnonymous && mayMake(me));
  const { setColorScheme } = useMantineColorScheme();
  const wanting = alarms?.filter((alarm) => !alarm.isShelved && !alarm.isSuppressed && !alarm.isOutOfService).length ?? 0;
  useHotkeys([
    ['/', () => setSeeking(true)],
    ['mod+K', () => setSeeking(true)],
  ]);
  useEffect(() => {
    const place = places.find((one) => path === hrefOf(one) || (one !== 'overview' && path.startsWith(hrefOf(one))));
    document.title = `${place ? w.nav[place] : (path.split('/').pop() ?? '')} · ${me.site.name}`;
  }, [path, me.site.name]);
  const isAt = (place: string) => (place === 'overview' ? path === '/' : path.startsWith(`/${place}`) || (place === 'plant' && path.startsWith('/node')));

  return (
    <div className="frame">
      <header className="head">
        <Link href="/" aria-label={w.nav.overview} style={{ display: 'flex' }}>
          <img src="/mark.svg" width="28" height="28" alt={w.product} />
        </Link>
        <span className="site">{me.site.name}</span>
        <button className="seek" onClick={() => setSeeking(true)}>
          <Icon name="seek" size={16} />
          <span style={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}>{w.head.seek}</span>
          <kbd className="soft">/</kbd>
        </button>
        <div className="right">
          <span role="status">
            <Mark level={state === 'open' ? 'good' : state === 'lost' ? 'bad' : 'plain'}>{state === 'open' ? w.head.live : state === 'lost' ? w.head.lost : w.head.connecting}</Mark>
          </span>
          {me.isAnonymous && (
            <Button component={Link} href="/login" className="hide-small">
              {w.head.logIn}
            </Button>
          )}
          <Menu position="bottom-end">
            <Menu.Target>
              <Button variant="subtle" color="gray">
                {me.isAnonymous ? w.head.guest : me.user}
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              <Menu.Label>{(me.roles ?? []).join(', ') || w.none}</Menu.Label>
              <Menu.Item onClick={() => setColorScheme('light')}>{w.head.light}</Menu.Item>
              <Menu.Item onClick={() => setColorScheme('dark')}>{w.head.dark}</Menu.Item>
              <Menu.Item onClick={() => setColorScheme('auto')}>{w.head.auto}</Menu.Item>
              <Menu.Divider />
              {me.isAnonymous ? (
                <Menu.Item component={Link} href="/login">
                  {w.head.logIn}
                </Menu.Item>
              ) : (
                <Menu.Item onClick={() => void logOut().then(() => live.restart())}>{w.head.logOut}</Menu.Item>
              )}
            </Menu.Dropdown>
          </Menu>
        </div>
      </header>
      <nav className="rail" aria-label={w.product}>
        {places.map((place) => (
          <Link key={place} href={hrefOf(place)} aria-current={isAt(place) ? 'page' : undefined}>
            <Icon name={place} />
            <span>{w.nav[place]}</span>
            {place === 'files' && edited.length > 0 && (
              <span className="count" data-plain title={w.files.edits(edited.length)}>
                {edited.length}
              </span>
            )}
            {place === 'alarms' && wanting > 0 && <span className="count">{wanting}</span>}
          </Link>
        ))}
      </nav>
      <main className="main">
        {state === 'lost' && (
          <div className="banner" role="alert">
            {w.lost}
          </div>
        )}
        {children}
      </main>
      <Seek isOpen={isSeeking} onClose={() => setSeeking(false)} />
    </div>
  );
}
