import { useCallback, useMemo, useState } from 'react';
import { Button, Checkbox, FileButton, FileInput, Modal, MultiSelect, NumberInput, PasswordInput, Select, Textarea, TextInput } from '@mantine/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'wouter';
import { get, post } from '../api';
import type { AccessToken, Client, KnownCertificate, Me, Status, User } from '../types';
import { w } from '../words';
import { ageText, dayText } from '../parts/format';
import { Empty, Mark, Refused, useNow } from '../parts/status';
import { Table, type Column } from '../parts/table';
import { useWatchList } from '../parts/watch_list';
import { Copyable } from './overview';
import { Policies, WaysIn } from './ways_in';

import { roles } from '../roles';

function Certificates() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['certificates'], queryFn: () => get<{ certificates: KnownCertificate[] }>('certificates'), refetchInterval: 3_000 });
  const [asked, setAsked] = useState<KnownCertificate | null>(null);
  const [error, setError] = useState<unknown>(null);
  const change = async (verb: string, fingerprint: string) => {
    try {
      await post(`certificates/${verb}`, { fingerprint });
      setAsked(null);
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    await queries.invalidateQueries({ queryKey: ['certificates'] });
  };
  const columns = useMemo<Column<KnownCertificate>[]>(
    () => [
      { name: w.access.state, of: (one) => one.state, width: 100, show: (one) => <Mark level={one.state === 'trusted' ? 'good' : one.state === 'issuer' ? 'plain' : 'bad'}>{one.state}</Mark> },
      { name: w.access.subject, of: (one) => one.subject },
      { name: w.access.application, of: (one) => one.application },
      { name: w.access.validTo, of: (one) => one.validTo, show: (one) => dayText(Date.parse(one.validTo)) },
      { name: w.access.fingerprint, of: (one) => one.fingerprint, show: (one) => <span className="octets" title={one.fingerprint}>{one.fingerprint.slice(0, 23)}…</span> },
      {
        name: '',
        of: () => '',
        show: (one) => (
          <span className="bar" style={{ flexWrap: 'nowrap', justifyContent: 'flex-end' }}>
            {one.state !== 'trusted' && one.state !== 'issuer' && (
              <Button variant="filled" onClick={() => setAsked(one)}>
                {w.access.trust}
              </Button>
            )}
            <Button onClick={() => change('remove', one.fingerprint)}>{one.state === 'trusted' ? w.access.distrust : w.access.forget}</Button>
          </span>
        ),
      },
    ],
    [],
  );
  const upload = async (file: File | null) => {
    if (!file) return;
    try {
      await post('certificates/upload', { certificate: await base64Of(file) });
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    await queries.invalidateQueries({ queryKey: ['certificates'] });
  };
  if (told.error) return <Refused error={told.error} />;
  // Who waits to be decided about comes first.
  const rows = [...(told.data?.certificates ?? [])].sort((a, b) => Number(a.state === 'trusted') - Number(b.state === 'trusted'));
  return (
    <>
      {error !== null && <Refused error={error} />}
      <Table label={w.access.certificates} rows={rows} columns={columns} keyOf={(one) => one.state + one.fingerprint} exportAs="certificates" tools={<FileButton onChange={upload} accept=".pem,.der,.crt,.cer">{(props) => <Button {...props} title={w.access.uploadHint}>{w.access.upload}</Button>}</FileButton>} empty={<Empty title={w.access.noCertificates} />} />
      <Modal opened={asked !== null} onClose={() => setAsked(null)} title={w.access.trust} size="lg">
        {asked && (
          <div className="stack">
            <p>{w.access.trustAsk}</p>
            <dl className="facts">
              <dt>{w.access.subject}</dt>
              <dd>{asked.subject}</dd>
              <dt>{w.access.application}</dt>
              <dd>{asked.application}</dd>
              <dt>{w.access.validTo}</dt>
              <dd>{asked.validTo}</dd>
              <dt>{w.access.fingerprint}</dt>
              <dd className="octets">{asked.fingerprint}</dd>
            </dl>
            <div className="bar">
              <Button variant="filled" onClick={() => change('trust', asked.fingerprint)}>
                {w.access.trust}
              </Button>
              <Button onClick={() => setAsked(null)}>{w.cancel}</Button>
            </div>
          </div>
        )}
      </Modal>
    </>
  );
}

/** A file's octets in base64, as the API takes them. */
async function base64Of(file: File) {
  const octets = new Uint8Array(await file.arrayBuffer());
  let text = '';
  for (const octet of octets) text += String.fromCharCode(octet);
  return btoa(text);
}

function save(name: string, base64: string) {
  const octets = Uint8Array.from(atob(base64), (letter) => letter.charCodeAt(0));
  const link = document.createElement('a');
  link.href = URL.createObjectURL(new Blob([octets], { type: 'application/pkcs10' }));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

/** The certificate that the server itself shows: renewed, or signed by an authority. */
function OwnCertificate() {
  const queries = useQueryClient();
  const status = useQuery({ queryKey: ['status'], queryFn: () => get<Status>('status'), refetchInterval: 3_000 });
  const [form, setForm] = useState<'renew' | 'request' | 'import' | null>(null);
  const [days, setDays] = useState<number | string>(730);
  const [kind, setKind] = useState('rsa');
  const [isNewKey, setNewKey] = useState(false);
  const [file, setFile] = useState<File | null>(null);
  const [key, setKey] = useState<File | null>(null);
  const [isDone, setDone] = useState(false);
  const [isBusy, setBusy] = useState(false);
  const [error, setError] = useState<unknown>(null);
  const open = (which: typeof form) => {
    setError(null);
    setDone(false);
    setForm(which);
  };
  const submit = async (event: React.FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setError(null);
    try {
      if (form === 'renew') await post('certificates/own/renew', { kind, days: Number(days) });
      if (form === 'request') save('server.csr', (await post<{ request: string }>('certificates/own/request', { kind, newKey: isNewKey })).request);
      if (form === 'import' && file) await post('certificates/own/import', { certificate: await base64Of(file), ...(key ? { key: await key.text() } : {}) });
      setDone(form !== 'request');
      setForm(null);
    } catch (refused) {
      setError(refused);
    } finally {
      setBusy(false);
    }
    await queries.invalidateQueries({ queryKey: ['status'] });
  };
  const own = status.data?.certificate;
  return (
    <div className="card stack">
      {own && (
        <dl className="facts">
          <dt>{w.access.subject}</dt>
          <dd>{own.subject}</dd>
          <dt>{w.access.validTo}</dt>
          <dd>{dayText(own.validTo)}</dd>
          <dt>{w.access.fingerprint}</dt>
          <dd>
            <Copyable text={own.fingerprint} octets />
          </dd>
        </dl>
      )}
      <div className="bar">
        <Button onClick={() => open('renew')}>{w.access.renew}</Button>
        <Button onClick={() => open('request')}>{w.access.request}</Button>
        <Button onClick={() => open('import')}>{w.access.import}</Button>
        {isDone && (
          <span role="status">
            <Mark level="good">{w.access.made}</Mark>
          </span>
        )}
      </div>
      <Modal opened={form !== null} onClose={() => setForm(null)} title={form ? w.access[form] : ''} size="lg">
        <form className="stack" onSubmit={submit}>
          {form === 'renew' && <p>{w.access.renewAsk}</p>}
          {form === 'request' && <p>{w.access.requestAsk}</p>}
          {form !== 'import' && <Select label={w.access.keyKind} data={[{ value: 'rsa', label: 'RSA' }, { value: 'nistP256', label: 'NIST P-256' }, { value: 'nistP384', label: 'NIST P-384' }]} value={kind} onChange={(value) => setKind(value ?? 'rsa')} allowDeselect={false} />}
          {form === 'renew' && <NumberInput label={w.access.days} value={days} onChange={setDays} min={1} max={3_650} />}
          {form === 'request' && <Checkbox label={w.access.newKey} checked={isNewKey} onChange={(event) => setNewKey(event.currentTarget.checked)} />}
          {form === 'import' && <FileInput label={w.access.certificateFile} value={file} onChange={setFile} required accept=".pem,.der,.crt,.cer" />}
          {form === 'import' && <FileInput label={w.access.keyFile} value={key} onChange={setKey} accept=".pem,.key" clearable />}
          {error !== null && <Refused error={error} />}
          <Button type="submit" variant="filled" loading={isBusy}>
            {form === 'request' ? w.access.download : form === 'import' ? w.access.import : w.access.renew}
          </Button>
        </form>
      </Modal>
    </div>
  );
}

function Users() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['users'], queryFn: () => get<{ users: User[] }>('users') });
  const [form, setForm] = useState<{ name: string; isNew: boolean } | null>(null);
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [given, setGiven] = useState<string[]>(['Operator']);
  const [error, setError] = useState<unknown>(null);
  const change = async (body: object) => {
    try {
      await post('users', body);
      setError(null);
      setForm(null);
      setPassword('');
    } catch (refused) {
      setError(refused);
    }
    await queries.invalidateQueries({ queryKey: ['users'] });
  };
  const columns = useMemo<Column<User>[]>(
    () => [
      { name: w.access.name, of: (user) => user.name },
      { name: w.access.roles, of: (user) => user.roles.join(', ') },
      { name: w.access.enabled, of: (user) => (user.isEnabled ? w.access.yes : w.access.no) },
      {
        name: '',
        of: () => '',
        show: (user) => (
          <span className="bar" style={{ flexWrap: 'nowrap', justifyContent: 'flex-end' }}>
            <Button
              onClick={() => {
                setName(user.name);
                setGiven(user.roles);
                setForm({ name: user.name, isNew: false });
              }}
            >
              {w.access.change}
            </Button>
            <Button onClick={() => change({ change: user.isEnabled ? 'disable' : 'enable', name: user.name })}>{user.isEnabled ? w.access.disable : w.access.enable}</Button>
            <Button onClick={() => change({ change: 'remove', name: user.name })}>{w.remove}</Button>
          </span>
        ),
      },
    ],
    [],
  );
  const submit = async (event: React.FormEvent) => {
    event.preventDefault();
    if (form?.isNew) return change({ change: 'add', name, password, roles: given });
    if (password) await change({ change: 'password', name, password });
    await change({ change: 'role', name, roles: given });
  };
  if (told.error) return <Refused error={told.error} />;
  return (
    <>
      {error !== null && !form && <Refused error={error} />}
      <Table
        label={w.access.users}
        rows={told.data?.users ?? []}
        columns={columns}
        keyOf={(user) => user.name}
        tools={
          <Button
            variant="filled"
            onClick={() => {
              setName('');
              setGiven(['Operator']);
              setForm({ name: '', isNew: true });
            }}
          >
            {w.access.addUser}
          </Button>
        }
        empty={<Empty title={w.access.noUsers} />}
      />
      <Modal opened={form !== null} onClose={() => setForm(null)} title={form?.isNew ? w.access.addUser : name}>
        <form className="stack" onSubmit={submit}>
          {form?.isNew && <TextInput label={w.access.name} value={name} onChange={(event) => setName(event.currentTarget.value)} required data-autofocus />}
          <PasswordInput label={form?.isNew ? w.access.password : w.access.newPassword} value={password} onChange={(event) => setPassword(event.currentTarget.value)} required={form?.isNew} autoComplete="new-password" />
          <MultiSelect label={w.access.roles} data={[...new Set([...roles, ...given])]} value={given} onChange={setGiven} />
          {error !== null && <Refused error={error} />}
          <Button type="submit" variant="filled">
            {w.save}
          </Button>
        </form>
      </Modal>
    </>
  );
}

/** What spreadsheets read by a link of their own. */
function Links() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['tokens'], queryFn: () => get<{ tokens: AccessToken[] }>('tokens') });
  const list = useWatchList();
  const [isMaking, setMaking] = useState(false);
  const [name, setName] = useState('');
  const [nodes, setNodes] = useState('');
  const [made, setMade] = useState<string | null>(null);
  const [error, setError] = useState<unknown>(null);
  const attempt = async (work: () => Promise<unknown>) => {
    try {
      await work();
      setError(null);
    } catch (refused) {
      setError(refused);
    }
    await queries.invalidateQueries({ queryKey: ['tokens'] });
  };
  const make = (event: React.FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      const { path } = await post<{ path: string }>('tokens', { name, nodes: nodes.split('\n').map((node) => node.trim()).filter(Boolean) });
      setMade(location.origin + path);
    });
  };
  const columns = useMemo<Column<AccessToken>[]>(
    () => [
      { name: w.access.name, of: (token) => token.name },
      { name: w.access.nodes, of: (token) => token.nodes.join(' ') },
      { name: w.access.madeBy, of: (token) => token.user },
      { name: w.access.since, of: (token) => token.made, show: (token) => dayText(Date.parse(token.made)) },
      { name: '', of: () => '', show: (token) => <Button onClick={() => attempt(() => post('tokens/remove', { name: token.name }))}>{w.remove}</Button> },
    ],
    [],
  );
  if (told.error) return <Refused error={told.error} />;
  return (
    <>
      {error !== null && !isMaking && <Refused error={error} />}
      <Table
        label={w.access.tokens}
        rows={told.data?.tokens ?? []}
        columns={columns}
        keyOf={(token) => token.name}
        tools={
          <Button
            onClick={() => {
              setMade(null);
              setMaking(true);
            }}
          >
            {w.access.makeToken}
          </Button>
        }
        empty={<Empty title={w.access.noTokens} />}
      />
      <Modal opened={isMaking} onClose={() => setMaking(false)} title={w.access.makeToken} size="lg">
        {made ? (
          <div className="stack">
            <p>{w.access.tokenOnce}</p>
            <Copyable text={made} octets />
          </div>
        ) : (
          <form className="stack" onSubmit={make}>
            <TextInput label={w.access.name} value={name} onChange={(event) => setName(event.currentTarget.value)} required data-autofocus />
            <Textarea label={w.access.tokenNodes} value={nodes} onChange={(event) => setNodes(event.currentTarget.value)} required autosize minRows={3} maxRows={10} />
            {list.nodes.length > 0 && <Button onClick={() => setNodes(list.nodes.join('\n'))}>{w.access.fromList}</Button>}
            {error !== null && <Refused error={error} />}
            <Button type="submit" variant="filled">
              {w.access.makeToken}
            </Button>
          </form>
        )}
      </Modal>
    </>
  );
}

function Connected({ mayEnd }: { mayEnd: boolean }) {
  const status = useQuery({ queryKey: ['status'], queryFn: () => get<Status>('status'), refetchInterval: 3_000 });
  const [error, setError] = useState<unknown>(null);
  const refetch = status.refetch;
  const end = useCallback(
    async (client: Client) => {
      try {
        await post('clients/end', { id: client.id });
        setError(null);
        await refetch();
      } catch (refused) {
        setError(refused);
      }
    },
    [refetch],
  );
  const now = useNow();
  const columns = useMemo<Column<Client>[]>(
    () => [
      { name: w.access.name, of: (client) => client.name },
      {
        name: w.access.who,
        of: (client) => client.user,
        show: (client) => (
          <Link href={`/record?who=${encodeURIComponent(client.user)}`} title={w.record.did}>
            {client.user}
          </Link>
        ),
      },
      { name: w.access.from, of: (client) => client.from },
      { name: w.access.security, of: (client) => client.security, show: (client) => <Mark level={client.security === 'unsecured' ? 'doubtful' : 'good'}>{client.security}</Mark> },
      { name: w.access.since, of: (client) => client.since ?? 0, show: (client) => ageText(now - (client.since ?? now)), isNumber: true },
      { name: w.access.items, of: (client) => client.items, isNumber: true },
      { name: w.access.reads, of: (client) => client.reads, isNumber: true },
      { name: w.access.writes, of: (client) => client.writes, isNumber: true },
      ...(mayEnd
        ? [
            {
              name: '',
              of: () => '',
              show: (client: Client) => (
                <Button title={w.access.endHint} aria-label={`${w.access.end} ${client.name}`} onClick={() => void end(client)}>
                  {w.access.end}
                </Button>
              ),
            },
          ]
        : []),
    ],
    [now, mayEnd, end],
  );
  return (
    <>
      {error !== null && <Refused error={error} />}
      <Table label={w.access.clients} rows={status.data?.clients ?? []} columns={columns} keyOf={(client) => client.id} exportAs="clients" empty={<Empty title={w.overview.noClients} />} />
    </>
  );
}

export default function Access({ me }: { me: Me }) {
  const isAdministrator = me.roles?.includes('SecurityAdmin') ?? false;
  const sections = [
    { id: 'certificates', title: w.access.certificates, isShown: isAdministrator, body: <Certificates /> },
    { id: 'own', title: w.access.own, isShown: isAdministrator, body: <OwnCertificate /> },
    { id: 'users', title: w.access.users, isShown: isAdministrator, body: <Users /> },
    { id: 'links', title: w.access.tokens, isShown: !me.isAnonymous, body: <Links /> },
    { id: 'ways', title: w.access.interfaces, isShown: true, body: <WaysIn mayChange={isAdministrator} /> },
    { id: 'secured', title: w.access.policies, isShown: true, body: <Policies /> },
    { id: 'connected', title: w.access.clients, isShown: true, body: <Connected mayEnd={isAdministrator} /> },
  ].filter((section) => section.isShown);
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.access.title}</h1>
        <nav className="bar" aria-label={w.access.title}>
          {sections.map((section) => (
            <a key={section.id} href={`#${section.id}`}>
              {section.title}
            </a>
          ))}
        </nav>
      </div>
      {!isAdministrator && (
        <div className="card bar">
          <span>{w.access.needs}</span>
          <Button component={Link} href={me.awaitsFirstUser ? '/first' : '/login'} variant="filled">
            {me.awaitsFirstUser ? w.access.first : w.login.go}
          </Button>
        </div>
      )}
      {sections.map((section) => (
        <section className="stack" key={section.id} id={section.id}>
          <h2>{section.title}</h2>
          {section.body}
        </section>
      ))}
    </div>
  );
}
