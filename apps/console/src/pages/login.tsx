import { useState } from 'react';
import { Button, PasswordInput, TextInput } from '@mantine/core';
import { useLocation } from 'wouter';
import { fetchMe, logIn, makeFirstUser } from '../api';
import { live } from '../live';
import type { Me } from '../types';
import { w } from '../words';
import { Refused } from '../parts/status';

/** Who logs in goes on where they were. */
export function LogIn({ me, hasEnded, isAlone, isFirst }: { me: Me; hasEnded: boolean; isAlone?: boolean; isFirst?: boolean }) {
  const [user, setUser] = useState('');
  const [password, setPassword] = useState('');
  const [repeated, setRepeated] = useState('');
  const [code, setCode] = useState(new URLSearchParams(location.search).get('code') ?? '');
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const [, go] = useLocation();
  const makes = me.awaitsFirstUser && (isFirst || !me.allowsAnonymous);
  const differ = makes && repeated !== '' && repeated !== password;

  const enter = async (event: React.FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      await (makes ? makeFirstUser(code.trim().toUpperCase(), user, password) : logIn(user, password));
      live.restart();
      if (!isAlone) go('/');
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
  };
  return (
    <div style={{ maxWidth: 400, margin: isAlone ? '12vh auto 0' : '4vh auto 0', padding: '0 12px' }}>
      <form className="card stack" onSubmit={enter}>
        <div className="bar">
          <img src="/mark.svg" width="32" height="32" alt="" />
          <div>
            <h1>{makes ? w.login.firstTitle : w.login.title}</h1>
            <div className="soft">{me.site.name}</div>
          </div>
        </div>
        {hasEnded && !makes && <div className="soft">{w.login.expired}</div>}
        {makes && <div className="soft">{w.login.firstText}</div>}
        {makes && <TextInput label={w.login.code} value={code} onChange={(event) => setCode(event.currentTarget.value)} required autoComplete="off" />}
        <TextInput label={w.login.user} value={user} onChange={(event) => setUser(event.currentTarget.value)} required autoComplete="username" data-autofocus autoFocus />
        <PasswordInput label={w.login.password} value={password} onChange={(event) => setPassword(event.currentTarget.value)} required autoComplete={makes ? 'new-password' : 'current-password'} />
        {makes && <PasswordInput label={w.login.repeat} value={repeated} onChange={(event) => setRepeated(event.currentTarget.value)} required autoComplete="new-password" error={differ ? w.login.differ : undefined} />}
        {error !== null && <Refused error={error} />}
        <Button type="submit" variant="filled" loading={isBusy} fullWidth size="sm" disabled={makes && repeated !== password}>
          {makes ? w.login.make : w.login.go}
        </Button>
        {isAlone && me.allowsAnonymous && (
          <Button variant="subtle" fullWidth onClick={() => fetchMe().catch(setError)}>
            {w.login.guest}
          </Button>
        )}
      </form>
    </div>
  );
}
