import { useCallback, useEffect, useRef, useState } from 'react';
import { Button, Select, TagsInput, TextInput } from '@mantine/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation } from 'wouter';
import { get, post } from '../api';
import type { Me, NodePage, OperatorPage, Sheet, SiteText, Widget, WidgetKind } from '../types';
import { mayMake, roles } from '../roles';
import { w } from '../words';
import { useDraft } from '../parts/draft';
import { useEdited } from '../parts/edited';
import { keepPage, keptPage } from '../parts/new_page';
import { NodePicker } from '../parts/seek';
import { Empty, Mark, Refused } from '../parts/status';
import { fitting, plainWidget, widgetFor, WidgetView } from '../parts/widgets';

/** Where the chosen widget is changed: by buttons, so that it goes by keyboard and by touch. */
function Tools({ widget, onChange, onMove, onRemove }: { widget: Widget; onChange: (widget: Widget) => void; onMove: (by: number) => void; onRemove: () => void }) {
  const node = useQuery({ queryKey: ['node', widget.node], queryFn: () => get<NodePage>('node', { node: widget.node }), enabled: !!widget.node });
  const kinds = widget.node && node.data ? fitting(node.data) : [widget.kind];
  const size = (columns: number, rows: number) => onChange({ ...widget, columns: Math.max(1, Math.min(12, widget.columns + columns)), rows: Math.max(1, Math.min(12, widget.rows + rows)) });
  return (
    <div className="card bar" role="toolbar" aria-label={widget.title}>
      <TextInput aria-label={w.watch.name} value={widget.title ?? ''} onChange={(event) => onChange({ ...widget, title: event.currentTarget.value })} w={180} />
      {kinds.length > 1 && <Select aria-label={w.pages.kind} data={kinds} value={widget.kind} onChange={(kind) => onChange({ ...widget, kind: kind as WidgetKind })} w={120} />}
      <Button onClick={() => onMove(-1)}>{w.pages.earlier}</Button>
      <Button onClick={() => onMove(1)}>{w.pages.later}</Button>
      <Button onClick={() => size(-1, 0)}>{w.pages.narrower}</Button>
      <Button onClick={() => size(1, 0)}>{w.pages.wider}</Button>
      <Button onClick={() => size(0, -1)}>{w.pages.lower}</Button>
      <Button onClick={() => size(0, 1)}>{w.pages.taller}</Button>
      <Button color="red" onClick={onRemove}>
        {w.remove}
      </Button>
    </div>
  );
}

function Board({ sheet, me, isNew = false, onEnd = () => {} }: { sheet: Sheet<OperatorPage>; me: Me; isNew?: boolean; onEnd?: () => void }) {
  const queries = useQueryClient();
  const [, go] = useLocation();
  const [isChanging, setChanging] = useState(isNew);
  const [draft, setDraft] = useState(sheet);
  const [chosen, setChosen] = useState<string | null>(null);
  const [refusal, setRefusal] = useState<unknown>(null);
  const [isInConflict, setInConflict] = useState(false);
  const mayChange = mayMake(me);
  const file = fileOf(sheet.name);
  const looked = useCallback(() => void queries.invalidateQueries({ queryKey: ['files'] }), [queries]);
  const { state, error, setError, begin, type, forget } = useDraft(file, looked);
  // Under a name alone, and of a page that has one.
  const isKept = !me.isAnonymous && !isNew;
  const isEdited = useEdited(!me.isAnonymous && mayChange).some((one) => one.name === file);
  useEffect(() => {
    if (!isChanging) setDraft(sheet);
  }, [sheet, isChanging]);
  const widgets = draft.content.widgets;
  const change = (by: (now: OperatorPage) => OperatorPage) => setDraft((now) => ({ ...now, content: by(now.content) }));
  const set = (next: Widget[]) => change((now) => ({ ...now, widgets: next }));
  const opened = useRef(sheet.content);
  useEffect(() => {
    if (isChanging && isKept && draft.content !== opened.current) type(JSON.stringify(draft.content, null, 2) + '\n');
    opened.current = draft.content;
  }, [draft.content, isChanging, isKept, type]);
  useEffect(() => {
    if (isNew && isChanging && draft !== sheet) keepPage(draft);
  }, [isNew, isChanging, draft, sheet]);
  const isUnsaved = isChanging && (isNew || JSON.stringify(draft) !== JSON.stringify(sheet));
  useEffect(() => {
    if (!isUnsaved || (isKept && state === 'saved' && error === null)) return;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    addEventListener('beforeunload', ask);
    return () => removeEventListener('beforeunload', ask);
  }, [isUnsaved, isKept, state, error]);
  const attempt = async (work: () => Promise<void>) => {
    setRefusal(null);
    setError(null);
    await work().catch(setRefusal);
  };
  const beginChange = () =>
    attempt(async () => {
      if (isKept) {
        const told = await get<SiteText>('files/text', { name: file });
        begin(told.version);
        setInConflict(told.isInConflict);
        if (told.draft !== null) setDraft({ ...sheet, content: (opened.current = JSON.parse(told.draft) as OperatorPage) });
      }
      setChanging(true);
    });
  const endNew = () => {
    if (!isNew) return;
    keepPage(null);
    onEnd();
  };
  const save = () =>
    attempt(async () => {
      forget();
      const isRenamed = isNew || draft.name !== sheet.name;
      await post('sheets', { kind: 'pages', name: draft.name, content: { ...draft.content, title: draft.name }, version: isRenamed ? '' : sheet.version });
      if (isRenamed && !isNew) await post('sheets/delete', { kind: 'pages', name: sheet.name });
      await queries.invalidateQueries({ queryKey: ['pages'] });
      looked();
      setChanging(false);
      go(`/pages/${encodeURIComponent(draft.name)}`);
      endNew();
    });
  const cancel = () =>
    attempt(async () => {
      forget();
      if (isKept) await post('drafts/drop', { name: file }).catch(() => {}); // there may be none
      looked();
      setInConflict(false);
      setChanging(false);
      endNew();
    });
  const at = widgets.findIndex((widget) => widget.id === chosen);
  const put = (from: number, to: number) => {
    if (from < 0 || to < 0 || to >= widgets.length || from === to) return;
    const next = [...widgets];
    next.splice(to, 0, ...next.splice(from, 1));
    set(next);
  };
  const isOperable = sheet.isOperable !== false;
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        {isChanging ? <TextInput aria-label={w.pages.name} placeholder={w.pages.name} value={draft.name} onChange={(event) => setDraft({ ...draft, name: event.currentTarget.value })} w={260} /> : <h1>{sheet.name}</h1>}
        {(isUnsaved || (!isChanging && isEdited)) && <Mark level="doubtful">{isChanging && !isKept ? w.pages.unsaved : w.pages.draft}</Mark>}
        {!isChanging && !isOperable && <Mark level="plain">{w.pages.onlyShown}</Mark>}
        <span className="does">
          {isChanging ? (
            <>
              <Button variant="filled" onClick={save} disabled={!draft.name || isInConflict}>
                {w.pages.save}
              </Button>
              <Button onClick={cancel}>{isUnsaved && draft !== fresh && (isKept || isNew) ? w.files.drop : w.cancel}</Button>
            </>
          ) : (
            <>
              <Button onClick={() => document.documentElement.requestFullscreen?.()}>{w.pages.full}</Button>
              {mayChange && <Button onClick={beginChange}>{w.pages.edit}</Button>}
            </>
          )}
        </span>
      </div>
      {(refusal ?? error) !== null && <Refused error={refusal ?? error} />}
      {isInConflict && <Refused error={new Error(w.files.conflict)} />}
      {isChanging && (
        <div className="bar" style={{ alignItems: 'flex-end' }}>
          <NodePicker label={w.pages.add} onPick={(node) => void get<NodePage>('node', { node: node.path }).then((page) => change((now) => ({ ...now, widgets: [...now.widgets, widgetFor(page)] })), setRefusal)} />
          <Button onClick={() => set([...widgets, plainWidget('heading', w.pages.heading)])}>{w.pages.heading}</Button>
          <Button onClick={() => set([...widgets, plainWidget('alarms', w.pages.alarms)])}>{w.pages.alarms}</Button>
          {(['shownTo', 'operatedBy'] as const).map((key) => (
            <TagsInput
              key={key}
              label={w.pages[key]}
              placeholder={draft.content[key]?.length ? undefined : w.pages.everybody}
              data={roles}
              value={draft.content[key] ?? []}
              onChange={(given) => change((now) => ({ ...now, [key]: given.length ? given : undefined }))}
              w={220}
            />
          ))}
        </div>
      )}
      {isChanging && at >= 0 && (
        <Tools
          widget={widgets[at]!}
          onChange={(widget) => set(widgets.map((one) => (one.id === widget.id ? widget : one)))}
          onMove={(by) => put(at, at + by)}
          onRemove={() => set(widgets.filter((one) => one.id !== chosen))}
        />
      )}
      {widgets.length === 0 && <Empty title={w.pages.title}>{w.pages.empty}</Empty>}
      <div className="board">
        {widgets.map((widget) => (
          <div
            key={widget.id}
            className={widget.kind === 'heading' ? '' : 'widget'}
            data-small={['lamp', 'number', 'switch', 'gauge'].includes(widget.kind) || undefined}
            data-chosen={isChanging && widget.id === chosen ? '' : undefined}
            style={{ gridColumn: `span ${widget.columns}`, gridRow: `span ${widget.rows}`, cursor: isChanging ? 'pointer' : undefined, overflow: widget.kind === 'alarms' ? 'auto' : undefined }}
            draggable={isChanging}
            onDragStart={(event) => {
              event.dataTransfer.setData(kDragged, widget.id);
              event.dataTransfer.effectAllowed = 'move';
            }}
            onDragOver={(event) => isChanging && event.dataTransfer.types.includes(kDragged) && event.preventDefault()}
            onDrop={(event) => {
              if (!isChanging) return;
              event.preventDefault();
              const from = widgets.findIndex((one) => one.id === event.dataTransfer.getData(kDragged));
              put(from, widgets.indexOf(widget));
              setChosen(widgets[from]?.id ?? null);
            }}
            onClick={isChanging ? () => setChosen(widget.id) : undefined}
            onKeyDown={isChanging ? (event) => event.key === 'Enter' && event.currentTarget === event.target && setChosen(widget.id) : undefined}
            tabIndex={isChanging ? 0 : undefined}
            role={isChanging ? 'button' : 'group'}
            aria-label={widget.title}
          >
            <WidgetView widget={widget} isIdle={isChanging || !isOperable} />
          </div>
        ))}
      </div>
    </div>
  );
}

const fileOf = (name: string) => `console/pages/${name}.json`;
const kDragged = 'application/x-zunth-widget';

const fresh: Sheet<OperatorPage> = { name: '', content: { title: '', widgets: [] } };

export default function Pages({ me, name }: { me: Me; name?: string }) {
  const told = useQuery({ queryKey: ['pages'], queryFn: () => get<{ sheets: Sheet<OperatorPage>[] }>('sheets', { kind: 'pages' }) });
  const [made, setMade] = useState<Sheet<OperatorPage> | null>(null);
  if (told.error) return <Refused error={told.error} />;
  if (!told.data) return <Empty title={w.loading} />;
  if (made && name === undefined) return <Board sheet={made} me={me} isNew onEnd={() => setMade(null)} />;
  if (name !== undefined) {
    const sheet = told.data.sheets.find((one) => one.name === name);
    return sheet ? <Board sheet={sheet} me={me} /> : <Empty title={w.notFound.title}>{w.notFound.text}</Empty>;
  }
  const make = (
    <Button variant="filled" onClick={() => setMade(keptPage() ?? fresh)}>
      {keptPage() ? w.pages.goOn : w.pages.make}
    </Button>
  );
  return (
    <div className="stack">
      <div className="title" style={{ marginBottom: 0 }}>
        <h1>{w.pages.title}</h1>
        <span className="does">{make}</span>
      </div>
      {told.data.sheets.length === 0 ? (
        <Empty title={w.pages.emptyTitle}>
          <p>{w.pages.empty}</p>
          {make}
        </Empty>
      ) : (
        <div className="cards">
          {told.data.sheets.map((sheet) => (
            <Link key={sheet.name} href={`/pages/${encodeURIComponent(sheet.name)}`} className="card" style={{ textDecoration: 'none' }}>
              <h2>{sheet.name}</h2>
              <span className="soft">{sheet.content.widgets.map((widget) => widget.title).filter(Boolean).slice(0, 5).join(', ')}</span>
            </Link>
          ))}
        </div>
      )}
    </div>
  );
}
