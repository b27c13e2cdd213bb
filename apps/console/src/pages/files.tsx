import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Button, SegmentedControl, TextInput } from '@mantine/core';
import { structuredPatch } from 'diff';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { get, post } from '../api';
import type { Changes, FileFinding, SiteFile, SiteText, SiteVersion } from '../types';
import { w } from '../words';
import { useDraft } from '../parts/draft';
import { Grid } from '../parts/grid';
import { PreviewOf } from '../parts/preview';
import { Empty, Mark, Refused } from '../parts/status';
import { Table, type Column } from '../parts/table';

/** What a draft changes, line by line; signs beside colours. */
function Difference({ saved, draft }: { saved: string; draft: string }) {
  const hunks = useMemo(() => structuredPatch('', '', saved, draft, '', '', { context: 3 }).hunks, [saved, draft]);
  if (hunks.length === 0) return <Empty title={w.files.same} />;
  return (
    <pre className="octets difference" aria-label={w.files.difference} tabIndex={0}>
      {hunks.map((hunk) => (
        <div key={`${hunk.oldStart} ${hunk.newStart}`}>
          <div className="soft">{w.files.line(hunk.newStart)}</div>
          {hunk.lines.map((line, at) => (
            <div key={at} className={line.startsWith('+') ? 'added' : line.startsWith('-') ? 'removed' : undefined}>
              {line}
            </div>
          ))}
        </div>
      ))}
    </pre>
  );
}

/** A file's text with the numbers of its lines. */
function Editor({ text, isReadOnly, isShort, onChange, at }: { text: string; isReadOnly?: boolean; isShort?: boolean; onChange: (text: string) => void; at: { line: number; time: number } | null }) {
  const area = useRef<HTMLTextAreaElement>(null);
  const numbers = useRef<HTMLPreElement>(null);
  const count = useMemo(() => text.split('\n').length, [text]);
  useEffect(() => {
    const field = area.current;
    if (!at || !field) return;
    const lines = field.value.split('\n');
    const begin = lines.slice(0, at.line - 1).reduce((sum, line) => sum + line.length + 1, 0);
    field.focus();
    field.setSelectionRange(begin, begin + (lines[at.line - 1]?.length ?? 0));
    const height = field.scrollHeight / Math.max(lines.length, 1);
    field.scrollTop = Math.max(0, (at.line - 6) * height);
  }, [at]);
  return (
    <div className="editor octets" data-short={isShort || undefined}>
      <pre ref={numbers} aria-hidden="true">
        {Array.from({ length: count }, (_, line) => line + 1).join('\n')}
      </pre>
      <textarea
        ref={area}
        value={text}
        readOnly={isReadOnly}
        spellCheck={false}
        wrap="off"
        aria-label={w.files.text}
        onChange={(event) => onChange(event.currentTarget.value)}
        onScroll={(event) => {
          if (numbers.current) numbers.current.scrollTop = event.currentTarget.scrollTop;
        }}
      />
    </div>
  );
}

/** How a file can be looked at. */
function partsOf(name: string) {
  if (name.endsWith('.csv')) return ['table', 'text', 'difference'] as const;
  return /^(devices|bindings)\//.test(name) ? (['text', 'values', 'difference'] as const) : (['text', 'difference'] as const);
}

function OneFile({ name, jump, onSaved }: { name: string; jump: { line: number; time: number } | null; onSaved: () => void }) {
  const told = useQuery({ queryKey: ['file', name], queryFn: () => get<SiteText>('files/text', { name }), gcTime: 0, staleTime: Infinity });
  const [text, setText] = useState<string | null>(null);
  const [part, setPart] = useState<'text' | 'table' | 'values' | 'difference'>(name.endsWith('.csv') ? 'table' : 'text');
  const { state, error, setError, begin, type: keep, forget } = useDraft(name, onSaved);
  const kept = useRef('');
  useEffect(() => {
    if (!told.data) return;
    begin(told.data.version);
    setText(told.data.draft ?? told.data.saved);
  }, [told.data, begin]);

  if (told.error) return <Refused error={told.error} />;
  if (text === null || !told.data) return <Empty title={w.loading} />;
  const isEdited = text !== told.data.saved;
  if (state === 'saved') kept.current = text;
  const type = (now: string) => {
    setText(now);
    keep(now);
  };
  return (
    <div className="card">
      <div className="bar" style={{ marginBottom: 10 }}>
        <h2 style={{ margin: 0 }}>{name}</h2>
        <span role="status">
          <Mark level={error !== null ? 'bad' : isEdited ? 'doubtful' : 'plain'}>{error !== null ? w.files.notKept : state !== 'saved' ? w.files.keeping : isEdited ? w.files.draft : w.files.asOnDisk}</Mark>
        </span>
        <SegmentedControl size="xs" aria-label={w.files.shown} value={part} onChange={(value) => setPart(value as typeof part)} data={partsOf(name).map((value) => ({ value, label: w.files[value] }))} />
        {isEdited && (
          <Button
            onClick={async () => {
              forget();
              await post('drafts/drop', { name }).catch(setError);
              await told.refetch();
              onSaved();
            }}
          >
            {w.files.drop}
          </Button>
        )}
        {error !== null && <Button onClick={() => told.refetch()}>{w.files.lookAgain}</Button>}
      </div>
      {error !== null && <Refused error={error} />}
      {told.data.isInConflict && <Refused error={new Error(w.files.conflict)} />}
      {part === 'text' || part === 'values' ? (
        <>
          <Editor text={text} at={jump} onChange={type} isShort={part === 'values'} />
          {part === 'values' && <PreviewOf name={name} round={kept.current} />}
        </>
      ) : part === 'table' ? (
        <Grid text={text} label={name} onChange={type} />
      ) : (
        <Difference saved={told.data.saved} draft={text} />
      )}
    </div>
  );
}

function Versions({ onTaken }: { onTaken: () => void }) {
  const told = useQuery({ queryKey: ['versions'], queryFn: () => get<{ isVersioned: boolean; versions: SiteVersion[] }>('versions') });
  const [error, setError] = useState<unknown>(null);
  const columns = useMemo<Column<SiteVersion>[]>(
    () => [
      { name: w.files.when, of: (version) => version.when, width: 170, show: (version) => <span style={{ whiteSpace: 'nowrap' }}>{version.when.slice(0, 16).replace('T', ' ')}</span> },
      { name: w.files.who, of: (version) => version.who },
      { name: w.files.why, of: (version) => version.why },
      { name: w.files.title, of: (version) => version.files.join(', ') },
      {
        name: w.files.takeBack,
        of: () => '',
        show: (version) => (
          <Button size="compact-xs" onClick={() => post('versions/take', { version: version.id }).then(onTaken, setError)}>
            {w.files.takeBack}
          </Button>
        ),
      },
    ],
    [onTaken],
  );
  if (!told.data?.isVersioned) return <p className="soft">{w.files.notVersioned}</p>;
  return (
    <section>
      <h2>{w.files.versions}</h2>
      {error !== null && <Refused error={error} />}
      <Table label={w.files.versions} rows={told.data.versions} columns={columns} keyOf={(version) => version.id} exportAs="versions" empty={<Empty title={w.files.noVersions} />} />
    </section>
  );
}

export default function FilesPage() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: ['files'], queryFn: () => get<{ files: SiteFile[]; isVersioned: boolean }>('files') });
  const [chosen, setChosen] = useState(() => new URLSearchParams(window.location.search).get('name') ?? '');
  const [round, setRound] = useState(0);
  const [jump, setJump] = useState<{ file: string; line: number; time: number } | null>(null);
  const [findings, setFindings] = useState<FileFinding[] | null>(null);
  const [why, setWhy] = useState('');
  const [fresh, setFresh] = useState('');
  const [outcome, setOutcome] = useState<(Changes & { files?: string[] }) | null>(null);
  const [error, setError] = useState<unknown>(null);
  const [isBusy, setBusy] = useState(false);
  const files = told.data?.files ?? [];
  const edited = files.filter((file) => file.isEdited);
  const name = chosen || (files.find((file) => file.name.startsWith('model/')) ?? files[0])?.name || '';
  const refetch = told.refetch;
  const looked = useCallback(() => void refetch(), [refetch]);
  const anew = useCallback(() => {
    setRound((before) => before + 1);
    void queries.invalidateQueries({ queryKey: ['files'] });
    void queries.invalidateQueries({ queryKey: ['versions'] });
    void queries.invalidateQueries({ queryKey: ['changes'] });
  }, [queries]);
  const doing = async (work: () => Promise<void>) => {
    setBusy(true);
    setError(null);
    setOutcome(null);
    await work().catch(setError);
    setBusy(false);
  };
  const check = () => doing(async () => setFindings((await post<{ findings: FileFinding[] }>('drafts/check')).findings));
  const apply = () =>
    doing(async () => {
      const applied = await post<Omit<Changes, 'findings'> & { files?: string[]; findings?: FileFinding[] }>('drafts/apply', { why });
      const { findings: found, ...rest } = applied;
      setFindings(found ?? null);
      if (rest.files) {
        setOutcome(rest);
        setWhy('');
        anew();
      }
    });
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.files.title}</h1>
        <span className="soft">{w.files.hint}</span>
        <span className="does">
          <Button onClick={check} loading={isBusy}>
            {w.files.check}
          </Button>
          {edited.length > 0 && (
            <>
              <TextInput aria-label={w.files.whyHint} placeholder={w.files.whyHint} value={why} onChange={(event) => setWhy(event.currentTarget.value)} w={220} />
              <Button variant="filled" onClick={apply} loading={isBusy}>
                {w.files.apply(edited.length)}
              </Button>
              <Button onClick={() => doing(async () => void (await post('drafts/drop').then(anew)))}>{w.files.dropAll}</Button>
            </>
          )}
        </span>
      </div>
      {told.error && <Refused error={told.error} />}
      {error !== null && <Refused error={error} />}
      {outcome && (
        <div role="status">
          <Mark level="good">{w.changes.applied(outcome.added ?? 0, outcome.changed ?? 0, outcome.removed ?? 0)}</Mark> <span className="soft">{outcome.files?.join(', ')}</span>
        </div>
      )}
      {findings && findings.length === 0 && (
        <div role="status">
          <Mark level="good">{w.files.sound}</Mark>
        </div>
      )}
      {findings && findings.length > 0 && (
        <section className="refusal" aria-label={w.files.findings}>
          <ul style={{ margin: 0, paddingLeft: 18 }}>
            {findings.map((finding, at) => (
              <li key={at}>
                <button
                  className="plain-link"
                  onClick={() => {
                    setChosen(finding.file);
                    setJump({ file: finding.file, line: finding.line, time: Date.now() });
                  }}
                >
                  {finding.file}:{finding.line}
                </button>{' '}
                <strong>{finding.isError ? w.files.error : w.files.warning}</strong> {finding.message}
                {finding.hint && <span className="soft"> {finding.hint}</span>}
              </li>
            ))}
          </ul>
        </section>
      )}
      <div className="files">
        <nav className="card" aria-label={w.files.title}>
          {files.map((file) => (
            <button key={file.name} className="file" aria-current={file.name === name ? 'true' : undefined} onClick={() => setChosen(file.name)}>
              <span>{file.name}</span>
              {file.isEdited && <Mark level={file.isInConflict ? 'bad' : 'doubtful'}>{file.isInConflict ? w.files.inConflict : file.isNew ? w.files.isNew : w.files.edited}</Mark>}
            </button>
          ))}
          <form
            className="bar"
            style={{ marginTop: 10 }}
            onSubmit={(event) => {
              event.preventDefault();
              if (!fresh) return;
              void doing(async () => {
                await post('drafts', { name: fresh, text: '', version: '' });
                setChosen(fresh);
                setFresh('');
                anew();
              });
            }}
          >
            <TextInput aria-label={w.files.fresh} placeholder="model/pond.yaml" value={fresh} onChange={(event) => setFresh(event.currentTarget.value)} style={{ flex: 1 }} />
            <Button type="submit" disabled={!fresh}>
              {w.files.fresh}
            </Button>
          </form>
        </nav>
        {name && <OneFile key={`${name} ${round}`} name={name} jump={jump && jump.file === name ? jump : null} onSaved={looked} />}
      </div>
      <Versions onTaken={anew} />
    </div>
  );
}
